package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/text"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// readThroughAgent reads the files of a login through the guest agent. missing is
// what keeps it from being asked, "" if nothing does.
func (s *Service) readThroughAgent(ctx context.Context, l store.LoginToSweep) (out seen, missing string, err error) {
	if missing, err = s.agentMissing(ctx, l.Instance); err != nil || missing != "" {
		return seen{}, missing, err
	}
	out, err = s.readAt(ctx, cloud.AgentPlace{Instance: l.Instance.CloudID}, l)
	return out, "", err
}

// readAt reads the files of a login at the place.
func (s *Service) readAt(ctx context.Context, at cloud.AgentPlace, l store.LoginToSweep) (out seen, err error) {
	ctx, cancel := context.WithTimeout(ctx, sweepTimeout)
	defer cancel()
	i := l.Instance
	text := func(path string) (string, error) {
		f, err := s.cloud.AgentFile(ctx, at, path, "")
		if err != nil || f.Content == nil {
			return "", err
		}
		if len(*f.Content) > sshio.MaxFileBytes {
			return "", fmt.Errorf("%s has %d bytes; %d is the limit", path, len(*f.Content), sshio.MaxFileBytes)
		}
		return string(*f.Content), nil
	}
	users, err := text("/etc/passwd")
	if err != nil {
		return seen{}, err
	}
	home, err := homeIn(users, l.OSUser)
	if err != nil {
		return seen{}, fmt.Errorf("%s: %w", i.Name, err)
	}
	config, err := text(sshio.ServerConfig)
	if err != nil {
		return seen{}, err
	}
	paths, err := sshio.KeyFilesOf(config, home, l.OSUser)
	if err != nil {
		return seen{}, err
	}
	left := sshio.MaxFileBytes
	for _, path := range paths {
		f, err := s.cloud.AgentFile(ctx, at, path, l.OSUser)
		if err != nil {
			return seen{}, err
		}
		read := SeenFile{Path: path, There: f.Kind == cloud.AgentFileIsFile, Mode: fs.FileMode(f.Mode) & fs.ModePerm}
		switch {
		case f.Kind == cloud.AgentFileIsNone:
			read.Mode = 0
		case f.Kind != cloud.AgentFileIsFile:
			return seen{}, fmt.Errorf("%s is %w", path, sshio.ErrLink)
		case f.Content != nil:
			read.Content = *f.Content
		}
		if left -= len(read.Content); left < 0 {
			return seen{}, fmt.Errorf("the files of %s have over %d bytes together, which is the limit", loginName(l.OSUser, i.Name), sshio.MaxFileBytes)
		}
		if n := bytes.Count(read.Content, []byte{'\n'}); n > sshio.MaxFileLines {
			return seen{}, fmt.Errorf("%s has %d lines; %d is the limit", path, n, sshio.MaxFileLines)
		}
		out.files = append(out.files, read)
	}
	for _, path := range sshio.FoldersAbove(home, paths) {
		user := l.OSUser
		if path == home {
			user = "" // which may be anything above
		}
		f, err := s.cloud.AgentFile(ctx, at, path, user)
		if err != nil {
			return seen{}, err
		}
		switch f.Kind {
		case cloud.AgentFileIsFolder:
			out.folders = append(out.folders, store.Folder{Path: path, Mode: f.Mode})
		case cloud.AgentFileIsNone:
		default:
			return seen{}, fmt.Errorf("%s is %w", path, sshio.ErrLink)
		}
	}
	return out, nil
}

// agentMissing says what keeps the guest agent of an instance from being asked, ""
// if nothing does.
func (s *Service) agentMissing(ctx context.Context, i store.Instance) (string, error) {
	if i.Adopted {
		return "it was adopted, so no cloud's guest agent can be asked", nil
	}
	can, err := s.cloud.Capabilities(ctx)
	if err != nil {
		return "", err
	}
	if !slices.Contains(can.Capabilities, cloud.CanGuestAgent) {
		return "the cloud has no guest agent to ask", nil
	}
	state, err := s.cloud.Agent(ctx, i.CloudID)
	switch {
	case err != nil:
		return "", err
	case state == cloud.AgentReady:
		return "", nil
	case state == cloud.AgentAbsent:
		return "its image has no guest agent", nil
	case state == cloud.AgentNotPermitted:
		return "its guest agent is not permitted", nil
	}
	return "its guest agent has not registered yet", nil
}

