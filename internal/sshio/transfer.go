package sshio

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"

	"plumlatch/internal/core/text"
)

// Listed is what is in a folder.
type Listed struct {
	Name string
	Mode fs.FileMode
	Size int64
	At   time.Time
}

// Folder names that a listing has at most, and how many bytes a server may say for it.
const (
	MaxListed  = 2000
	mostListed = 4 << 20
)

// The errors of transfers that a person can do something about.
var (
	ErrNoFile    = errors.New("there is no such file or folder")
	ErrNotFile   = errors.New("it is no regular file")
	ErrThere     = errors.New("there is a file of that name already")
	ErrKeysFile  = errors.New("keys of a login are changed by grants alone")
	ErrTooLong   = errors.New("it is longer than may be transferred")
	ErrForbidden = errors.New("the login may not do that there")
)

// hearing reads what a server says, up to so many bytes.
type hearing struct {
	io.Reader
	left int64
	full atomic.Bool
}

func (h *hearing) Read(p []byte) (int, error) {
	if h.left <= 0 {
		h.full.Store(true)
		return 0, io.EOF
	}
	n, err := h.Reader.Read(p[:min(int64(len(p)), h.left)])
	h.left -= int64(n)
	return n, err
}

// transfer is an SFTP client of its own, on a channel of its own (RFC 4254 section 6.5), that hears at most so many
// bytes.
func (s *Session) transfer(ctx context.Context, most int64) (c files, heard *hearing, done func(), err error) {
	channel, err := s.client.NewSession()
	if err != nil {
		return c, nil, nil, fmt.Errorf("open a channel for files: %w", err)
	}
	fail := func(err error) (files, *hearing, func(), error) {
		channel.Close()
		return c, nil, nil, fmt.Errorf("the SSH server offers no SFTP: %w", err)
	}
	in, err := channel.StdinPipe()
	if err != nil {
		return fail(err)
	}
	out, err := channel.StdoutPipe()
	if err != nil {
		return fail(err)
	}
	if err := channel.RequestSubsystem("sftp"); err != nil {
		return fail(err)
	}
	heard = &hearing{Reader: out, left: most}
	inTime := context.AfterFunc(ctx, func() { channel.Close() })
	client, err := sftp.NewClientPipe(heard, in)
	if err != nil {
		inTime()
		return fail(err)
	}
	return files{client}, heard, func() {
		inTime()
		channel.Close()
		client.Close()
	}, nil
}

// inTerms turns the errors of SFTP into those of transfers.
func inTerms(err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return ErrNoFile
	case errors.Is(err, fs.ErrPermission),
		errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxPermissionDenied:
		return ErrForbidden
	}
	return err
}

// mostLinks is how many symbolic links are followed on the way to a folder, as many as Linux follows
// (path_resolution(7)).
const mostLinks = 40

// mostFolders is how many folders deep a path may be, which a link can say of itself.
const mostFolders = 256

// followed is an absolute path without symbolic links, which a server's SSH_FXP_REALPATH may leave in it.
func (f files) followed(name string) (string, error) {
	at, rest := "/", strings.Split(path.Clean(name), "/")
	for links := 0; len(rest) > 0; {
		next := path.Join(at, rest[0])
		rest = rest[1:]
		info, err := f.Lstat(next)
		if err != nil {
			return "", err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			at = next
			continue
		}
		if links++; links > mostLinks {
			return "", fmt.Errorf("%w: too many symbolic links", ErrForbidden)
		}
		to, err := f.ReadLink(next)
		if err != nil {
			return "", err
		}
		if path.IsAbs(to) {
			at = "/"
		}
		if rest = append(strings.Split(path.Clean(to), "/"), rest...); len(rest) > mostFolders {
			return "", fmt.Errorf("%w: its path is too long", ErrForbidden)
		}
	}
	return at, nil
}

