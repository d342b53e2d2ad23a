package sshio

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/sshio/sshdtest"
)

// hash is that of sshdtest.MachinePassword.
const hash = "$6$plumlatch$LGAJ75c95CjYE9ET30pgFgOLeYyf1A/vdUxI22IOVWQEmgb4.L7YdO1R5i1m3FPTjiC4jZglYqEWUqotrBhJs0"

// person is a user of a machine, with what is in the way of their key.
type person struct {
	name string
	sshdtest.User
	line  func(key, ca string) string // of authorized_keys; nil for none
	file  string                      // below the home folder; .ssh/authorized_keys unless given
	spoil func(home string) error
	// unread is whether root has to say that it is not known.
	unread bool
}

func persons() []person {
	plain := func(key, _ string) string { return key }
	with := func(options string) func(string, string) string {
		return func(key, _ string) string { return options + " " + key }
	}
	nobody := func(string, string) string { return "" }
	return []person{
		{name: "plain", line: plain},
		{name: "nologin", line: plain, User: sshdtest.User{Shell: "/usr/sbin/nologin"}},
		{name: "noshell", line: plain, User: sshdtest.User{Shell: "/nonexistent/shell"}},
		{name: "locked", line: plain, User: sshdtest.User{Password: "!*"}},
		{name: "lockedhash", line: plain, User: sshdtest.User{Password: "!" + hash}},
		{name: "denied", line: plain},
		{name: "groupless", line: plain},
		{name: "closed", line: plain, User: sshdtest.User{Groups: []string{"closed"}}},
		{name: "second", line: plain, file: ".ssh/authorized_keys2"},
		{name: "expired", line: with(`expiry-time="20200101Z"`)},
		{name: "later", line: with(`expiry-time="20991231Z"`)},
		{name: "from", line: with(`from="192.0.2.1"`)},
		{name: "here", line: with(`from="127.0.0.1"`)},
		{name: "command", line: with(`command="/bin/true"`)},
		{name: "restrict", line: with(`restrict,pty`)},
		{name: "authority", line: func(_, ca string) string { return "cert-authority " + ca }},
		{
			name: "principals",
			line: func(_, ca string) string { return `cert-authority,principals="ops" ` + ca },
		},
		{name: "password", line: nobody, User: sshdtest.User{Password: hash}},
		{name: "nothing", line: nobody},
		{name: "garbage", line: func(string, string) string { return "not a key at all" }},
		{name: "commented", line: func(key, _ string) string { return "# " + key }},
		{
			name: "linkedhome", line: plain,
			spoil: func(home string) error {
				real := home + ".real"
				if err := os.Rename(home, real); err != nil {
					return err
				}
				return os.Symlink(filepath.Base(real), home)
			},
		},
		{
			name: "linkedfile", line: plain, unread: true,
			spoil: func(home string) error {
				file := filepath.Join(home, ".ssh/authorized_keys")
				if err := os.Rename(file, file+".real"); err != nil {
					return err
				}
				return os.Symlink("authorized_keys.real", file)
			},
		},
		{
			name: "writable", line: plain, unread: true,
			spoil: func(home string) error { return os.Chmod(filepath.Join(home, ".ssh"), 0o777) },
		},
		{
			name: "foreign", line: plain, unread: true,
			spoil: func(home string) error { return os.Chown(filepath.Join(home, ".ssh/authorized_keys"), 1, 1) },
		},
		{
			name: "long", unread: true,
			line: func(key, _ string) string { return strings.Repeat("# nothing\n", 50_000) + key },
		},
		{name: "homeless", line: plain, spoil: os.RemoveAll},
		{name: "private", line: plain, spoil: func(home string) error { return os.Chmod(home, 0o700) }},
		{name: "elsewhere", line: nobody},
	}
}

