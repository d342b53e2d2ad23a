package reading

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/core/name"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
)

// Account is one OS user of a machine, as passwd(5) has it.
type Account struct {
	Name, Home, Shell string
	UID, GID          uint32
}

// MostAccounts is how many users of a machine are looked at.
const MostAccounts = 10_000

// noShells are programs that end a session at once. sshd authenticates their users all the same, and
// forwards ports for them.
var noShells = []string{"nologin", "false", "sync", "halt", "shutdown"}

// HasShell reports whether a login of the user is a session in which commands can be given.
func (a Account) HasShell() bool { return !slices.Contains(noShells, path.Base(a.Shell)) }

// Accounts reads the users of passwd(5), each once, the first line of a name as getpwnam(3) has it. Lines that
// are no user's are left out; skipped counts them, and those beyond MostAccounts.
func Accounts(passwd []byte) (out []Account, skipped int) {
	seen := map[string]bool{}
	for line := range strings.Lines(string(passwd)) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "+") {
			continue
		}
		a, ok := accountIn(line)
		switch {
		case !ok || len(out) == MostAccounts && !seen[a.Name]:
			skipped++
		case !seen[a.Name]:
			seen[a.Name] = true
			out = append(out, a)
		}
	}
	return out, skipped
}

func accountIn(line string) (a Account, ok bool) {
	fields := strings.Split(line, ":")
	if len(fields) != 7 {
		return a, false
	}
	uid, bad := strconv.ParseUint(fields[2], 10, 32)
	gid, worse := strconv.ParseUint(fields[3], 10, 32)
	if bad != nil || worse != nil || name.CheckUser(fields[0]) != nil || text.Plain(fields[5]) != fields[5] ||
		text.Plain(fields[6]) != fields[6] || len(fields[5]) > text.MaxLine || len(fields[6]) > text.MaxLine {
		return a, false
	}
	a = Account{Name: fields[0], UID: uint32(uid), GID: uint32(gid), Home: fields[5], Shell: fields[6]}
	if a.Shell == "" {
		a.Shell = "/bin/sh"
	}
	if a.Home == "" {
		a.Home = "/"
	}
	return a, true
}

// GroupsOf returns the names of each user's groups by group(5): the primary one and those that list them.
func GroupsOf(group []byte, accounts []Account) map[string][]string {
	byNumber := map[uint32]string{}
	out := map[string][]string{}
	for line := range strings.Lines(string(group)) {
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) != 4 {
			continue
		}
		gid, err := strconv.ParseUint(fields[2], 10, 32)
		if err != nil {
			continue
		}
		if _, twice := byNumber[uint32(gid)]; !twice {
			byNumber[uint32(gid)] = fields[0]
		}
		for member := range strings.SplitSeq(fields[3], ",") {
			if member != "" && !slices.Contains(out[member], fields[0]) {
				out[member] = append(out[member], fields[0])
			}
		}
	}
	for _, a := range accounts {
		if g := byNumber[a.GID]; g != "" && !slices.Contains(out[a.Name], g) {
			out[a.Name] = append([]string{g}, out[a.Name]...)
		}
	}
	return out
}

// ownSources are services of nsswitch.conf(5) whose users getent(1) lists.
var ownSources = []string{"files", "compat", "systemd", "altfiles", "db"}

// ForeignSources returns the services of nsswitch.conf(5) that passwd, or group, has and that may know users whom
// they do not list, such as those of a directory.
func ForeignSources(nsswitch []byte, database string) (out []string) {
	for line := range strings.Lines(string(nsswitch)) {
		line, _, _ = strings.Cut(line, "#")
		name, rest, ok := strings.Cut(strings.TrimSpace(line), ":")
		if !ok || strings.TrimSpace(name) != database {
			continue
		}
		for service := range strings.FieldsSeq(rest) {
			if !strings.HasPrefix(service, "[") && !strings.HasSuffix(service, "]") && !slices.Contains(ownSources, service) {
				out = append(out, text.Line(service, text.MaxLine))
			}
		}
	}
	return out
}

// Password is what shadow(5) tells of a user's password. The password itself is not kept.
type Password string

// The passwords: unknown where shadow was not read, none where no password fits, locked where the account
// is locked by a leading "!", empty where anybody knows it, and set.
const (
	PasswordUnknown Password = ""
	PasswordNone    Password = "none"
	PasswordLocked  Password = "locked"
	PasswordEmpty   Password = "empty"
	PasswordSet     Password = "set"
)

// PasswordsIn reads shadow(5).
func PasswordsIn(shadow []byte) map[string]Password {
	out := map[string]Password{}
	for line := range strings.Lines(string(shadow)) {
		user, rest, ok := strings.Cut(line, ":")
		field, _, more := strings.Cut(rest, ":")
		if !ok || !more {
			continue
		}
		if _, twice := out[user]; !twice {
			out[user] = passwordOf(field)
		}
	}
	return out
}

