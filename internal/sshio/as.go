package sshio

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/core/name"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/steward"
	"plumlatch/internal/core/text"
)

// ErrNoSuchUser is wrapped where a machine has no such user.
var ErrNoSuchUser = errors.New("there is no such user on the machine")

// ErrNotAs is wrapped where the user of a session may not act as another.
var ErrNotAs = errors.New("may not act as the user")

// login is the user who is logged in: the session's own, or the one who became it.
func (s *Session) login() string {
	if s.under != nil {
		return s.under.user
	}
	return s.user
}

// As returns a session that reads and changes the files of another user of the machine with that user's rights: root
// becomes the user by runuser(1), others by sudo(8), of which OpenSSH's sftp-server without arguments is asked for. It
// is no login of that user's, so that its Entry is none. It uses the connection of s, and has to be closed before it.
func (s *Session) As(ctx context.Context, user string) (*Session, error) {
	if user == s.user {
		return nil, fmt.Errorf("%s is logged in already", user)
	}
	if err := name.CheckUser(user); err != nil {
		return nil, err
	}
	said, err := s.runLine(nil, maxOutput, "getent", "getent passwd -- "+shellWord(user)+" || true")
	if err != nil {
		return nil, err
	}
	accounts, _ := reading.Accounts(said)
	n := slices.IndexFunc(accounts, func(a reading.Account) bool { return a.Name == user })
	if n < 0 {
		return nil, fmt.Errorf("%s: %w", user, ErrNoSuchUser)
	}
	var last error
	for _, server := range s.servers() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		f, end, err := s.filesBy(s.asRun(user, server))
		if err != nil {
			last = err
			continue
		}
		context.AfterFunc(ctx, end)
		return &Session{
			HostKey: s.HostKey, client: s.client, files: f, user: user, key: s.key, at: s.at, under: s, account: accounts[n],
		}, nil
	}
	return nil, fmt.Errorf("%s %w %s: %w", s.user, ErrNotAs, user, last)
}

// notAllowed is the status with which asRun ends where sudo does not allow the program.
const notAllowed = 97

// asRun is a line that runs a program as a user: root by runuser(1) where the machine has it, others by sudo, which is
// asked for leave first; see rootFiles.
func (s *Session) asRun(user, program string) string {
	line := fmt.Sprintf(
		"sudo -n -l -u %[1]s -- %[2]s >/dev/null || exit %[3]d; exec sudo -n -u %[1]s -- %[2]s",
		shellWord(user), program, notAllowed,
	)
	if s.login() == "root" {
		line = fmt.Sprintf(
			"command -v runuser >/dev/null && exec runuser -u %[1]s -- %[2]s; exec sudo -n -u %[1]s -- %[2]s",
			shellWord(user), program,
		)
	}
	return "sh -c " + shellWord(line)
}

// mostChanges is of how many users it is asked whether their files may be changed.
const mostChanges = steward.MostChanges

// changes asks of which users the files may be changed by sudo.
func (m *machine) changes() {
	if m.out.Rights != reading.BySudo {
		return
	}
	var users []string
	if m.session.under != nil {
		users = append(users, m.session.user)
	}
	for _, o := range m.out.Others {
		if o.Name != m.session.login() && len(users) < mostChanges {
			users = append(users, shellWord(o.Name))
		}
	}
	if len(users) == 0 {
		return
	}
	said, err := m.session.runLine(nil, maxOutput, "sudo", fmt.Sprintf(
		"for u in %s; do sudo -n -l -u \"$u\" -- %s >/dev/null 2>&1 && echo \"$u\"; done; true",
		strings.Join(users, " "), m.session.servers()[0],
	))
	if err != nil {
		return
	}
	for _, u := range strings.Fields(string(said)) {
		if name.CheckUser(u) == nil && len(m.out.Changes) < mostChanges {
			m.out.Changes = append(m.out.Changes, u)
		}
	}
}

// AsRoot has root run commands of sh(1), by sudo where the session is not root's.
func (s *Session) AsRoot(commands string) error {
	words := []string{"sh", "-s"}
	if s.user != "root" {
		words = append([]string{"sudo", "-n", "--"}, words...)
	}
	_, err := s.Run([]byte(commands), words...)
	if err != nil && s.user != "root" {
		err = fmt.Errorf("as root by sudo: %w", err)
	}
	return err
}

// SFTPServer returns where the machine has OpenSSH's sftp-server.
func (s *Session) SFTPServer() string { return text.Line(s.servers()[0], text.MaxLine) }
