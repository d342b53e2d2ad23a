package sshio

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
)

const (
	// maxMachineBytes is what is read of the key files of all other users of a machine together.
	maxMachineBytes = 1 << 20
	// maxPasswdBytes is the size of the lists of users, groups and passwords, each.
	maxPasswdBytes = 1 << 20
	// accountsAtOnce is how many users are looked at together.
	accountsAtOnce = 16
)

// AccountFiles is what was read of one user of a machine: the files that the server reads keys from, and
// what it lets in beside.
type AccountFiles struct {
	reading.Account
	Files  []RemoteFile
	Server reading.Server
}

// Machine is what was read of the users of a machine beside the session's own.
type Machine struct {
	reading.Machine
	// Others are those with keys in their files, or who may get in otherwise.
	Others []AccountFiles
	// Own is what the server lets in to the session's own user.
	Own reading.Server
}

// Machine reads all users of the machine, with root's rights where the session has them or may have them by
// sudo for reading alone (sftp-server -R), else with its own. What cannot be read is told, and is no error.
func (s *Session) Machine(ctx context.Context) (Machine, error) {
	own, err := s.Server()
	if err != nil {
		return Machine{}, err
	}
	c, err := s.sftp()
	if err != nil {
		return Machine{}, err
	}
	m := &machine{session: s, files: *c, left: maxMachineBytes, shells: map[string]bool{}}
	m.out.Own = own
	m.out.Rights = reading.AsUser
	if s.login() == "root" {
		m.out.Rights = reading.AsRoot
		if s.under != nil {
			if c, err = s.under.sftp(); err != nil {
				return Machine{}, err
			}
			m.files = *c
		}
	}
	config, err := s.config, s.configErr
	if m.out.Rights == reading.AsUser {
		if root, end := s.rootFiles(); root != nil {
			defer end()
			m.files, m.out.Rights = *root, reading.BySudo
			if err != nil { // which may be readable for root alone
				config, err = readConfig(machineFiles{m})
			}
		} else {
			m.out.Remedy = fmt.Sprintf(
				"let %s read all: add \"%s ALL=(root) NOPASSWD: %s -R\" to a file in /etc/sudoers.d",
				s.login(), s.login(), sftpServers[0],
			)
		}
	}
	return m.read(ctx, config, err)
}

// sftpServers are where systems have OpenSSH's SFTP server.
var sftpServers = []string{
	"/usr/lib/openssh/sftp-server", "/usr/libexec/openssh/sftp-server", "/usr/lib/ssh/sftp-server",
	"/usr/libexec/sftp-server",
}

// rootFiles starts an SFTP server that reads as root and writes nothing; nil where the user may not.
func (s *Session) rootFiles() (*files, func()) {
	for _, server := range s.servers() {
		// Asking for leave is not reported to the machine's admin, as trying without it is (sudoers(5), mail_no_user).
		line := fmt.Sprintf("sudo -n -l -- %[1]s -R >/dev/null && sudo -n -- %[1]s -R", server)
		if f, end, err := s.filesBy(line); err == nil {
			return f, end
		}
	}
	return nil, nil
}

// servers are where the machine may have its SFTP server.
func (s *Session) servers() []string {
	servers := slices.DeleteFunc(slices.Clone(sftpServers), func(server string) bool {
		c, err := s.sftp()
		if err == nil {
			_, err = c.Stat(server)
		}
		return err != nil
	})
	if len(servers) == 0 { // SFTP may see less of the machine than a shell does
		servers = sftpServers[:1]
	}
	return servers
}

