package paddock

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"

	"github.com/pkg/sftp"
)

// view is a disk as one user may see and change it. It serves the sftp
// subsystem and the shell's commands.
type view struct {
	disk *disk
	user string
}

const (
	mayRead  = 4
	mayWrite = 2
	mayEnter = 1
)

func relative(name string) string {
	if r := strings.TrimPrefix(path.Clean("/"+name), "/"); r != "" {
		return r
	}
	return "."
}

// check returns fs.ErrPermission unless the user may do want with the file
// and enter every folder above it.
func (v *view) check(name string, want fs.FileMode) error {
	if v.user == "root" {
		return nil
	}
	name = path.Clean("/" + name)
	info, err := v.disk.root.Stat(relative(name))
	if err != nil {
		return err
	}
	bits := info.Mode().Perm()
	if ownerOf(name) == v.user {
		bits >>= 6
	}
	if bits&want != want {
		return fs.ErrPermission
	}
	if name == "/" {
		return nil
	}
	return v.check(path.Dir(name), mayEnter)
}

// checkPlace returns nil if the user may make, remove or rename the entry.
func (v *view) checkPlace(name string) error {
	return v.check(path.Dir(path.Clean("/"+name)), mayWrite|mayEnter)
}

func (v *view) read(name string) ([]byte, error) {
	if err := v.check(name, mayRead); err != nil {
		return nil, err
	}
	return v.disk.root.ReadFile(relative(name))
}

func (v *view) list(name string) ([]fs.FileInfo, error) {
	if err := v.check(name, mayRead|mayEnter); err != nil {
		return nil, err
	}
	f, err := v.disk.root.Open(relative(name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.Readdir(-1)
	if err != nil {
		return nil, err
	}
	sort.Slice(entries, func(a, b int) bool { return entries[a].Name() < entries[b].Name() })
	for i, e := range entries {
		entries[i] = owned{e, v.disk.uidOf(ownerOf(path.Join(name, e.Name())))}
	}
	return entries, nil
}

// Fileread opens a file for an sftp client.
func (v *view) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	if err := v.check(r.Filepath, mayRead); err != nil {
		return nil, err
	}
	return v.disk.root.Open(relative(r.Filepath))
}

// Filewrite opens or makes a file for an sftp client.
func (v *view) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := os.O_WRONLY
	pflags := r.Pflags()
	for set, flag := range map[int]bool{os.O_CREATE: pflags.Creat, os.O_TRUNC: pflags.Trunc, os.O_EXCL: pflags.Excl} {
		if flag {
			flags |= set
		}
	}
	_, err := v.disk.root.Lstat(relative(r.Filepath))
	if errors.Is(err, fs.ErrNotExist) {
		err = v.checkPlace(r.Filepath)
	} else if err == nil {
		err = v.check(r.Filepath, mayWrite)
	}
	if err != nil {
		return nil, err
	}
	mode := fs.FileMode(0o644)
	if r.AttrFlags().Permissions {
		mode = r.Attributes().FileMode().Perm()
	}
	return v.disk.root.OpenFile(relative(r.Filepath), flags, mode)
}

// Filecmd changes names and attributes for an sftp client.
func (v *view) Filecmd(r *sftp.Request) error {
	name := relative(r.Filepath)
	switch r.Method {
	case "Setstat":
		return v.setstat(r, name)
	case "Rename":
		if _, err := v.disk.root.Lstat(relative(r.Target)); err == nil {
			return fs.ErrExist
		}
		return v.PosixRename(r)
	case "Remove", "Rmdir":
		if err := v.checkPlace(r.Filepath); err != nil {
			return err
		}
		return v.disk.root.Remove(name)
	case "Mkdir":
		if err := v.checkPlace(r.Filepath); err != nil {
			return err
		}
		return v.disk.root.Mkdir(name, 0o755)
	case "Symlink":
		if err := v.checkPlace(r.Target); err != nil {
			return err
		}
		return v.disk.root.Symlink(r.Filepath, relative(r.Target))
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename renames over what is there, as posix-rename@openssh.com asks.
func (v *view) PosixRename(r *sftp.Request) error {
	if err := errors.Join(v.checkPlace(r.Filepath), v.checkPlace(r.Target)); err != nil {
		return fs.ErrPermission
	}
	return v.disk.root.Rename(relative(r.Filepath), relative(r.Target))
}

func (v *view) setstat(r *sftp.Request, name string) error {
	if v.user != "root" && ownerOf(r.Filepath) != v.user {
		return fs.ErrPermission
	}
	flags, attrs := r.AttrFlags(), r.Attributes()
	if flags.Permissions {
		if err := v.disk.root.Chmod(name, attrs.FileMode().Perm()); err != nil {
			return err
		}
	}
	if flags.Size {
		f, err := v.disk.root.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(f.Truncate(int64(attrs.Size)), f.Close())
	}
	if flags.UidGid && attrs.UID != v.disk.uidOf(ownerOf(r.Filepath)) {
		return fs.ErrPermission
	}
	return nil
}

// Filelist lists a folder or tells of one file for an sftp client.
func (v *view) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	switch r.Method {
	case "List":
		entries, err := v.list(r.Filepath)
		return entryList(entries), err
	case "Stat":
		if err := v.check(path.Dir(path.Clean("/"+r.Filepath)), mayEnter); err != nil {
			return nil, err
		}
		info, err := v.disk.root.Stat(relative(r.Filepath))
		if err != nil {
			return nil, err
		}
		return entryList{owned{info, v.disk.uidOf(ownerOf(r.Filepath))}}, nil
	case "Readlink":
		target, err := v.disk.root.Readlink(relative(r.Filepath))
		if err != nil {
			return nil, err
		}
		return entryList{linkTarget{target: target}}, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// Lstat tells of a file without following a symbolic link.
func (v *view) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	if err := v.check(path.Dir(path.Clean("/"+r.Filepath)), mayEnter); err != nil {
		return nil, err
	}
	info, err := v.disk.root.Lstat(relative(r.Filepath))
	if err != nil {
		return nil, err
	}
	return entryList{owned{info, v.disk.uidOf(ownerOf(r.Filepath))}}, nil
}

// owned is a FileInfo with the owner that the instance sees.
type owned struct {
	fs.FileInfo
	owner uint32
}

func (o owned) Uid() uint32 { return o.owner }
func (o owned) Gid() uint32 { return o.owner }

type linkTarget struct {
	fs.FileInfo
	target string
}

func (l linkTarget) Name() string { return l.target }

type entryList []fs.FileInfo

// ListAt gives out the entries from offset on.
func (l entryList) ListAt(out []fs.FileInfo, offset int64) (int, error) {
	if offset >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[offset:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}
