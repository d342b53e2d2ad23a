package guest

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
)

// manage does the commands that change files, with the rights of the view's user.
func (s *session) manage(v *View, args []string, out io.Writer) error {
	input := s.input
	if input == nil {
		input = strings.NewReader("")
	}
	last := args[len(args)-1]
	name := absolute(last, v.User)
	switch args[0] {
	case "sync", "systemctl":
		return nil
	case "chpasswd":
		if v.User != "root" {
			return fs.ErrPermission
		}
		data, err := io.ReadAll(io.LimitReader(input, 4096))
		if err != nil {
			return err
		}
		user, password, ok := strings.Cut(strings.TrimSpace(string(data)), ":")
		if !ok {
			return errors.New("a line USER:PASSWORD is needed")
		}
		return v.Disk.setPassword(user, password)
	case "stat": // stat -c '%s %a %U %F' FILE
		if err := v.check(path.Dir(name), mayEnter); err != nil {
			return err
		}
		info, err := v.Disk.Root.Lstat(Relative(name))
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(out, "%d %o %s %s\n", info.Size(), info.Mode().Perm(), OwnerOf(name), kindOf(info))
		return err
	case "mkdir":
		if err := v.checkPlace(name); err != nil {
			return err
		}
		return v.Disk.Root.Mkdir(Relative(name), 0o755)
	case "rm":
		if err := v.checkPlace(name); err != nil {
			return err
		}
		return v.Disk.Root.Remove(Relative(name))
	case "chmod":
		mode, err := strconv.ParseUint(args[1], 8, 32)
		if err != nil || len(args) != 3 {
			return errors.New("chmod MODE FILE")
		}
		if v.User != "root" && OwnerOf(name) != v.User {
			return fs.ErrPermission
		}
		return v.Disk.Root.Chmod(Relative(name), fs.FileMode(mode)&fs.ModePerm)
	case "mv": // mv -T FROM TO
		from := absolute(args[len(args)-2], v.User)
		if err := errors.Join(v.checkPlace(from), v.checkPlace(name)); err != nil {
			return fs.ErrPermission
		}
		return v.Disk.Root.Rename(Relative(from), Relative(name))
	}
	// tee FILE, or dd of=FILE conv=excl,fsync
	flags := os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	if args[0] == "dd" {
		for _, a := range args[1:] {
			if of, is := strings.CutPrefix(a, "of="); is {
				name = absolute(of, v.User)
			}
			if strings.HasPrefix(a, "conv=") && strings.Contains(a, "excl") {
				flags |= os.O_EXCL
			}
		}
	}
	data, err := io.ReadAll(io.LimitReader(input, MaxFile))
	if err != nil {
		return err
	}
	may := v.checkPlace(name)
	if _, err := v.Disk.Root.Lstat(Relative(name)); err == nil {
		may = v.check(name, mayWrite)
	}
	if may != nil {
		return may
	}
	f, err := v.Disk.Root.OpenFile(Relative(name), flags, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Sync(), f.Close())
}

// kindOf names the kind of a file as stat(1) of coreutils does.
func kindOf(info fs.FileInfo) string {
	switch {
	case info.IsDir():
		return "directory"
	case info.Mode()&fs.ModeSymlink != 0:
		return "symbolic link"
	case !info.Mode().IsRegular():
		return "special file"
	case info.Size() == 0:
		return "regular empty file"
	}
	return "regular file"
}