// filesBy starts an SFTP server by a line of the login's shell.
func (s *Session) filesBy(line string) (*files, func(), error) {
	c, err := s.client.NewSession()
	if err != nil {
		return nil, nil, err
	}
	out, failed := c.StdoutPipe()
	in, worse := c.StdinPipe()
	said := bounded{most: maxOutput, full: func() {}}
	c.Stderr = &said
	if err := cmp.Or(failed, worse); err != nil {
		c.Close()
		return nil, nil, err
	}
	if err := c.Start(line); err != nil {
		c.Close()
		return nil, nil, err
	}
	client, err := sftp.NewClientPipe(out, in)
	if err != nil {
		c.Close()
		if why := text.Line(said.held.String(), text.MaxLine); why != "" {
			err = errors.New(why)
		}
		return nil, nil, err
	}
	return &files{client}, func() { client.Close(); c.Close() }, nil
}

// machine is a reading of a machine in the making.
type machine struct {
	session *Session
	files   files

	mu     sync.Mutex
	left   int // bytes
	shells map[string]bool
	out    Machine
}

func (m *machine) read(ctx context.Context, config *sshdconfig.Config, unread error) (Machine, error) {
	listed, err := m.lists(ctx)
	if err != nil {
		return Machine{}, fmt.Errorf("the users of the machine: %w", err)
	}
	accounts, skipped := reading.Accounts(listed.passwd)
	m.out.Accounts, m.out.Skipped = len(accounts), skipped
	passwords := map[string]reading.Password{}
	if m.out.Rights != reading.AsUser {
		shadow, err := machineFiles{m}.ReadFile("/etc/shadow")
		passwords = reading.PasswordsOf(accounts, shadow, err == nil || errors.Is(err, fs.ErrNotExist))
		clear(shadow)
	}
	if unread != nil || config == nil {
		why := "the SSH server's settings were not read: " + text.Line(fmt.Sprint(unread), text.MaxLine)
		for _, a := range accounts {
			if a.Name != m.session.user {
				m.out.AddUnread(a.Name, why)
			}
		}
		return m.out, nil
	}
	groups := m.sources(listed, accounts)
	group, _ := errgroup.WithContext(ctx)
	group.SetLimit(accountsAtOnce)
	for _, a := range accounts {
		if ctx.Err() != nil {
			break
		}
		settings, err := SettingsFor(config, a, groups, passwords[a.Name], m.authorities)
		if a.Name == m.session.user {
			if err == nil && m.out.Rights != reading.AsUser {
				m.out.Own = settings.Server
			}
			continue
		}
		if err != nil {
			m.unread(a.Name, err)
			continue
		}
		if !m.hasShell(a.Shell) {
			settings.Server.Refused = "a shell that cannot be run"
		}
		group.Go(func() error { m.account(a, settings); return nil })
	}
	group.Wait()
	if err := ctx.Err(); err != nil {
		return Machine{}, err
	}
	m.askServer(config, accounts, groups)
	m.orphans(config, accounts)
	m.changes()
	m.askPrograms(config, accounts, groups) // last, since a program may hang
	slices.SortFunc(m.out.Others, func(a, b AccountFiles) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(m.out.Unread, func(a, b reading.UnreadAccount) int { return strings.Compare(a.User, b.User) })
	return m.out, nil
}

// sources returns the groups of all users; nil where they are not known. Users whom a directory knows and does not
// list are told as unread.
func (m *machine) sources(l lists, accounts []reading.Account) map[string][]string {
	m.out.AddSources(l.nsswitch)
	foreign := len(reading.ForeignSources(l.nsswitch, "group")) + len(reading.ForeignSources(l.nsswitch, "initgroups"))
	if foreign > 0 || len(l.group) == 0 {
		return nil
	}
	return reading.GroupsOf(l.group, accounts)
}

// hasShell reports whether a user's shell can be run: sshd lets nobody in with one that cannot.
func (m *machine) hasShell(shell string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if runs, known := m.shells[shell]; known {
		return runs
	}
	info, err := m.files.Stat(shell)
	runs := err != nil && !errors.Is(err, fs.ErrNotExist) || err == nil && info.Mode().IsRegular() &&
		info.Mode().Perm()&0o111 != 0
	if len(m.shells) < reading.MostAccounts {
		m.shells[shell] = runs
	}
	return runs
}

// SettingsFor evaluates a configuration for a user of a machine. groups are those of all users, nil where they are
// not known; authorities
// reads the file of TrustedUserCAKeys.
func SettingsFor(
	config *sshdconfig.Config, a reading.Account, groups map[string][]string, p reading.Password,
	authorities func(string) ([]byte, error),
) (Settings, error) {
	u := sshdconfig.User{Name: a.Name, UID: a.UID, Home: a.Home}
	conn := sshdconfig.Conn{User: a.Name, Groups: groups[a.Name], GroupsKnown: groups != nil}
	settings, err := config.For(conn)
	if err != nil {
		return Settings{}, err
	}
	server := reading.ServerOf(settings, u, conn, authorities)
	return Settings{settings, server.ForAccount(a, p, settings.On(sshdconfig.UsePAM))}, nil
}

// lists are those of the users and the groups of a machine, and its nsswitch.conf(5).
type lists struct{ passwd, group, nsswitch []byte }

// lists asks getent for passwd(5) and group(5), with nsswitch.conf(5) in one command, and reads the files where that
// fails. group is nil where it is not known.
func (m *machine) lists(ctx context.Context) (l lists, err error) {
	const line = "getent passwd && echo && getent group && echo && cat /etc/nsswitch.conf"
	out, _ := m.session.runLine(nil, maxPasswdBytes, "getent", line)
	if err := ctx.Err(); err != nil {
		return l, err
	}
	if parts := bytes.SplitN(out, []byte("\n\n"), 3); len(parts) == 3 && len(parts[0]) > 0 {
		return lists{parts[0], parts[1], parts[2]}, nil
	}
	files := machineFiles{m}
	if l.passwd, err = m.session.runLine(nil, maxPasswdBytes, "getent", "getent passwd"); err != nil ||
		len(l.passwd) == 0 {
		if l.passwd, err = files.ReadFile("/etc/passwd"); err != nil {
			return l, err
		}
	}
	if l.group, err = m.session.runLine(nil, maxPasswdBytes, "getent", "getent group"); err != nil || len(l.group) == 0 {
		l.group, _ = files.ReadFile("/etc/group")
	}
	l.nsswitch, _ = files.ReadFile("/etc/nsswitch.conf")
	return l, ctx.Err()
}

func (m *machine) unread(user string, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.out.AddUnread(user, err.Error())
}

func (m *machine) authorities(name string) ([]byte, error) {
	name, err := CleanPath(name)
	if err != nil {
		return nil, err
	}
	return machineFiles{m}.ReadFile(name)
}

// account reads the key files of one user.
func (m *machine) account(a reading.Account, settings Settings) {
	u := sshdconfig.User{Name: a.Name, UID: a.UID, Home: a.Home}
	home, err := CleanPath(a.Home)
	var paths []string
	if err == nil {
		u.Home = home
		paths, err = KeyFilesOf(settings, u)
	}
	if err != nil {
		m.unread(a.Name, err)
		return
	}
	out := AccountFiles{Account: a, Server: settings.Server}
	keys := false
	above := folders{}
	for _, p := range paths {
		f, err := m.keyFile(a, home, p, settings.On(sshdconfig.StrictModes), above)
		if err != nil {
			m.unread(a.Name, err)
			return
		}
		keys = keys || f.There && len(f.Content) > 0
		out.Files = append(out.Files, f)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if !keys && !out.Server.LetsIn(a) {
		m.out.NoWay++
		return
	}
	m.out.Others = append(m.out.Others, out)
}

// keyFile reads one key file of a user. With root's rights nothing is followed below the home folder, which
// is the user's to change, and only the lines that hold keys are kept of what is read.
func (m *machine) keyFile(
	a reading.Account, home, name string, strict bool, above folders,
) (RemoteFile, error) {
	f := RemoteFile{Path: name}
	var writable []string // by others than their owner
	if below := strings.HasPrefix(name, home+"/"); below {
		if info, err := above.look(home, m.files.Stat); err == nil && info.Mode().Perm()&0o022 != 0 {
			writable = append(writable, home)
		}
	}
	for dir := range foldersBetween(home, name) {
		info, err := above.look(dir, m.files.Lstat)
		if errors.Is(err, fs.ErrNotExist) {
			return f, nil
		}
		if err != nil {
			return f, m.refused(dir, err)
		}
		if !info.IsDir() {
			return f, fmt.Errorf("%s is %w", dir, ErrLink)
		}
		if info.Mode().Perm()&0o022 != 0 {
			writable = append(writable, dir)
		}
	}
	info, err := m.files.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return f, m.refused(name, err)
	}
	if !info.Mode().IsRegular() {
		return f, fmt.Errorf("%s is %w", name, ErrLink)
	}
	st, _ := info.Sys().(*sftp.FileStat)
	if st == nil || st.UID != 0 && st.UID != a.UID {
		return f, fmt.Errorf("%s: %w", name, ErrOwner)
	}
	if info.Mode().Perm()&0o022 != 0 {
		writable = append(writable, name)
	}
	if strict && len(writable) > 0 {
		return f, fmt.Errorf("the server refuses it as long as others may write to %s (StrictModes)", writable[0])
	}
	if info.Size() < 0 || !m.take(info.Size()) {
		return f, fmt.Errorf("%s: %d bytes of other users' keys are read of a machine at most", name, maxMachineBytes)
	}
	file, err := m.files.Open(name)
	if err != nil {
		return f, m.refused(name, err)
	}
	defer file.Close()
	opened, err := given(file.Stat())
	if err != nil {
		return f, err
	}
	if now, _ := opened.Sys().(*sftp.FileStat); now == nil || !opened.Mode().IsRegular() || now.UID != st.UID ||
		now.GID != st.GID || opened.Size() != info.Size() {
		return f, fmt.Errorf("%s was changed while it was looked at", name)
	}
	content, err := readUpTo(file, info.Size()+1, int(info.Size()))
	if err != nil {
		return f, fmt.Errorf("read %s: %w", name, err)
	}
	if len(content) > int(info.Size()) || bytes.Count(content, []byte{'\n'}) > MaxFileLines {
		return f, fmt.Errorf("%s is longer than its size, or has over %d lines", name, MaxFileLines)
	}
	f.There, f.Mode, f.UID, f.GID, f.Content = true, info.Mode().Perm(), st.UID, st.GID, onlyKeys(content)
	clear(content)
	return f, nil
}

// folders are those above the key files of one user, each looked at once.
type folders map[string]folder

type folder struct {
	info fs.FileInfo
	err  error
}

func (f folders) look(name string, by func(string) (fs.FileInfo, error)) (fs.FileInfo, error) {
	was, known := f[name]
	if !known {
		was.info, was.err = by(name)
		f[name] = was
	}
	return was.info, was.err
}

// onlyKeys keeps the lines that hold keys: if root was led elsewhere, nothing of that is kept.
func onlyKeys(content []byte) []byte {
	var out authorizedkeys.File
	for _, l := range authorizedkeys.Parse(content) {
		if l.Kind == authorizedkeys.Key {
			out = append(out, l)
		}
	}
	return out.Bytes()
}

// foldersBetween yields the folders below the home folder that a file is in, from above.
func foldersBetween(home, name string) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		below, ok := strings.CutPrefix(path.Dir(name), home+"/")
		if !ok {
			return
		}
		dir := home
		for part := range strings.SplitSeq(below, "/") {
			if dir = path.Join(dir, part); !yield(dir) {
				return
			}
		}
	}
}

