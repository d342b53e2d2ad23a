package means

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/text"
	"plumlatch/internal/sshio"
)

// ShellCloud is a cloud that runs commands in an instance as its login user.
type ShellCloud interface {
	Shell(ctx context.Context, id string, input []byte, words ...string) (cloud.CommandResult, error)
}

// InShell is the means of the cloud's own shell, for the login of the user on the instance with
// the cloud's id. The commands are those of POSIX and of coreutils.
func InShell(c ShellCloud, id, user string) Means { return shell{c, id, user} }

type shell struct {
	cloud    ShellCloud
	id, user string
}

// run returns what a command wrote; ok is whether it ended with status 0.
func (s shell) run(ctx context.Context, input []byte, words ...string) (out []byte, ok bool, err error) {
	said, err := s.cloud.Shell(ctx, s.id, input, words...)
	if err != nil {
		return nil, false, err
	}
	return said.Output, said.Status == 0, nil
}

func (s shell) must(ctx context.Context, input []byte, words ...string) error {
	said, err := s.cloud.Shell(ctx, s.id, input, words...)
	if err == nil && said.Status != 0 {
		return fmt.Errorf("in the browser shell, %s", text.Line(said.Errors, text.MaxLine))
	}
	return err
}

// cat returns a file's content, which must be there.
func (s shell) cat(ctx context.Context, name string) ([]byte, error) {
	out, ok, err := s.run(ctx, nil, "cat", name)
	if err == nil && !ok {
		err = errors.New("the browser shell does not read " + name)
	}
	return out, err
}

// Read reads the files.
func (s shell) Read(ctx context.Context) (Seen, error) {
	users, err := s.cat(ctx, "/etc/passwd")
	if err != nil {
		return Seen{}, err
	}
	u, err := userIn(string(users), s.user)
	if err != nil {
		return Seen{}, err
	}
	settings, err := sshio.ReadSettings(shellConfig{s, ctx}, u)
	if err != nil {
		return Seen{}, err
	}
	home := u.Home
	paths, err := sshio.KeyFilesOf(settings, u)
	if err != nil {
		return Seen{}, err
	}
	out := Seen{Server: &settings.Server}
	for _, name := range sshio.FoldersAbove(home, paths) {
		st, err := s.stat(ctx, name)
		if err != nil {
			return Seen{}, err
		}
		switch {
		case st.kind == "directory":
			out.Folders = append(out.Folders, Folder{Path: name, Mode: st.mode})
		case st.kind != "" && name != home:
			return Seen{}, fmt.Errorf("%s is %w", name, sshio.ErrLink)
		}
	}
	left := budget{bytes: sshio.MaxFileBytes}
	for _, name := range paths {
		f, err := s.file(ctx, name)
		if err == nil {
			err = left.take(f)
		}
		if err != nil {
			return Seen{}, err
		}
		out.Files = append(out.Files, f)
	}
	return out, nil
}

func (s shell) file(ctx context.Context, name string) (File, error) {
	st, err := s.stat(ctx, name)
	if err != nil {
		return File{}, err
	}
	f := File{Path: name, There: st.regular(), Mode: st.mode}
	switch {
	case st.kind == "":
		return f, nil
	case !f.There:
		return f, fmt.Errorf("%s is %w", name, sshio.ErrLink)
	case st.owner != s.user && st.owner != "root":
		return f, fmt.Errorf("%s: %w", name, sshio.ErrOwner)
	case st.size > sshio.MaxFileBytes:
		return f, fmt.Errorf("%s has %d bytes; %d is the limit for all files of a login", name, st.size, sshio.MaxFileBytes)
	}
	f.Content, err = s.cat(ctx, name)
	return f, err
}

