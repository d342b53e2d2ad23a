package access

import (
	"bytes"
	"context"
	"fmt"

	"plumlatch/internal/core/text"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
)

const (
	maxReportedFiles   = 8
	maxReportedFolders = 32
)

// ReportFiles records what the actor read in a login's files from their own
// machine, where the host key that they saw is a pinned one.
func (s *Service) ReportFiles(
	ctx context.Context, actor people.Actor, name string, seen reading.Seen, hostKey string,
) (Login, error) {
	files, folders := seen.Files, seen.Folders
	l, i, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return Login{}, err
	}
	if err := fleet.CheckHostKey(i, hostKey); err != nil {
		return Login{}, err
	}
	if len(files) == 0 && seen.Server == nil || len(files) > maxReportedFiles {
		return Login{}, &problem.Problem{
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
			return Login{}, &problem.Problem{
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
			return Login{}, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-files",
				Field:  "files",
				Detail: "a file has no path, one with control characters, or content though it is not there",
			}
		}
	}
	if len(folders) > maxReportedFolders {
		return Login{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-folders",
			Field:  "folders",
			Detail: fmt.Sprintf("%d folders were given; %d is the limit", len(folders), maxReportedFolders),
		}
	}
	for _, f := range folders {
		if f.Path == "" || len(f.Path) > 4096 || text.Plain(f.Path) != f.Path {
			return Login{}, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-folders",
				Field:  "folders",
				Detail: "a folder has no path, or one with control characters",
			}
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
	return s.Login(ctx, name)
}
