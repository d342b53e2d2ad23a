package sshio

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/text"
)

// EditAll edits the first file that the server reads keys from, which is made if
// it is not there, and each of the others that is there. See Edit.
func (s *Session) EditAll(
	change func(path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error),
) error {
	_, err := s.EditKnowing(
		func(_ []authorizedkeys.File, path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			return change(path, first, f)
		},
	)
	return err
}

// EditKnowing is EditAll where the change of a file depends on all of them. It
// returns them as they are afterwards.
func (s *Session) EditKnowing(
	change func(all []authorizedkeys.File, path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error),
) ([]RemoteFile, error) {
	files, err := s.ReadAll()
	if err != nil {
		return nil, err
	}
	all := make([]authorizedkeys.File, len(files))
	for n, file := range files {
		all[n] = authorizedkeys.Parse(file.Content)
	}
	for n, file := range files {
		if n > 0 && !file.There {
			continue
		}
		after, err := s.edit(file.Path, &file, func(f authorizedkeys.File) (authorizedkeys.File, error) {
			all[n] = f
			return change(all, file.Path, n == 0, f)
		})
		if err != nil {
			return nil, err
		}
		files[n], all[n] = after, authorizedkeys.Parse(after.Content)
	}
	return files, nil
}

// ErrEdited is wrapped where somebody else changed the file again and again
// between our read and our write. Nothing was written.
var ErrEdited = errors.New("somebody else is editing the file")

const (
	editAttempts = 5
	// BesideSuffix is put to the name of a file for the temporary one beside it. As
	// it is the same for all who edit, and made only where there is none, one of them
	// at a time compares and renames.
	BesideSuffix = ".plumlatch-edit"
	// abandonedAfter is for how long a temporary file that does not change is taken for
	// one that somebody is writing; one who died left it.
	abandonedAfter = 10 * time.Second
	editPause      = 30 * time.Millisecond
)

// errBusy is returned where the temporary file of somebody else is there.
var errBusy = errors.New("somebody else is writing the file")

// Edit changes a file without a moment at which it is not whole: it reads it,
// has change edit it, writes a temporary file beside it with the same owner and
// mode, flushes, sees that the file is still as it was read, renames over it, and
// reads back and compares. change returning the file as it was writes nothing. It
// may be called again, where somebody edited the file meanwhile. One whose temporary
// file is in place there is waited for.
func (s *Session) Edit(name string, change func(authorizedkeys.File) (authorizedkeys.File, error)) (RemoteFile, error) {
	return s.edit(name, nil, change)
}

// edit is Edit that begins with what was just read, where that is not nil.
func (s *Session) edit(
	name string, read *RemoteFile, change func(authorizedkeys.File) (authorizedkeys.File, error),
) (RemoteFile, error) {
	var other temporaryFile
	for attempt := 0; attempt < editAttempts; {
		after, err := s.editOnce(name, read, change)
		read = nil
		switch {
		case errors.Is(err, errBusy):
			abandoned, err := other.abandoned(s, name+BesideSuffix)
			if err != nil {
				return RemoteFile{}, fmt.Errorf("edit %s: %w", name, err)
			}
			if abandoned {
				s.files.Remove(name + BesideSuffix)
				attempt++
			} else {
				time.Sleep(editPause)
			}
		case errors.Is(err, ErrEdited):
			attempt++
		default:
			return after, err
		}
	}
	return RemoteFile{}, fmt.Errorf("edit %s: %w; it was left unchanged", name, ErrEdited)
}

// temporaryFile is the temporary file of somebody else, as it was seen and since when.
type temporaryFile struct {
	size    int64
	changed time.Time
	since   time.Time
}

// abandoned reports whether the file is as it was for so long that its writer
// must have died.
func (t *temporaryFile) abandoned(s *Session, name string) (bool, error) {
	info, err := s.files.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		t.since = time.Time{}
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if t.since.IsZero() || info.Size() != t.size || !info.ModTime().Equal(t.changed) {
		*t = temporaryFile{info.Size(), info.ModTime(), time.Now()}
	}
	return time.Since(t.since) > abandonedAfter, nil
}

// ErrRoots is wrapped where the file that the server reads a login's keys from is root's, so that the login's
// own user cannot change it.
var ErrRoots = errors.New("it belongs to root, so only root can change it")

// addedByRoot says what root types to add the line that was to come.
func addedByRoot(name string, before, after []byte) string {
	if added, ok := bytes.CutPrefix(after, before); ok && bytes.Count(added, []byte{'\n'}) == 1 {
		line := text.Line(strings.TrimSpace(string(added)), text.MaxMessage)
		return fmt.Sprintf("add it as root, and then sweep: echo %s | sudo tee -a %s", shellWord(line), shellWord(name))
	}
	return "make the change as root, and then sweep"
}

