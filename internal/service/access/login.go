package access

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
)

// Login is a login with all that is known of it.
type Login struct {
	LoginReach
	Of        record.Instance
	Openers   []record.Opening
	Strangers []record.Stranger
	Files     []record.FileVersion
	Folders   []record.Folder
	// Server is what its SSH server lets in beside the keys of its files, nil where nobody has read it.
	Server *record.LoginServer
	// Ways are the ways in beside keys, and what is not known of them.
	Ways []seen.Way
	// Label says what the cloud's key label is worth; "" where there is nothing to say.
	Label string
}

// MaxOpeners is how many keys and strangers of one instance are shown at most.
const MaxOpeners = 500

// Login returns a login with what was seen in it.
func (s *Service) Login(ctx context.Context, name string) (Login, error) {
	l, i, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return Login{}, err
	}
	w, err := s.World(ctx, record.ReachFilter{Instance: i.ID})
	if err != nil {
		return Login{}, err
	}
	place := w.LoginPlace(l.ID)
	if place < 0 {
		return Login{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-login",
			Where:  []string{name},
			Detail: fmt.Sprintf("login %s no longer exists", name),
		}
	}
	out := Login{LoginReach: judged(w.Logins[place], reach.Standings(w.Input)[place]), Of: i, Folders: l.Folders}
	openers, err := s.store.Openers(ctx, i.ID, record.Page{Limit: MaxOpeners})
	if err != nil {
		return Login{}, err
	}
	for _, o := range openers.Items {
		if o.OSUser == l.OSUser {
			out.Openers = append(out.Openers, o)
		}
	}
	var labelled []reach.Labelled
	for _, o := range out.Openers {
		labelled = append(labelled, reach.Labelled{Name: o.KeyName, Present: o.Present})
	}
	out.Label = reach.LabelWorth(i.KeyLabel, labelled)
	strangers, err := s.store.StrangersOf(ctx, i.ID, MaxOpeners)
	if err != nil {
		return Login{}, err
	}
	for _, g := range strangers {
		if g.LoginID == l.ID {
			out.Strangers = append(out.Strangers, g)
		}
	}
	servers, err := s.store.Servers(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return Login{}, err
	}
	if server, ok := servers[l.ID]; ok {
		out.Server = &server
	}
	accepted, err := s.store.AcceptedWays(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return Login{}, err
	}
	groups, err := s.store.GroupWays(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return Login{}, err
	}
	out.Ways = waysOf(out.Server, l.OSUser, groups[l.ID], accepted[l.ID])
	out.count(out.Ways)
	out.Files, err = s.store.NewestVersions(ctx, l.ID)
	return out, err
}

// Version is a content of a file with what was new in it.
type Version struct {
	record.FileVersion
	Came, Went []string
}

// Versions returns the contents that the login's files were seen with, the newest first.
func (s *Service) Versions(ctx context.Context, name string) ([]Version, error) {
	l, _, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	versions, err := s.store.Versions(ctx, l.ID, maxVersions)
	if err != nil {
		return nil, err
	}
	held := 0
	for n, v := range versions {
		if held += len(v.Content); held > maxVersionBytes && n > 0 {
			versions = versions[:n]
			break
		}
	}
	out := make([]Version, len(versions))
	for n, v := range versions {
		out[n] = Version{FileVersion: v}
		for _, earlier := range versions[n+1:] {
			if earlier.Path == v.Path {
				out[n].Came, out[n].Went = reading.ChangesOf(earlier.Content, v.Content)
				break
			}
		}
	}
	return out, nil
}

// Compare returns the later of two versions of a file with the lines that came and
// went since the earlier.
func (s *Service) Compare(ctx context.Context, name string, from, to uuid.UUID) (Version, error) {
	l, _, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return Version{}, err
	}
	versions, err := s.store.VersionsByID(ctx, l.ID, from, to)
	if err != nil {
		return Version{}, err
	}
	if len(versions) != 2 || versions[0].Path != versions[1].Path {
		return Version{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-version",
			Where:  []string{name},
			Detail: "these are not two versions of one file of " + name,
			Remedy: "See them: plumlatch login history " + name,
		}
	}
	out := Version{FileVersion: versions[1]}
	out.Came, out.Went = reading.ChangesOf(versions[0].Content, versions[1].Content)
	return out, nil
}

// Also says in words what lets somebody into the login beside the keys of its files, or is not known of
// that. It is empty only where the server's settings were read, and let in nobody else.
func (l Login) Also() []string {
	out := []string{}
	for _, w := range l.Ways {
		out = append(out, w.Told())
	}
	return out
}

// waysOf are the ways in beside keys: by the server, and by keys that the cloud hands to the machine's groups.
func waysOf(server *record.LoginServer, user string, groups []seen.Way, accepted []record.AcceptedWay) []seen.Way {
	var read *seen.Server
	if server != nil {
		read = &server.Server
	}
	return seen.Mark(append(seen.WaysOf(read, user), groups...), record.Acceptances(accepted))
}
