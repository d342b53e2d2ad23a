package guest

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

// View is a disk as one user may see and change it. It serves the sftp
// subsystem and the shell's commands.
type View struct {
	Disk *Disk
	User string
}

const (
	mayRead  = 4
	mayWrite = 2
	mayEnter = 1
)

// Relative returns a path as the folder tree takes it.
func Relative(name string) string {
	if r := strings.TrimPrefix(path.Clean("/"+name), "/"); r != "" {
		return r
	}
	return "."
}

// check returns fs.ErrPermission unless the user may do want with the file
// and enter every folder above it.
func (v *View) check(name string, want fs.FileMode) error {
	if v.User == "root" {
		return nil
	}
	name = path.Clean("/" + name)
	info, err := v.Disk.Root.Stat(Relative(name))
	if err != nil {
		return err
	}
	bits := info.Mode().Perm()
	if OwnerOf(name) == v.User {
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
func (v *View) checkPlace(name string) error {
	return v.check(path.Dir(path.Clean("/"+name)), mayWrite|mayEnter)
}

// Read reads a file with the rights of the user.
func (v *View) Read(name string) ([]byte, error) {
	if err := v.check(name, mayRead); err != nil {
		return nil, err
	}
	return v.Disk.Root.ReadFile(Relative(name))
}

func (v *View) list(name string) ([]fs.FileInfo, error) {
	if err := v.check(name, mayRead|mayEnter); err != nil {
		return nil, err
	}
	f, err := v.Disk.Root.Open(Relative(name))
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
		entries[i] = owned{e, v.Disk.uidOf(OwnerOf(path.Join(name, e.Name())))}
	}
	return entries, nil
}

// Fileread opens a file for an sftp client.
func (v *View) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	if err := v.check(r.Filepath, mayRead); err != nil {
		return nil, err
	}
	return v.Disk.Root.Open(Relative(r.Filepath))
}

// Filewrite opens or makes a file for an sftp client.
func (v *View) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := os.O_WRONLY
	pflags := r.Pflags()
	for set, flag := range map[int]bool{os.O_CREATE: pflags.Creat, os.O_TRUNC: pflags.Trunc, os.O_EXCL: pflags.Excl} {
		if flag {
			flags |= set
		}
	}
	_, err := v.Disk.Root.Lstat(Relative(r.Filepath))
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
	return v.Disk.Root.OpenFile(Relative(r.Filepath), flags, mode)
}

// Filecmd changes names and attributes for an sftp client.
func (v *View) Filecmd(r *sftp.Request) error {
	name := Relative(r.Filepath)
	switch r.Method {
	case "Setstat":
		return v.setstat(r, name)
	case "Rename":
		if _, err := v.Disk.Root.Lstat(Relative(r.Target)); err == nil {
			return fs.ErrExist
		}
		return v.PosixRename(r)
	case "Remove", "Rmdir":
		if err := v.checkPlace(r.Filepath); err != nil {
			return err
		}
		return v.Disk.Root.Remove(name)
	case "Mkdir":
		if err := v.checkPlace(r.Filepath); err != nil {
			return err
		}
		return v.Disk.Root.Mkdir(name, 0o755)
	case "Symlink":
		if err := v.checkPlace(r.Target); err != nil {
			return err
		}
		return v.Disk.Root.Symlink(r.Filepath, Relative(r.Target))
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename renames over what is there, as posix-rename@openssh.com asks.
func (v *View) PosixRename(r *sftp.Request) error {
	if err := errors.Join(v.checkPlace(r.Filepath), v.checkPlace(r.Target)); err != nil {
		return fs.ErrPermission
	}
	return v.Disk.Root.Rename(Relative(r.Filepath), Relative(r.Target))
}

func (v *View) setstat(r *sftp.Request, name string) error {
	if v.User != "root" && OwnerOf(r.Filepath) != v.User {
		return fs.ErrPermission
	}
	flags, attrs := r.AttrFlags(), r.Attributes()
	if flags.Permissions {
		if err := v.Disk.Root.Chmod(name, attrs.FileMode().Perm()); err != nil {
			return err
		}
	}
	if flags.Size {
		f, err := v.Disk.Root.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(f.Truncate(int64(attrs.Size)), f.Close())
	}
	if flags.UidGid && attrs.UID != v.Disk.uidOf(OwnerOf(r.Filepath)) {
		return fs.ErrPermission
	}
	return nil
}

// Filelist lists a folder or tells of one file for an sftp client.
func (v *View) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	switch r.Method {
	case "List":
		entries, err := v.list(r.Filepath)
		return entryList(entries), err
	case "Stat":
		if err := v.check(path.Dir(path.Clean("/"+r.Filepath)), mayEnter); err != nil {
			return nil, err
		}
		info, err := v.Disk.Root.Stat(Relative(r.Filepath))
		if err != nil {
			return nil, err
		}
		return entryList{owned{info, v.Disk.uidOf(OwnerOf(r.Filepath))}}, nil
	case "Readlink":
		target, err := v.Disk.Root.Readlink(Relative(r.Filepath))
		if err != nil {
			return nil, err
		}
		return entryList{linkTarget{target: target}}, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// Lstat tells of a file without following a symbolic link.
func (v *View) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	if err := v.check(path.Dir(path.Clean("/"+r.Filepath)), mayEnter); err != nil {
		return nil, err
	}
	info, err := v.Disk.Root.Lstat(Relative(r.Filepath))
	if err != nil {
		return nil, err
	}
	return entryList{owned{info, v.Disk.uidOf(OwnerOf(r.Filepath))}}, nil
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