func (m *machine) take(bytes int64) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if bytes > int64(m.left) {
		return false
	}
	m.left -= int(bytes)
	return true
}

func (m *machine) refused(name string, err error) error {
	if errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("%s may not read %s", m.session.login(), name)
	}
	return fmt.Errorf("%s: %w", name, err)
}

const (
	// mostAsked is of how many users sshd itself is asked, the session's own among them.
	mostAsked = 9
	maxSaid   = 512 << 10
	// sshdProgram is where systems have sshd, and nextSaid what tells apart what it says of one user and the next.
	sshdProgram = "/usr/sbin/sshd"
	nextSaid    = "plum-latch-next"
)

// askServer asks sshd itself for its settings, where the session is root's, and compares them with what was read of its
// files. Where they differ, the settings are not known. A machine without such a program is not asked.
func (m *machine) askServer(config *sshdconfig.Config, accounts []reading.Account, groups map[string][]string) {
	if m.session.login() != "root" || groups == nil {
		return
	}
	servers := m.servers()
	var asked []sshdconfig.Conn
	var line strings.Builder
	for _, a := range accounts {
		if servers[a.Name] == nil || len(asked) == mostAsked {
			continue
		}
		conn := sshdconfig.Conn{
			User: a.Name, Groups: groups[a.Name], GroupsKnown: true, Host: "plum-latch.invalid",
			Address: netip.AddrFrom4([4]byte{192, 0, 2, 1}), LocalAddress: netip.AddrFrom4([4]byte{127, 0, 0, 1}), LocalPort: 22,
		}
		asked = append(asked, conn)
		fmt.Fprintf(
			&line, "%s -T -C %s && echo %s && ", sshdProgram,
			shellWord(fmt.Sprintf(
				"user=%s,host=%s,addr=%s,laddr=%s,lport=%d", conn.User, conn.Host, conn.Address, conn.LocalAddress, conn.LocalPort,
			)), nextSaid,
		)
	}
	out, err := m.session.runLine(nil, maxSaid, "sshd", line.String()+"true")
	said := strings.Split(string(out), nextSaid+"\n")
	if err != nil || len(said) != len(asked)+1 {
		return
	}
	for n, conn := range asked {
		settings, err := config.For(conn)
		if err != nil {
			continue
		}
		if differs := settings.Against(sshdconfig.ReadSaid(said[n]), reading.Judging...); differs != "" {
			servers[conn.User].Unread = differs
		}
	}
}

