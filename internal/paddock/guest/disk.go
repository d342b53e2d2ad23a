// Package guest is the inside of a stand-in instance: its disk, the users and keys on it, its SSH server, and the few
// commands that it knows.
package guest

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
)

// MaxFile is the greatest file that is written or given out, in bytes.
const MaxFile = 1 << 20

// Disk is an instance's root disk: a folder tree. Whoever runs paddockd owns
// the files; the owner that the instance sees follows from the path: a
// home folder belongs to its user, all else to root.
type Disk struct {
	Root *os.Root
	// LabelOf returns the security label of a file, "" for the one that its place asks for.
	LabelOf func(name string) string
}

// Close closes the disk.
func (d *Disk) Close() { d.Root.Close() }

// Write writes a file and sets its mode.
func (d *Disk) Write(name string, data []byte, mode fs.FileMode) error {
	f, err := d.Root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close(), d.Root.Chmod(name, mode))
}

// HomeOf returns the home folder of a user.
func HomeOf(user string) string {
	if user == "root" {
		return "/root"
	}
	return "/home/" + user
}

// OwnerOf returns the user who owns a path, which is absolute on the disk.
func OwnerOf(name string) string {
	rest, ok := strings.CutPrefix(path.Clean("/"+name), "/home/")
	if !ok {
		return "root"
	}
	user, _, _ := strings.Cut(rest, "/")
	return user
}

func (d *Disk) uidOf(user string) uint32 {
	data, err := d.Root.ReadFile("etc/passwd")
	if user == "root" || err != nil {
		return 0
	}
	for l := range strings.Lines(string(data)) {
		fields := strings.Split(l, ":")
		if n, err := strconv.ParseUint(fields[min(2, len(fields)-1)], 10, 32); fields[0] == user && err == nil {
			return uint32(n)
		}
	}
	return 1000
}

// users returns the names in /etc/passwd.
func (d *Disk) users() ([]string, error) {
	data, err := d.Root.ReadFile("etc/passwd")
	if err != nil {
		return nil, err
	}
	var out []string
	for l := range strings.Lines(string(data)) {
		if name, _, ok := strings.Cut(l, ":"); ok {
			out = append(out, name)
		}
	}
	return out, nil
}

const hostKeyPrefix = "etc/ssh/ssh_host_"

// MakeHostKeys makes the keys that are missing. A disk keeps its own for good.
func (d *Disk) MakeHostKeys() error {
	if err := d.Root.MkdirAll("etc/ssh", 0o755); err != nil {
		return err
	}
	for _, typ := range []string{"ed25519", "ecdsa"} {
		file := hostKeyPrefix + typ + "_key"
		if _, err := d.Root.Stat(file); err == nil {
			continue
		}
		var block *pem.Block
		var key any
		var err error
		if typ == "ed25519" {
			_, key, err = ed25519.GenerateKey(rand.Reader)
		} else {
			key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		}
		if err != nil {
			return err
		}
		if block, err = ssh.MarshalPrivateKey(key, ""); err != nil {
			return err
		}
		if err := d.Write(file, pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// RemoveHostKeys has new ones made at the next boot.
func (d *Disk) RemoveHostKeys() error {
	return errors.Join(d.Root.RemoveAll(hostKeyPrefix+"ed25519_key"), d.Root.RemoveAll(hostKeyPrefix+"ecdsa_key"))
}

// HostKeys reads the host keys.
func (d *Disk) HostKeys() ([]ssh.Signer, error) {
	var out []ssh.Signer
	for _, typ := range []string{"ed25519", "ecdsa"} {
		data, err := d.Root.ReadFile(hostKeyPrefix + typ + "_key")
		if err != nil {
			return nil, err
		}
		s, err := ssh.ParsePrivateKey(data)
		if err != nil {
			return nil, fmt.Errorf("host key %s: %w", typ, err)
		}
		out = append(out, s)
	}
	return out, nil
}

// LinkIn returns the first part of the path that is a symbolic link below the user's home
// folder, or the last part where that is one; "" where nothing is.
func (d *Disk) LinkIn(name, user string) (string, error) {
	home := ""
	if user != "" {
		home = HomeOf(user)
	}
	for at := name; at != "/"; at = path.Dir(at) {
		if at != name && (home == "" || !strings.HasPrefix(at, home+"/")) {
			break
		}
		info, err := d.Root.Lstat(Relative(at))
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return "", err
		case info.Mode()&fs.ModeSymlink != 0:
			return at, nil
		}
	}
	return "", nil
}

// ErrChanged is returned where a file is not what a writer took it for.
var ErrChanged = errors.New("the file has changed since it was read")

// MayReplace refuses what would lead elsewhere, and what the owner may not do: the nearest
// folder above that is there has to let them in and change it.
func (d *Disk) MayReplace(name, owner string) error {
	link, err := d.LinkIn(name, owner)
	if err != nil {
		return err
	}
	if link != "" {
		return fmt.Errorf("%s is a symbolic link, which is not followed", link)
	}
	if _, err := d.Root.Lstat(Relative(name)); err == nil {
		if by := OwnerOf(name); by != owner && by != "root" {
			return fmt.Errorf("it belongs to %s", by)
		}
	}
	v := &View{Disk: d, User: owner}
	for above := path.Dir(name); ; above = path.Dir(above) {
		_, err := d.Root.Lstat(Relative(above))
		if errors.Is(err, fs.ErrNotExist) && above != "/" {
			continue
		}
		if err == nil {
			err = v.check(above, mayWrite|mayEnter)
		}
		if err != nil {
			return fmt.Errorf("%s may not change %s: %w", owner, above, err)
		}
		return nil
	}
}

// Replace writes a file beside the old one and renames it over, where the old one still is what it was.
func (d *Disk) Replace(name string, was, content []byte, mode fs.FileMode) error {
	info, err := d.Root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if len(was) > 0 {
			return ErrChanged
		}
		if err := d.Root.MkdirAll(path.Dir(name), 0o700); err != nil {
			return err
		}
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return errors.New("it is not a regular file")
	default:
		mode = info.Mode().Perm()
		now, err := d.Root.ReadFile(name)
		if err != nil {
			return err
		}
		if !bytes.Equal(now, was) {
			return ErrChanged
		}
	}
	beside := name + ".plumlatch-edit" // there, somebody edits it from outside
	f, err := d.Root.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil {
		err = d.Root.Rename(beside, name)
	}
	if err != nil {
		return errors.Join(err, d.Root.Remove(beside))
	}
	return nil
}
