package means

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
	"plumlatch/internal/sshio"
)

// user is the login's user as passwd(5) has it.
func userIn(passwd, user string) (sshdconfig.User, error) {
	for line := range strings.Lines(passwd) {
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) < 7 || fields[0] != user {
			continue
		}
		u := sshdconfig.User{Name: user}
		if _, err := fmt.Sscanf(fields[2], "%d", &u.UID); err != nil {
			return u, fmt.Errorf("the user %s has no number in /etc/passwd there", user)
		}
		home, err := sshio.CleanPath(fields[5])
		u.Home = home
		return u, err
	}
	return sshdconfig.User{}, fmt.Errorf("there is no user %s in /etc/passwd there", user)
}

// agentConfig reads the server's configuration by a guest agent, as root.
type agentConfig struct {
	agent
	ctx context.Context
}

func (a agentConfig) ReadFile(name string) ([]byte, error) {
	f, err := a.cloud.AgentFile(a.ctx, a.at, name, "")
	switch {
	case err != nil:
		return nil, err
	case f.Content == nil:
		return nil, fs.ErrNotExist
	case len(*f.Content) > sshio.MaxFileBytes:
		return nil, fmt.Errorf("it has %d bytes; %d is the limit", len(*f.Content), sshio.MaxFileBytes)
	}
	return *f.Content, nil
}

func (a agentConfig) Names(folder string) ([]string, error) {
	return sshio.NamesIn(said(a.cloud.AgentCommand(a.ctx, a.at.Instance, "ls", "--", a.at.Below+folder)))
}

func (a agentConfig) Groups() ([]string, error) {
	if a.at.Below != "" {
		return nil, errors.New("the groups of a user of a disk are not asked for")
	}
	out, err := said(a.cloud.AgentCommand(a.ctx, a.at.Instance, "id", "-Gn", a.user))
	return strings.Fields(string(out)), err
}

// shellConfig reads the server's configuration in the cloud's own shell, with the rights of the login's user.
type shellConfig struct {
	shell
	ctx context.Context
}

func (s shellConfig) ReadFile(name string) ([]byte, error) {
	out, err := said(s.cloud.Shell(s.ctx, s.id, nil, "cat", name))
	if err != nil && strings.Contains(strings.ToLower(err.Error()), "no such file") {
		err = fs.ErrNotExist
	}
	return out, err
}

func (s shellConfig) Names(folder string) ([]string, error) {
	return sshio.NamesIn(said(s.cloud.Shell(s.ctx, s.id, nil, "ls", "--", folder)))
}

func (s shellConfig) Groups() ([]string, error) {
	out, err := said(s.cloud.Shell(s.ctx, s.id, nil, "id", "-Gn"))
	return strings.Fields(string(out)), err
}

// said returns what a command wrote, and what it complained of as an error.
func said(r cloud.CommandResult, err error) ([]byte, error) {
	if err == nil && r.Status != 0 {
		err = errors.New(text.Line(r.Errors, text.MaxLine))
	}
	return r.Output, err
}
