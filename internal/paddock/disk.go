package paddock

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"plumlatch/internal/adapter"
	"plumlatch/internal/paddock/guest"
)

// disk is one disk of the cloud, with what is on it.
type disk struct {
	*guest.Disk
	id    string
	state *state
}

// openDisk opens the disk that the instance was launched with.
func (c *Cloud) openDisk(id string) (*disk, error) {
	i, err := c.state.instance(id)
	if err != nil {
		return nil, err
	}
	return c.openDiskNamed(i.RootDisk)
}

func (c *Cloud) openDiskNamed(id string) (*disk, error) {
	record, err := c.state.disk(id)
	if err != nil {
		return nil, fmt.Errorf("disk %s: %w", id, err)
	}
	root, err := os.OpenRoot(c.folder(record))
	if err != nil {
		return nil, fmt.Errorf("open the disk %s: %w", id, err)
	}
	d := &disk{&guest.Disk{Root: root}, id, c.state}
	d.LabelOf = d.labelOf
	return d, nil
}

// makeDisk lays out the image's files. Doing it again changes nothing.
func (c *Cloud) makeDisk(i instance, image adapter.Image) error {
	d, err := c.openDisk(i.Id)
	if err != nil {
		return err
	}
	defer d.Close()
	passwd, group := "root:x:0:0:root:/root:/bin/sh\n", "root:x:0:\n"
	if image.LoginUser != "root" {
		group += image.LoginUser + ":x:1000:\n"
		passwd += fmt.Sprintf("%s:x:1000:1000::/home/%s:/bin/sh\n", image.LoginUser, image.LoginUser)
	}
	for _, f := range []struct {
		name, text string
		mode       fs.FileMode
	}{
		{"etc/passwd", passwd, 0o644},
		{"etc/group", group, 0o644},
		{"etc/nsswitch.conf", "passwd: files\ngroup: files\n", 0o644},
		{"usr/lib/openssh/sftp-server", "a stand-in's, which is not run\n", 0o755},
		{"etc/hostname", i.Name + "\n", 0o644},
		{"etc/os-release", fmt.Sprintf("PRETTY_NAME=%q\n", image.Title), 0o644},
		{"srv/README", "Application data of " + i.Name + "\n", 0o644},
	} {
		if err := d.Root.MkdirAll(path.Dir(f.name), 0o755); err != nil {
			return err
		}
		if err := d.Write(f.name, []byte(f.text), f.mode); err != nil {
			return err
		}
	}
	if size := sizeNamed(i.Size); size.TemporaryDiskGib > 0 {
		if err := errors.Join(
			d.Root.MkdirAll(scratch, 0o755),
			d.Write(scratch+"/README", []byte("A temporary disk of "+i.Name+"\n"), 0o644),
		); err != nil {
			return err
		}
	}
	if err := d.Root.MkdirAll("root", 0o700); err != nil {
		return err
	}
	return d.Root.MkdirAll(strings.TrimPrefix(guest.HomeOf(image.LoginUser), "/"), 0o755)
}

// scratch is where the temporary disk is mounted.
const scratch = "mnt/scratch"