// homeIn returns the home folder of a user in the text of passwd(5).
func homeIn(passwd, user string) (string, error) {
	for line := range strings.Lines(passwd) {
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) >= 7 && fields[0] == user {
			return sshio.CleanPath(fields[5])
		}
	}
	return "", fmt.Errorf("there is no user %s in its /etc/passwd", user)
}

// fileChange is an edit of one of the files of a login that knows all of them.
type fileChange = func(all []authorizedkeys.File, path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error)

// editThroughAgent edits the files of a login through the guest agent, and returns
// what stands there afterwards.
func (s *Service) editThroughAgent(ctx context.Context, l store.LoginToSweep, change fileChange) (seen, error) {
	missing, err := s.agentMissing(ctx, l.Instance)
	if err == nil && missing != "" {
		err = errors.New(missing)
	}
	if err != nil {
		return seen{}, agentError(l, err)
	}
	return s.editAt(ctx, cloud.AgentPlace{Instance: l.Instance.CloudID}, l, change)
}

// editAt edits the files of a login at the place.
func (s *Service) editAt(ctx context.Context, at cloud.AgentPlace, l store.LoginToSweep, change fileChange) (seen, error) {
	for range agentEdits {
		stands, err := s.editAtOnce(ctx, at, l, change)
		var refused *cloud.RefusedError
		if !errors.As(err, &refused) || refused.Status != http.StatusConflict {
			return stands, err
		}
		select { // somebody else is at it
		case <-ctx.Done():
			return seen{}, ctx.Err()
		case <-time.After(agentPause):
		}
	}
	return seen{}, runs.Temporary(fmt.Errorf("edit the files of %s by the guest agent: %w", loginName(l.OSUser, l.Instance.Name), sshio.ErrEdited))
}

const (
	agentEdits = 5
	agentPause = 100 * time.Millisecond
)

func (s *Service) editAtOnce(ctx context.Context, at cloud.AgentPlace, l store.LoginToSweep, change fileChange) (seen, error) {
	before, err := s.readAt(ctx, at, l)
	if err != nil {
		return seen{}, agentError(l, err)
	}
	all := make([]authorizedkeys.File, len(before.files))
	for n, f := range before.files {
		all[n] = authorizedkeys.Parse(f.Content)
	}
	wrote := map[string][]byte{}
	for n, f := range before.files {
		if n > 0 && !f.There {
			continue
		}
		edited, err := change(all, f.Path, n == 0, all[n])
		if err != nil {
			return seen{}, err
		}
		all[n] = edited
		content := edited.Bytes()
		if bytes.Equal(content, f.Content) {
			continue
		}
		if err := s.cloud.WriteAgentFile(ctx, at, f.Path, f.Content, content, l.OSUser, 0o600); err != nil {
			return seen{}, agentError(l, err)
		}
		wrote[f.Path] = content
	}
	for _, f := range before.files { // also where a write whose answer was lost has left one without
		if _, ours := wrote[f.Path]; at.Below != "" && (f.There || ours) {
			if err := s.labelAt(ctx, at, f.Path); err != nil {
				return seen{}, agentError(l, err)
			}
		}
	}
	after, err := s.readAt(ctx, at, l)
	if err != nil {
		return seen{}, agentError(l, err)
	}
	for _, f := range after.files {
		if want, ours := wrote[f.Path]; ours && !bytes.Equal(f.Content, want) {
			return seen{}, fmt.Errorf("%s was written by the guest agent, but reads back otherwise: %w", f.Path, sshio.ErrEdited)
		}
	}
	return after, nil
}

// labelAt gives a file that was written from another system the security label that its
// own asks for. A system without labels has no use for it, and says so.
func (s *Service) labelAt(ctx context.Context, at cloud.AgentPlace, path string) error {
	said, err := s.cloud.AgentCommand(ctx, at.Instance, "chcon", "-h", "-t", "ssh_home_t", at.Below+path)
	if err == nil && said.Status != 0 && !strings.Contains(said.Errors, "not supported") {
		err = errors.New("give it its security label: " + text.Line(said.Errors, text.MaxLine))
	}
	return err
}

// agentError says what was being done, and marks as temporary what may pass by itself.
func agentError(l store.LoginToSweep, err error) error {
	out := fmt.Errorf("edit the files of %s by the guest agent: %w", loginName(l.OSUser, l.Instance.Name), err)
	if errors.Is(err, cloud.ErrUnreachable) {
		return runs.Temporary(out)
	}
	return out
}
