package sshio

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/name"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
)

// programSeconds is for how long a program that names keys or principals is waited for.
const programSeconds = 5

// timedOut is the status with which timeout(1) ends where it has ended the program.
const timedOut = 124

// errSlow is returned for a program that did not end in time. It is not asked again in the same reading.
var errSlow = fmt.Errorf("asked, it did not answer within %d seconds", programSeconds)

// askPrograms asks the programs that name keys or principals at each login, as the server would: as the user whom the
// settings say, where the session is root's or may do that by sudo. What it names is kept with the login's settings. It
// is done for mostAsked users at most.
func (m *machine) askPrograms(config *sshdconfig.Config, accounts []reading.Account, groups map[string][]string) {
	if m.out.Rights == reading.AsUser {
		return
	}
	servers := m.servers()
	left := mostAsked
	slow := map[string]bool{}
	for _, a := range accounts {
		server := servers[a.Name]
		if server == nil || server.KeysCommand == "" && server.PrincipalsCommand == "" || server.Unread != "" {
			continue
		}
		if left--; left < 0 {
			const many = "programs are asked for 9 users of a machine at most"
			server.KeysUnasked, server.PrincipalsUnasked = many, many
			continue
		}
		settings, err := config.For(sshdconfig.Conn{User: a.Name, Groups: groups[a.Name], GroupsKnown: groups != nil})
		if err != nil {
			continue
		}
		u := sshdconfig.User{Name: a.Name, UID: a.UID, Home: a.Home}
		if server.KeysCommand != "" {
			said, err := m.askProgram(settings, sshdconfig.AuthorizedKeysCommand, u, slow)
			if server.KeysUnasked = says(err); err == nil {
				server.AddNamed(said, time.Now())
			}
			clear(said)
		}
		if server.PrincipalsCommand != "" {
			said, err := m.askProgram(settings, sshdconfig.AuthorizedPrincipalsCommand, u, slow)
			if server.PrincipalsUnasked = says(err); err == nil {
				server.AddNames(said)
			}
		}
	}
}

func says(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// servers are the settings for each user of whom they are told, the session's own among them.
func (m *machine) servers() map[string]*reading.Server {
	servers := map[string]*reading.Server{}
	for n := range m.out.Others {
		servers[m.out.Others[n].Name] = &m.out.Others[n].Server
	}
	servers[m.session.user] = &m.out.Own
	return servers
}

// askProgram asks one program about a user. slow are those that did not end in time before.
func (m *machine) askProgram(
	s sshdconfig.Settings, keyword string, u sshdconfig.User, slow map[string]bool,
) ([]byte, error) {
	words, as, err := s.Program(keyword, u)
	if err != nil {
		return nil, err
	}
	if slow[words[0]] {
		return nil, errSlow
	}
	if name.CheckUser(as) != nil {
		return nil, errors.New("its user has a name that is no user's")
	}
	if err := m.safeProgram(words[0]); err != nil {
		return nil, err
	}
	line := make([]string, len(words))
	for n, w := range words {
		line[n] = shellWord(w)
	}
	program := strings.Join(line, " ")
	ask := fmt.Sprintf("timeout %d %s", programSeconds, m.session.asRun(as, program))
	out, err := m.session.runLine(nil, maxOutput, path.Base(words[0]), ask)
	var ended *ssh.ExitError
	switch {
	case errors.As(err, &ended) && ended.ExitStatus() == notAllowed:
		return nil, fmt.Errorf("%s may not run it as %s", m.session.login(), as)
	case errors.As(err, &ended) && ended.ExitStatus() == timedOut:
		slow[words[0]] = true
		return nil, errSlow
	case err != nil:
		return nil, fmt.Errorf("asked, it failed: %w", err)
	}
	return out, nil
}

// safeProgram refuses a program that others than root may change: the server does not run it.
func (m *machine) safeProgram(program string) error {
	program, err := CleanPath(program)
	if err != nil {
		return err
	}
	for at := program; ; at = path.Dir(at) {
		info, err := m.files.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("there is no %s", at)
		case err != nil:
			return fmt.Errorf("%s: %w", at, err)
		}
		st, ok := info.Sys().(*sftp.FileStat)
		if !ok || st.UID != 0 || info.Mode()&fs.ModeSymlink == 0 && info.Mode().Perm()&0o022 != 0 {
			return fmt.Errorf("others than root may change %s, so the server does not run it", at)
		}
		if at == "/" {
			return nil
		}
	}
}
