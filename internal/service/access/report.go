package access

import (
	"bytes"
	"context"
	"fmt"

	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"

	"github.com/google/uuid"
)

const (
	maxReportedFiles   = 8
	maxReportedFolders = 32
)

// ReportFiles records what the actor read in a login's files from their own
// machine, and of all its users where they did, where the host key that they saw is a pinned one.
func (s *Service) ReportFiles(
	ctx context.Context, actor people.Actor, login string, seen reading.Seen, machine *means.Machine, hostKey string,
) (Login, error) {
	l, i, err := s.fleet.LoginNamed(ctx, login)
	if err != nil {
		return Login{}, err
	}
	if err := fleet.CheckHostKey(i, hostKey); err != nil {
		return Login{}, err
	}
	if err := checkSeen(seen); err != nil {
		return Login{}, err
	}
	if machine != nil {
		if err := s.recordReported(ctx, actor, l, i, *machine); err != nil {
			return Login{}, err
		}
	}
	_, err = s.reading.RecordLook(ctx, reading.Look{
		Login:  l,
		Name:   fleet.LoginName(l.OSUser, i.Name),
		Seen:   seen,
		Method: "read by " + actor.Name + " from their machine",
		By:     actor.By(),
		At:     s.now(),
	})
	if err != nil {
		return Login{}, err
	}
	s.Reported(ctx, i.ID)
	return s.Login(ctx, login)
}

// mostReported is how many other users of a machine are reported at most.
const mostReported = 1000

// recordReported records what the actor read of all users of the machine.
func (s *Service) recordReported(
	ctx context.Context, actor people.Actor, l record.Login, i record.Instance, m means.Machine,
) error {
	bad := func(detail string) error {
		return &problem.Problem{Kind: problem.Invalid, Code: "bad-machine", Field: "machine", Detail: detail}
	}
	if len(m.Others) > mostReported || len(m.Unread) > maxReportedUnread || len(m.Gone) > maxReportedUnread {
		return bad(fmt.Sprintf("it tells of over %d users", mostReported))
	}
	total := 0
	for n := range m.Others {
		o := &m.Others[n]
		if err := checkSeen(reading.SeenBy(o.Seen)); err != nil || name.CheckUser(o.Name) != nil {
			return bad("what is told of a user is beyond the limits, or has no user's name")
		}
		for _, f := range o.Files {
			total += len(f.Content)
		}
	}
	if total > sshio.MaxFileBytes {
		return bad(fmt.Sprintf("the files of other users have at most %d bytes together", sshio.MaxFileBytes))
	}
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{l.ID})
	if err != nil || len(found) == 0 {
		return err
	}
	return s.reading.RecordMachine(ctx, found[0], m, reading.MachineBy{
		Method: "read by " + actor.Name + " from their machine", By: actor.By(), At: s.now(),
	})
}

// maxReportedUnread is how many unread users, and files of users that do not exist, are reported at most.
const maxReportedUnread = 50

// checkSeen refuses what is beyond the limits of what is kept.
func checkSeen(seen reading.Seen) error {
	files, folders := seen.Files, seen.Folders
	if len(files) == 0 && seen.Server == nil || len(files) > maxReportedFiles {
		return &problem.Problem{
			Kind:  problem.Invalid,
			Code:  "bad-files",
			Field: "files",
			Detail: fmt.Sprintf("%d files were given; a login has 1 to %d, or none by its server's settings",
				len(files), maxReportedFiles),
		}
	}
	total := 0
	for _, f := range files {
		if total += len(f.Content); total > sshio.MaxFileBytes || bytes.Count(f.Content, []byte{'\n'}) > sshio.MaxFileLines {
			return &problem.Problem{
				Kind:  problem.TooLarge,
				Code:  "too-large",
				Field: "files",
				Detail: fmt.Sprintf(
					"the files of a login have at most %d bytes together and %d lines each", sshio.MaxFileBytes,
					sshio.MaxFileLines,
				),
			}
		}
		if f.Path == "" || len(f.Path) > 4096 || text.Plain(f.Path) != f.Path || !f.There && len(f.Content) > 0 {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-files",
				Field:  "files",
				Detail: "a file has no path, one with control characters, or content though it is not there",
			}
		}
	}
	if len(folders) > maxReportedFolders {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-folders",
			Field:  "folders",
			Detail: fmt.Sprintf("%d folders were given; %d is the limit", len(folders), maxReportedFolders),
		}
	}
	for _, f := range folders {
		if f.Path == "" || len(f.Path) > 4096 || text.Plain(f.Path) != f.Path {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-folders",
				Field:  "folders",
				Detail: "a folder has no path, or one with control characters",
			}
		}
	}
	return nil
}