// PasswordsOf returns what is known of the users' passwords. Where there is no shadow(5) at all, none fits; read is
// whether it was read, or is known not to be there.
func PasswordsOf(accounts []Account, shadow []byte, read bool) map[string]Password {
	out := PasswordsIn(shadow)
	for _, a := range accounts {
		if read && len(shadow) == 0 {
			out[a.Name] = PasswordNone
		}
	}
	return out
}

func passwordOf(field string) Password {
	switch {
	case field == "":
		return PasswordEmpty
	case strings.HasPrefix(field, "!"):
		return PasswordLocked
	case !strings.HasPrefix(field, "$") && len(field) != 13: // crypt(5): traditional DES has 13 characters
		return PasswordNone
	}
	return PasswordSet
}

// ForAccount narrows what the server lets in to what it lets into the account: no password where none fits,
// and nobody where the account is locked and PAM is not asked (sshd(8), LOGIN PROCESS).
func (s Server) ForAccount(a Account, p Password, pam bool) Server {
	if p == PasswordLocked && !pam {
		s.Refused = "the locked account"
	}
	if p == PasswordUnknown && !pam && s.Doubt == "" {
		s.Doubt = "whether the account is locked, which shadow(5) tells to root alone"
	}
	if p == PasswordNone || p == PasswordLocked {
		s.Methods = slices.DeleteFunc(slices.Clone(s.Methods), func(m sshdconfig.Method) bool {
			// PAM may ask for something else than the password.
			return m == sshdconfig.Password || m == sshdconfig.KeyboardInteractive && !pam
		})
	}
	return s
}

// LetsIn reports whether somebody may get into the account beside the keys of its files.
func (s Server) LetsIn(a Account) bool {
	if s.Refused != "" || !a.HasShell() {
		return false
	}
	return len(s.Methods) > 0 ||
		!s.KeysOff && (s.KeysCommand != "" || len(s.Authorities) > 0 || s.AuthoritiesUnread != "")
}

// UnreadAccount is a user of whom it is not known who gets in, and why.
type UnreadAccount struct {
	User string `json:"user"`
	Why  string `json:"why"`
}

// Rights are those with which a machine was read.
type Rights string

// The rights: root's, root's by sudo for reading alone, or the user's own.
const (
	AsRoot Rights = "root"
	BySudo Rights = "sudo"
	AsUser Rights = "user"
)

// Machine is what was read of all users of a machine at a time.
type Machine struct {
	Rights Rights `json:"rights"`
	// Accounts is how many users there are, NoWay how many of them nobody gets in to.
	Accounts int `json:"accounts"`
	NoWay    int `json:"no_way"`
	// Unread are users of whom it is not known; UnreadMore how many more there are.
	Unread     []UnreadAccount `json:"unread,omitempty"`
	UnreadMore int             `json:"unread_more,omitempty"`
	// Gone are files of keys for users that do not exist.
	Gone []string `json:"gone,omitempty"`
	// Unlisted is whether there may be users whom nothing lists, such as those of a directory.
	Unlisted bool `json:"unlisted,omitempty"`
	// Skipped is how many lines of passwd(5) are no user's, or beyond what is looked at.
	Skipped int `json:"skipped,omitempty"`
	// Remedy says what makes the unread readable; "" for nothing.
	Remedy string `json:"remedy,omitempty"`
	// Changes are the users whose files may be changed by sudo, where it was read by that.
	Changes []string `json:"-"`
}

// mostUnread is how many unread users, and how many files of users that do not exist, are named.
const mostUnread = 50

// AddUnread adds a user of whom it is not known who gets in.
func (m *Machine) AddUnread(user, why string) {
	if len(m.Unread) == mostUnread {
		m.UnreadMore++
		return
	}
	m.Unread = append(m.Unread, UnreadAccount{text.Line(user, text.MaxLine), text.Line(why, text.MaxLine)})
}

// AddSources tells of the sources of nsswitch.conf(5) that may know users whom they do not list.
func (m *Machine) AddSources(nsswitch []byte) {
	for _, service := range ForeignSources(nsswitch, "passwd") {
		m.Unlisted = true
		m.AddUnread("users of "+service, "nsswitch.conf(5) has a source that may know users whom it does not list")
	}
}

// AddGone adds a file of keys of a user that does not exist.
func (m *Machine) AddGone(file string) {
	if len(m.Gone) < mostUnread {
		m.Gone = append(m.Gone, text.Line(file, text.MaxLine))
	}
}

// UnreadCount is of how many users it is not known who gets in.
func (m Machine) UnreadCount() int { return len(m.Unread) + m.UnreadMore }

// Unknown is UnreadCount with the lines of passwd(5) that were not understood.
func (m Machine) Unknown() int { return m.UnreadCount() + m.Skipped }