// orphans finds files of keys for users that do not exist, where the files have the users' names.
func (m *machine) orphans(config *sshdconfig.Config, accounts []reading.Account) {
	const nobody = "plum-latch-nobody"
	settings, err := config.For(sshdconfig.Conn{User: nobody})
	if err != nil {
		return
	}
	paths, err := settings.KeyFiles(sshdconfig.User{Name: nobody, Home: "/nonexistent"})
	if err != nil {
		return
	}
	there := map[string]bool{}
	for _, a := range accounts {
		there[a.Name] = true
	}
	for _, p := range paths {
		if path.Base(p) != nobody || strings.HasPrefix(p, "/nonexistent/") {
			continue
		}
		names, err := machineFiles{m}.Names(path.Dir(p))
		if err != nil {
			continue
		}
		for _, name := range names {
			if !there[name] {
				m.out.AddGone(path.Join(path.Dir(p), name))
			}
		}
	}
}

// machineFiles reads the server's configuration with the rights that the reading has.
type machineFiles struct{ *machine }

func (m machineFiles) ReadFile(name string) ([]byte, error) {
	f, err := m.files.Open(name)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return nil, fmt.Errorf("%s may not read it", m.session.login())
	case err != nil:
		return nil, err
	}
	defer f.Close()
	most := maxConfigBytes
	if name == "/etc/passwd" || name == "/etc/group" || name == "/etc/shadow" {
		most = maxPasswdBytes
	}
	content, err := readUpTo(f, int64(most)+1, 4096)
	if err == nil && len(content) > most {
		err = fmt.Errorf("it has over %d bytes, %w", most, errConfigLimit)
	}
	return content, err
}

// Names asks ls, as that of a session does, with the session's own rights.
func (m machineFiles) Names(folder string) ([]string, error) {
	return NamesIn(m.session.Run(nil, "ls", "--", folder))
}

func (m machineFiles) Groups() ([]string, error) { return nil, errors.New("not asked for one user") }