func (s *Session) editOnce(
	name string, read *RemoteFile, change func(authorizedkeys.File) (authorizedkeys.File, error),
) (before RemoteFile, err error) {
	if read != nil {
		before = *read // it is compared before the rename
	} else if before, err = s.Read(name); err != nil {
		return before, err
	}
	c := s.files
	edited, err := change(authorizedkeys.Parse(before.Content))
	if err != nil {
		return before, err
	}
	content := edited.Bytes()
	if bytes.Equal(content, before.Content) {
		return before, nil
	}
	if len(content) > MaxFileBytes {
		return before, fmt.Errorf("edit %s: it would have %d bytes; %d is the limit", name, len(content), MaxFileBytes)
	}
	if !before.There {
		before.Mode = 0o600
		if err := s.makeFolder(path.Dir(name)); err != nil {
			return before, err
		}
	}
	temporary := name + BesideSuffix
	if err := s.writeBeside(temporary, before, content); err != nil {
		if errors.Is(err, errBusy) {
			return before, err
		}
		c.Remove(temporary)
		if errors.Is(err, fs.ErrPermission) && before.There && before.UID == 0 && s.user != "root" {
			return before, fmt.Errorf("edit %s: %w: %s", name, ErrRoots, addedByRoot(name, before.Content, content))
		}
		return before, fmt.Errorf("edit %s: it was left unchanged: %w", name, err)
	}
	written := time.Now()
	again, err := s.Read(name)
	if err == nil && (again.There != before.There || !bytes.Equal(again.Content, before.Content)) {
		err = ErrEdited
	}
	if err != nil {
		c.Remove(temporary)
		return before, err
	}
	if time.Since(written) > abandonedAfter/2 { // somebody else may take it for abandoned and write there
		return before, ErrEdited
	}
	if err := c.PosixRename(temporary, name); err != nil {
		c.Remove(temporary)
		return before, fmt.Errorf("edit %s: rename over it: %w", name, err)
	}
	after, err := s.Read(name)
	if err != nil {
		return after, fmt.Errorf("edit %s: it was written, but cannot be read back: %w", name, err)
	}
	if !bytes.Equal(after.Content, content) {
		return after, fmt.Errorf("edit %s: it was written, but reads back otherwise: %w", name, ErrEdited)
	}
	return after, nil
}

func (s *Session) makeFolder(dir string) error {
	info, err := s.files.Lstat(dir)
	if err == nil && !info.IsDir() {
		return fmt.Errorf("%s is %w", dir, ErrLink)
	}
	if err == nil {
		return nil
	}
	s.folders = nil
	if err := s.files.Mkdir(dir); err != nil {
		return fmt.Errorf("make %s: %w", dir, err)
	}
	return s.files.Chmod(dir, 0o700)
}

// makeNew opens a file that was not there; errBusy where it was. The protocol has no
// error of its own for that, and one that was there may be gone at once.
func (s *Session) makeNew(name string) (*sftp.File, error) {
	var f *sftp.File
	var err error
	for range editAttempts {
		if f, err = s.files.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL); err == nil {
			return f, nil
		}
		if _, there := s.files.Lstat(name); there == nil {
			return nil, errBusy
		}
	}
	return nil, fmt.Errorf("write a temporary file: %w", err)
}

// writeBeside writes the content to a new file with the mode and previous owner.
func (s *Session) writeBeside(name string, before RemoteFile, content []byte) error {
	f, err := s.makeNew(name)
	if err != nil {
		return err
	}
	err = f.Chmod(before.Mode)
	if err == nil {
		_, err = f.Write(content)
	}
	if err == nil {
		// Flushing is an extension of OpenSSH's that not every server has.
		if err = f.Sync(); unsupported(err) {
			err = nil
		}
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write a temporary file: %w", err)
	}
	info, err := s.files.Lstat(name)
	if err != nil {
		return fmt.Errorf("look at the temporary file: %w", err)
	}
	if st, ok := info.Sys().(*sftp.FileStat); ok && before.There && (st.UID != before.UID || st.GID != before.GID) {
		if err := s.files.Chown(name, int(before.UID), int(before.GID)); err != nil {
			return fmt.Errorf("give the temporary file its owner: %w", err)
		}
	}
	return nil
}

func unsupported(err error) bool {
	var status *sftp.StatusError
	return errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxOpUnsupported
}
