package means

import (
	"context"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/sshio"
)

// Over is the means of a session, which a steward key has opened, a kept key, or somebody on
// their own machine.
func Over(s *sshio.Session) Means { return session{s} }

type session struct{ *sshio.Session }

func (s session) Read(context.Context) (Seen, error) {
	files, err := s.ReadAll()
	if err != nil {
		return Seen{}, err
	}
	return s.seen(files)
}

func (s session) seen(files []sshio.RemoteFile) (seen Seen, err error) {
	for _, f := range files {
		seen.Files = append(seen.Files, File{Path: f.Path, There: f.There, Content: f.Content, Mode: f.Mode})
	}
	server, err := s.Server()
	if err != nil {
		return seen, err
	}
	seen.Server = &server
	above, err := s.Folders()
	for _, f := range above {
		seen.Folders = append(seen.Folders, Folder(f))
	}
	return seen, err
}

func (s session) change(_ context.Context, edit edit) (Seen, error) {
	files, err := s.EditKnowing(
		func(all []authorizedkeys.File, path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			return edit(all, path, first, f)
		},
	)
	if err != nil {
		return Seen{}, err
	}
	return s.seen(files)
}

// ReadMachine reads all users of the machine of a session, as far as it may.
func ReadMachine(ctx context.Context, s *sshio.Session) (Machine, error) {
	return session{s}.Machine(ctx)
}

// Machine reads all users of the machine, as far as the session may.
func (s session) Machine(ctx context.Context) (Machine, error) {
	read, err := s.Session.Machine(ctx)
	if err != nil {
		return Machine{}, err
	}
	out := Machine{Machine: read.Machine, Own: &read.Own}
	for _, o := range read.Others {
		seen := Seen{Server: new(o.Server)}
		for _, f := range o.Files {
			seen.Files = append(seen.Files, File{Path: f.Path, There: f.There, Content: f.Content, Mode: f.Mode})
		}
		out.Others = append(out.Others, Account{Name: o.Name, Seen: seen})
	}
	return out, nil
}