// TestNothingFalseIsSaidOfAnyUserOfARealServer has a key, two certificates and a password tried for each user of
// a machine, and compares with what is read of them as root and as another user.
func TestNothingFalseIsSaidOfAnyUserOfARealServer(t *testing.T) {
	key, reader, ca := newIdentity(t), newSigner(t), newSigner(t)
	all := persons()
	users, files := []sshdtest.User{}, map[string]string{
		"/etc/ssh/keys/root":                line(reader, "reader"),
		"/etc/ssh/keys/elsewhere":           line(key, "key"),
		"/etc/ssh/keys/ghost":               line(key, "key"),
		"/home/warden/.ssh/authorized_keys": line(reader, "reader"),
	}
	for n := range all {
		p := &all[n]
		p.User.Name, p.User.Home, p.User.UID = p.name, "/home/"+p.name, 4001+n
		if p.User.Shell == "" {
			p.User.Shell = "/bin/sh"
		}
		if p.User.Groups == nil && p.name != "groupless" {
			p.User.Groups = []string{p.name}
		}
		if p.User.Password == "" {
			p.User.Password = "*"
		}
		users = append(users, p.User)
		if p.file == "" {
			p.file = ".ssh/authorized_keys"
		}
		files["/home/"+p.name+"/"+p.file] = p.line(
			strings.TrimSpace(line(key, "key")),
			strings.TrimSpace(line(ca, "ca")),
		) + "\n"
	}
	m := sshdtest.StartMachineOf(
		t, "AuthorizedKeysFile .ssh/authorized_keys .ssh/authorized_keys2 /etc/ssh/keys/%u\nPermitRootLogin yes\n"+
			"DenyUsers denied\nDenyGroups closed\nKbdInteractiveAuthentication no\n", files, users,
	)
	for _, p := range all {
		if p.spoil != nil {
			if err := p.spoil(m.Home(p.name)); err != nil {
				t.Fatal(err)
			}
		}
	}
	target := Target{Address: "127.0.0.1", Port: m.Port, HostKeys: [][]byte{m.HostKey.Marshal()}}
	forOps := certified(t, ca, "ops")
	tries := map[credential]func(user string) *identity{
		ofHome:      func(string) *identity { return &key },
		certificate: func(user string) *identity { return new(certified(t, ca, user)) },
		certOps:     func(string) *identity { return &forOps },
		password:    func(string) *identity { return nil },
	}
	really := map[string]map[credential]bool{}
	for _, p := range all {
		really[p.name] = map[credential]bool{}
		for name, by := range tries {
			really[p.name][name] = letsIn(t, m.Port, p.name, by(p.name))
		}
	}
	for _, as := range []string{"root", sshdtest.MachineUser} {
		at := target
		at.User = as
		s, err := Login(t.Context(), at, reader)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		read, err := s.Machine(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if want := len(all) + 4; read.Accounts != want || as == "root" && (len(read.Gone) != 1 || read.UnreadMore > 0) {
			t.Errorf("as %s: %d users, want %d; of users that do not exist: %q", as, read.Accounts, want, read.Gone)
		}
		for _, p := range all {
			said, unread := saidOfUser(read, p.name, key.PublicKey(), ca)
			noteTruth(row{"user: " + p.name, "as " + as, really[p.name], said, unread})
			if as == "root" && (unread != "") != p.unread {
				t.Errorf("%s: unread is %q", p.name, unread)
			}
			for name := range tries {
				switch {
				case really[p.name][name] && said[name] == sshdconfig.No && unread == "":
					t.Errorf("as %s: the %s lets in as %s, and nothing is said of it", as, name, p.name)
				case !really[p.name][name] && said[name] == sshdconfig.Yes:
					t.Errorf("as %s: the %s does not let in as %s, and is said to", as, name, p.name)
				}
			}
		}
	}
}

// saidOfUser is which credentials let in as a user, by what was read; unread is why it is not known.
func saidOfUser(
	m Machine, user string, key ssh.PublicKey, ca ssh.Signer,
) (said map[credential]sshdconfig.Truth, unread string) {
	said = map[credential]sshdconfig.Truth{}
	for _, u := range m.Unread {
		if u.User == user {
			return said, u.Why
		}
	}
	if m.UnreadMore > 0 {
		return said, fmt.Sprintf("%d more are unread", m.UnreadMore)
	}
	for _, o := range m.Others {
		if o.Name != user || o.Server.Refused != "" {
			continue
		}
		for _, f := range o.Files {
			for _, l := range authorizedkeys.Parse(f.Content).Find(key.Marshal()) {
				switch limits := l.Limits(time.Now()); {
				case !l.Opens(time.Now()) && len(limits) == 1 && limits[0] == "expired":
				case len(limits) > 0 || o.Server.Doubt != "":
					said[ofHome] = sshdconfig.Maybe
				default:
					said[ofHome] = sshdconfig.Yes
				}
			}
			if len(authorizedkeys.Parse(f.Content).Find(ca.PublicKey().Marshal())) > 0 {
				said[certificate], said[certOps] = sshdconfig.Maybe, sshdconfig.Maybe
			}
		}
		if !(reading.Account{Shell: o.Shell}).HasShell() {
			continue
		}
		for _, method := range o.Server.Methods {
			if method != sshdconfig.Password {
				continue
			}
			if said[password] = sshdconfig.Yes; m.Rights == reading.AsUser {
				said[password] = sshdconfig.Maybe // whether one fits is in shadow(5)
			}
		}
	}
	return said, ""
}

// TestAMachineWithManyUsersIsReadWhole reads 5,000 users of a real server, each with a key.
func TestAMachineWithManyUsersIsReadWhole(t *testing.T) {
	const many = 5000
	reader := newSigner(t)
	shared := line(newSigner(t), "shared")
	users := make([]sshdtest.User, many)
	files := map[string]string{"/home/warden/.ssh/authorized_keys": "", "/etc/ssh/keys/root": line(reader, "reader")}
	for n := range users {
		name := fmt.Sprintf("u%04d", n)
		users[n] = sshdtest.User{
			Name: name, UID: 10_000 + n, Home: "/home/" + name, Shell: "/bin/sh", Password: "*", Groups: []string{name},
		}
		files["/home/"+name+"/.ssh/authorized_keys"] = shared
	}
	m := sshdtest.StartMachineOf(
		t, "AuthorizedKeysFile .ssh/authorized_keys /etc/ssh/keys/%u\nPermitRootLogin yes\nPasswordAuthentication no\n",
		files, users,
	)
	s, err := Login(t.Context(), Target{
		User: "root", Address: "127.0.0.1", Port: m.Port, HostKeys: [][]byte{m.HostKey.Marshal()},
	}, reader)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	read, err := s.Machine(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if len(read.Others) != many || read.Accounts != many+4 || read.UnreadCount() != 0 || len(read.Gone) != 0 {
		t.Errorf(
			"%d of %d users have keys, %d are unread (%v)", len(read.Others), read.Accounts, read.UnreadCount(), read.Unread,
		)
	}
}

// TestSshdItselfIsAskedWhereRootIs has the server's files changed after what was read of them, so that sshd says
// another thing than they did.
func TestSshdItselfIsAskedWhereRootIs(t *testing.T) {
	reader := newSigner(t)
	m := sshdtest.StartMachine(
		t, "AuthorizedKeysFile /etc/ssh/keys/%u\nPermitRootLogin yes\nPasswordAuthentication no\n", map[string]string{
			"/etc/ssh/keys/root": line(reader, "reader"), "/etc/ssh/keys/warden": line(reader, "reader"),
		},
	)
	s, err := Login(t.Context(), Target{
		User: "root", Address: "127.0.0.1", Port: m.Port, HostKeys: [][]byte{m.HostKey.Marshal()},
	}, reader)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Server(); err != nil { // which reads the files, once for the session
		t.Fatal(err)
	}
	m.Put(t, "/etc/ssh/sshd_config", fmt.Sprintf(
		"ListenAddress 127.0.0.1\nPort %d\nHostKey /etc/ssh/host\nAuthorizedKeysFile /etc/ssh/keys/%%u\n"+
			"PermitRootLogin yes\n", m.Port,
	))
	read, err := s.Machine(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(read.Own.Unread, "passwordauthentication yes") {
		t.Errorf("root's: %+v", read.Own)
	}
	if len(read.Others) != 1 || !strings.Contains(read.Others[0].Server.Unread, "passwordauthentication yes") {
		t.Errorf("the others': %+v", read.Others)
	}
}