func (s shell) change(ctx context.Context, edit edit) (Seen, error) {
	before, err := s.Read(ctx)
	if err != nil {
		return Seen{}, err
	}
	all := parseAll(before.Files)
	for n, f := range before.Files {
		if n > 0 && !f.There {
			continue
		}
		edited, err := edit(all, f.Path, n == 0, all[n])
		if err != nil {
			return Seen{}, err
		}
		all[n] = edited
		if content := edited.Bytes(); !bytes.Equal(content, f.Content) {
			if err := s.replace(ctx, f, content); err != nil {
				return Seen{}, err
			}
		}
	}
	after, err := s.Read(ctx)
	if err != nil {
		return Seen{}, err
	}
	for n, f := range after.Files {
		if !bytes.Equal(f.Content, all[n].Bytes()) {
			return Seen{}, fmt.Errorf("%s reads back otherwise: %w", f.Path, sshio.ErrEdited)
		}
	}
	return after, nil
}

// replace writes the content beside the file and renames it over, if the file is still as
// it was read.
func (s shell) replace(ctx context.Context, f File, content []byte) error {
	mode := "600"
	if f.There {
		mode = fmt.Sprintf("%o", f.Mode)
	} else if err := s.makeFolder(ctx, path.Dir(f.Path)); err != nil {
		return err
	}
	beside := f.Path + sshio.BesideSuffix
	if err := s.must(ctx, content, "dd", "of="+beside, "conv=excl,fsync"); err != nil {
		// One that is there is somebody else's, or of a run that was interrupted.
		left, look := s.stat(ctx, beside)
		if look == nil && left.kind != "" {
			return errors.Join(fmt.Errorf("edit %s: %w", f.Path, sshio.ErrEdited), s.must(ctx, nil, "rm", beside))
		}
		return err
	}
	if err := s.ready(ctx, f, beside, mode, content); err != nil {
		return errors.Join(err, s.must(ctx, nil, "rm", beside))
	}
	return s.must(ctx, nil, "mv", "-T", beside, f.Path)
}

func (s shell) makeFolder(ctx context.Context, dir string) error {
	above, err := s.stat(ctx, dir)
	if err != nil || above.kind != "" {
		return err
	}
	if err := s.must(ctx, nil, "mkdir", dir); err != nil {
		return err
	}
	return s.must(ctx, nil, "chmod", "700", dir)
}

// ready sees that the file is still as it was read, and that what was written beside it is whole.
func (s shell) ready(ctx context.Context, f File, beside, mode string, content []byte) error {
	if err := s.must(ctx, nil, "chmod", mode, beside); err != nil {
		return err
	}
	now, there, err := s.run(ctx, nil, "cat", f.Path)
	if err != nil {
		return err
	}
	if there != f.There || there && !bytes.Equal(now, f.Content) {
		return fmt.Errorf("edit %s: %w", f.Path, sshio.ErrEdited)
	}
	wrote, err := s.cat(ctx, beside)
	if err != nil {
		return err
	}
	if !bytes.Equal(wrote, content) {
		return fmt.Errorf("edit %s: what was written beside it reads back otherwise: %w", f.Path, sshio.ErrEdited)
	}
	return nil
}

// fileStat is what stat(1) says of a path, without following a symbolic link.
type fileStat struct {
	// kind is in the words of stat(1), "" where there is nothing.
	kind  string
	mode  fs.FileMode
	owner string
	size  int64 // in bytes
}

func (f fileStat) regular() bool { return strings.HasPrefix(f.kind, "regular ") }

func (s shell) stat(ctx context.Context, name string) (fileStat, error) {
	out, ok, err := s.run(ctx, nil, "stat", "-c", "%s %a %U %F", name)
	if err != nil || !ok {
		return fileStat{}, err
	}
	fields := strings.SplitN(strings.TrimSpace(string(out)), " ", 4)
	odd := fmt.Errorf("stat %s says %q", name, text.Line(string(out), text.MaxLine))
	if len(fields) < 4 {
		return fileStat{}, odd
	}
	size, err := strconv.ParseInt(fields[0], 10, 64)
	if err != nil || size < 0 {
		return fileStat{}, odd
	}
	bits, err := strconv.ParseUint(fields[1], 8, 32)
	if err != nil {
		return fileStat{}, odd
	}
	return fileStat{kind: fields[3], mode: fs.FileMode(bits) & fs.ModePerm, owner: fields[2], size: size}, nil
}
