package service

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// readThroughAgent reads the files of a login through the guest agent. missing is
// what keeps it from being asked, "" if nothing does.
func (s *Service) readThroughAgent(ctx context.Context, l store.LoginToSweep) (out seen, missing string, err error) {
	ctx, cancel := context.WithTimeout(ctx, sweepTimeout)
	defer cancel()
	i := l.Instance
	if missing, err = s.agentMissing(ctx, i); err != nil || missing != "" {
		return seen{}, missing, err
	}
	text := func(path string) (string, error) {
		f, err := s.cloud.AgentFile(ctx, i.CloudID, path)
		if err != nil || f.Content == nil {
			return "", err
		}
		return string(*f.Content), nil
	}
	users, err := text("/etc/passwd")
	if err != nil {
		return seen{}, "", err
	}
	home := homeIn(users, l.OSUser)
	if home == "" {
		return seen{}, "", fmt.Errorf("there is no user %s on %s any more", l.OSUser, i.Name)
	}
	config, err := text(sshio.ServerConfig)
	if err != nil {
		return seen{}, "", err
	}
	paths := sshio.KeyFilesOf(config, home, l.OSUser)
	for _, path := range paths {
		f, err := s.cloud.AgentFile(ctx, i.CloudID, path)
		if err != nil {
			return seen{}, "", err
		}
		read := SeenFile{Path: path, There: f.Kind == "file", Mode: fs.FileMode(f.Mode) & fs.ModePerm}
		switch {
		case f.Kind == "none":
			read.Mode = 0
		case f.Kind != "file":
			return seen{}, "", fmt.Errorf("%s is not a file", path)
		case f.Content != nil:
			read.Content = *f.Content
		}
		out.files = append(out.files, read)
	}
	for _, path := range sshio.FoldersAbove(home, paths) {
		f, err := s.cloud.AgentFile(ctx, i.CloudID, path)
		if err != nil {
			return seen{}, "", err
		}
		if f.Kind == "folder" {
			out.folders = append(out.folders, store.Folder{Path: path, Mode: f.Mode})
		}
	}
	return out, "", nil
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

// homeIn returns the home folder of a user in the text of passwd(5), "" for none.
func homeIn(passwd, user string) string {
	for line := range strings.Lines(passwd) {
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) >= 7 && fields[0] == user {
			return fields[5]
		}
	}
	return ""
}
