package visit

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"path"

	"github.com/google/uuid"

	"plumlatch/internal/core/text"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
)

// MostOfFile is how many bytes a file that is transferred may have.
const MostOfFile = 2 << 30

// transfersEach is how many transfers a visit has at once.
const transfersEach = 3

// filesOf returns the open visit of the actor's own page, whose connection is in this process, and what ends the use
// of it.
func (s *Service) filesOf(ctx context.Context, actor people.Actor, id uuid.UUID) (*live, func(), error) {
	if s.NoFiles {
		return nil, nil, &problem.Problem{
			Kind: problem.Forbidden, Code: "no-visit-files", Detail: "this service transfers no files",
			Remedy: "Use sftp from your own machine, or start the service without -no-visit-files",
		}
	}
	v, err := s.Visit(ctx, actor, id)
	if err != nil {
		return nil, nil, err
	}
	if v.OperatorID != actor.ID || v.SessionID != actor.Session {
		return nil, nil, noVisit
	}
	s.mu.Lock()
	l := s.live[id]
	s.mu.Unlock()
	if l == nil {
		return nil, nil, &problem.Problem{
			Kind: problem.Conflict, Code: "visit-not-open", After: 1,
			Detail: "this visit is over, or another process of the service has its connection",
			Remedy: "Try again, or open another terminal",
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over || l.term == nil {
		return nil, nil, &problem.Problem{Kind: problem.Conflict, Code: "visit-not-open", Detail: "this visit is not open"}
	}
	if l.transfers >= transfersEach {
		return nil, nil, &problem.Problem{
			Kind: problem.Conflict, Code: "too-many-transfers", Detail: "other files of this terminal are under way",
			Remedy: "Wait for one to end",
		}
	}
	l.transfers++
	l.typed = s.Now()
	return l, func() {
		l.mu.Lock()
		l.transfers--
		l.typed = s.Now()
		l.mu.Unlock()
	}, nil
}

// Folder is what is in a folder of a login.
type Folder struct {
	Path    string
	Entries []sshio.Listed
	// Left is how many entries are left out.
	Left int
}

// Files lists a folder of the login, "" for where it begins.
func (s *Service) Files(ctx context.Context, actor people.Actor, id uuid.UUID, name string) (Folder, error) {
	l, done, err := s.filesOf(ctx, actor, id)
	if err != nil {
		return Folder{}, err
	}
	defer done()
	var f Folder
	f.Path, f.Entries, f.Left, err = l.session.List(ctx, name)
	return f, transferProblem(name, err)
}

// Fetch gives a file of the login to take, which is told in the daybook before it is given.
func (s *Service) Fetch(
	ctx context.Context, actor people.Actor, id uuid.UUID, name string, take func(r io.Reader, size int64) error,
) error {
	l, done, err := s.filesOf(ctx, actor, id)
	if err != nil {
		return err
	}
	defer done()
	return transferProblem(name, l.session.Fetch(ctx, name, MostOfFile, func(r io.Reader, size int64) error {
		e := s.Journal.Entry(
			actor.By(), "visit.fetch", "login", fleet.LoginName(l.v.OSUser, l.v.InstanceName), l.v.Reason,
			journal.Facts{"file": text.Line(name, text.MaxLine), "bytes": size},
		)
		if err := s.Store.Note(ctx, e); err != nil {
			return err
		}
		return take(l.busy(r), size)
	}))
}

// Put is a file that was written.
type Put struct {
	Bytes  int64
	SHA256 string
}

// Put writes a file into the login. What is there stays, unless it may be replaced; a transfer that breaks leaves
// nothing.
func (s *Service) Put(
	ctx context.Context, actor people.Actor, id uuid.UUID, name string, replace bool, from io.Reader,
) (Put, error) {
	if name == "" || path.Base(name) == "/" || path.Base(name) == "." || text.Line(name, text.MaxLine) != name {
		return Put{}, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-path", Field: "path", Detail: "this is no name of a file",
		}
	}
	l, done, err := s.filesOf(ctx, actor, id)
	if err != nil {
		return Put{}, err
	}
	defer done()
	sum := sha256.New()
	written, err := l.session.Store(ctx, name, replace, MostOfFile, io.TeeReader(l.busy(from), sum))
	if err != nil {
		return Put{}, transferProblem(name, err)
	}
	put := Put{Bytes: written, SHA256: hex.EncodeToString(sum.Sum(nil))}
	return put, s.Store.Note(context.WithoutCancel(ctx), s.Journal.Entry(
		actor.By(), "visit.put", "login", fleet.LoginName(l.v.OSUser, l.v.InstanceName), l.v.Reason,
		journal.Facts{"file": name, "bytes": written, "sha256": put.SHA256, "replaced": replace},
	))
}

// busy reads on and keeps the visit from being idle meanwhile. It ends with the visit.
func (l *live) busy(r io.Reader) io.Reader { return busyReader{l, r} }

type busyReader struct {
	l *live
	r io.Reader
}

func (b busyReader) Read(p []byte) (int, error) {
	b.l.mu.Lock()
	over := b.l.over
	b.l.typed = b.l.s.Now()
	b.l.mu.Unlock()
	if over {
		return 0, errors.New("the visit is over")
	}
	return b.r.Read(p)
}

// transferProblem says what is wrong with a transfer.
func transferProblem(name string, err error) error {
	p := &problem.Problem{Field: "path", Where: []string{text.Line(name, text.MaxLine)}}
	switch {
	case errors.Is(err, sshio.ErrNoFile):
		p.Kind, p.Code = problem.NotFound, "no-such-file"
	case errors.Is(err, sshio.ErrNotFile):
		p.Kind, p.Code = problem.Invalid, "not-a-file"
	case errors.Is(err, sshio.ErrThere):
		p.Kind, p.Code, p.Remedy = problem.Conflict, "file-there", "Give it another name, or have it replaced"
	case errors.Is(err, sshio.ErrKeysFile):
		p.Kind, p.Code, p.Remedy = problem.Forbidden, "keys-file", "Let a key in, or withdraw a grant"
	case errors.Is(err, sshio.ErrTooLong):
		p.Kind, p.Code, p.Remedy = problem.TooLarge, "too-large", "Use sftp from your own machine"
	case errors.Is(err, sshio.ErrForbidden):
		p.Kind, p.Code = problem.Forbidden, "not-permitted-there"
	default:
		return err
	}
	p.Detail = err.Error()
	return p
}