// List returns what is in a folder, by name, "" for where the login begins; its absolute path; and how many entries are
// left out, as there are too many or their names are no text.
func (s *Session) List(ctx context.Context, name string) (folder string, entries []Listed, left int, err error) {
	c, heard, done, err := s.transfer(ctx, mostListed)
	if err != nil {
		return "", nil, 0, err
	}
	defer done()
	if name == "" {
		name = "."
	}
	if folder, err = c.RealPath(name); err != nil {
		return "", nil, 0, inTerms(err)
	}
	infos, err := c.ReadDirContext(ctx, folder)
	if err != nil && heard.full.Load() {
		return "", nil, 0, fmt.Errorf("%w: the folder has too much in it", ErrTooLong)
	}
	if err != nil {
		return "", nil, 0, inTerms(err)
	}
	for _, i := range infos {
		if i == nil || i.Name() == "." || i.Name() == ".." {
			continue
		}
		if text.Line(i.Name(), text.MaxLine) != i.Name() || strings.Contains(i.Name(), "/") {
			left++
			continue
		}
		entries = append(entries, Listed{i.Name(), i.Mode(), i.Size(), i.ModTime()})
	}
	slices.SortFunc(entries, func(a, b Listed) int { return strings.Compare(a.Name, b.Name) })
	if len(entries) > MaxListed {
		left += len(entries) - MaxListed
		entries = entries[:MaxListed]
	}
	return text.Line(folder, text.MaxLine), entries, left, nil
}

// Fetch gives a regular file of at most so many bytes to take, with its length when it was opened.
func (s *Session) Fetch(ctx context.Context, name string, most int64, take func(r io.Reader, size int64) error) error {
	c, _, done, err := s.transfer(ctx, math.MaxInt64)
	if err != nil {
		return err
	}
	defer done()
	f, err := c.Open(name)
	if err != nil {
		return inTerms(err)
	}
	defer f.Close()
	info, err := given(f.Stat())
	switch {
	case err != nil:
		return inTerms(err)
	case !info.Mode().IsRegular():
		return ErrNotFile
	case info.Size() > most || info.Size() < 0:
		return ErrTooLong
	}
	return take(io.LimitReader(f, info.Size()), info.Size())
}

// Store writes a file of at most so many bytes: beside its place first, then renamed there, so that what is there is
// whole. A file of that name stays, unless it may be replaced. Files of keys are not written.
func (s *Session) Store(
	ctx context.Context, name string, replace bool, most int64, from io.Reader,
) (written int64, err error) {
	if slices.Contains(strings.Split(path.Clean(name), "/"), ".ssh") {
		return 0, ErrKeysFile
	}
	c, _, done, err := s.transfer(ctx, math.MaxInt64)
	if err != nil {
		return 0, err
	}
	defer done()
	folder, err := c.RealPath(path.Dir(name))
	if err == nil {
		folder, err = c.followed(folder)
	}
	if err != nil {
		return 0, inTerms(err)
	}
	if slices.Contains(strings.Split(folder, "/"), ".ssh") {
		return 0, ErrKeysFile
	}
	name = path.Join(folder, path.Base(name))
	switch info, err := c.Lstat(name); {
	case err == nil && !info.Mode().IsRegular():
		return 0, ErrNotFile
	case err == nil && !replace:
		return 0, ErrThere
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return 0, inTerms(err)
	}
	temporary := path.Join(folder, "."+path.Base(name)+".part-"+time.Now().UTC().Format("150405.000000"))
	f, err := c.OpenFile(temporary, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return 0, inTerms(err)
	}
	written, err = f.ReadFrom(io.LimitReader(from, most+1))
	if err = errors.Join(err, f.Close()); err == nil && written > most {
		err = ErrTooLong
	}
	if err == nil && replace {
		err = c.PosixRename(temporary, name)
	} else if err == nil {
		err = c.Rename(temporary, name) // which fails where a file has come meanwhile (draft-ietf-secsh-filexfer-02 6.5)
	}
	if err != nil {
		_ = c.Remove(temporary)
		if _, there := c.Lstat(name); !replace && there == nil {
			return 0, ErrThere
		}
		return 0, inTerms(err)
	}
	return written, nil
}
