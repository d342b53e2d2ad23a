package image

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/core/text"
	"plumlatch/internal/croft"
)

// Build makes an image, or finds one that was made by the same recipe, in a folder: NAME.qcow2, and NAME.image.yaml
// that tells of it. say is told what is being done.
func Build(
	ctx context.Context,
	name string,
	quick bool,
	cache string,
	say func(string),
) (about string, err error) {
	r, err := recipeFor(name, quick)
	if err != nil {
		return "", err
	}
	folder := filepath.Join(cache, name+"-"+r.digest()[:16])
	told := croft.Image{
		Name: name, Title: title(name), LoginUser: "debian", Agent: true, FileSystem: r.fileSystem(), FileSystemUUID: r.UUID,
		KeyTypes: []string{"ed25519", "ecdsa", "rsa", "sk-ed25519", "sk-ecdsa"}, Container: r.Container,
	}
	if !r.Container {
		told.Partition = 1
	}
	about = filepath.Join(folder, name+".image.yaml")
	if _, err := os.Stat(about); err == nil {
		say("it is there already: " + folder)
		return about, nil
	}
	if err := possible(); err != nil {
		return "", err
	}
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return "", err
	}
	work, err := os.MkdirTemp(cache, "making-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(work)
	b := &builder{ctx, r, cache, work, filepath.Join(work, "root"), say}
	made := filepath.Join(work, name)
	if err := os.Mkdir(made, 0o755); err != nil {
		return "", err
	}
	if err := b.build(filepath.Join(made, told.Volume())); err != nil {
		return "", err
	}
	if told.SHA256, err = digestOf(filepath.Join(made, told.Volume())); err != nil {
		return "", err
	}
	text, err := yaml.Marshal(told)
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(made, name+".image.yaml"), text, 0o644); err != nil {
		return "", err
	}
	return about, os.Rename(made, folder)
}

// title is what people call an image.
func title(name string) string {
	release, container := strings.CutSuffix(strings.TrimPrefix(name, "debian-"), containerSuffix)
	release, xfs := strings.CutSuffix(release, xfsSuffix)
	switch {
	case container:
		release += ", a container"
	case xfs:
		release += " on XFS"
	}
	return "Debian " + release
}

// possible reports what is missing on this machine.
func possible() error {
	if os.Getuid() != 0 {
		return errors.New("an image is made by root, who may give files to others")
	}
	var missing []string
	for program, pack := range Needs {
		if _, err := os.Stat(program); err == nil {
			continue
		}
		if _, err := exec.LookPath(program); err != nil {
			missing = append(missing, pack)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("packages are missing; install them: apt-get install %s", strings.Join(missing, " "))
	}
	return nil
}

func digestOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// builder is an image on its way.
type builder struct {
	ctx    context.Context
	recipe recipe
	// cache is where images are kept, and work where this one is made.
	cache, work, root string
	say               func(string)
}

func (b *builder) run(input string, command ...string) error {
	_, err := b.ran(input, command...)
	return err
}

func (b *builder) output(command ...string) (string, error) { return b.ran("", command...) }

func (b *builder) ran(input string, command ...string) (string, error) {
	c := exec.CommandContext(b.ctx, command[0], command[1:]...)
	c.Env = append(os.Environ(), "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8")
	c.Stdin = strings.NewReader(input)
	out, err := c.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", command[0], err, text.Line(string(out[max(0, len(out)-400):]), 400))
	}
	return string(out), nil
}

func (b *builder) build(into string) error {
	from, err := mirror("/")
	if err != nil {
		return err
	}
	unpacked := filepath.Join(b.cache, b.recipe.packagesFile())
	if _, err := os.Stat(unpacked); err != nil {
		b.say("fetching and unpacking Debian's packages")
		fresh := filepath.Join(b.work, "packages.tar")
		err = b.run("", "mmdebstrap", "--mode=root", "--variant=minbase",
			"--aptopt=APT::Install-Recommends \"false\"", "--aptopt=Acquire::Languages \"none\"",
			"--dpkgopt=path-exclude=/usr/share/doc/*", "--dpkgopt=path-exclude=/usr/share/man/*",
			"--dpkgopt=path-exclude=/usr/share/locale/*", "--dpkgopt=path-exclude=/usr/share/info/*",
			"--include="+strings.Join(b.recipe.Packages, ","), b.recipe.Suite, fresh, from)
		if err != nil {
			return err
		}
		if err := os.Rename(fresh, unpacked); err != nil {
			return err
		}
	}
	b.say("setting it up")
	if err := os.Mkdir(b.root, 0o755); err != nil {
		return err
	}
	err = b.run("", "tar", "--extract", "--preserve-permissions", "--numeric-owner", "--xattrs", "--xattrs-include=*",
		"--directory", b.root, "--file", unpacked)
	if err != nil {
		return err
	}
	if err := b.setUp(); err != nil {
		return err
	}
	b.say("making the disk")
	if b.recipe.Container {
		return b.fileSystem(into)
	}
	return b.disk(into)
}

// setUp does what a public image would have done; nothing of Debian's is replaced.
func (b *builder) setUp() error {
	for path, content := range b.recipe.Files {
		path = filepath.Join(b.root, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			return err
		}
	}
	keys, err := filepath.Glob(filepath.Join(b.root, "etc/ssh/ssh_host_*"))
	if err != nil {
		return err
	}
	for _, path := range append(keys, filepath.Join(b.root, "var/lib/dbus/machine-id")) {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	for _, unit := range b.recipe.Masked {
		path := filepath.Join(b.root, "etc/systemd/system", unit)
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		if err := os.Symlink("/dev/null", path); err != nil {
			return err
		}
	}
	if err := b.run("", "chroot", b.root, "systemctl", "enable", "systemd-networkd.service"); err != nil {
		return err
	}
	if b.recipe.Container {
		return b.run("", "chroot", b.root, "systemctl", "enable", agentService)
	}
	return b.run("", "chroot", b.root, "update-initramfs", "-u")
}

// fileSystem makes a file with an ext4 file system and nothing else.
func (b *builder) fileSystem(into string) error {
	return b.run("", "mke2fs", "-q", "-t", "ext4", "-U", b.recipe.UUID, "-L", "root", "-m", "0", "-d", b.root, into,
		fmt.Sprintf("%dM", b.recipe.MiB))
}

// sector is where the file system begins, in sectors of 512 bytes: behind the boot record and GRUB.
const sector = 2048

// disk makes an MBR disk with GRUB and one ext4 file system.
func (b *builder) disk(into string) error {
	kernel, err := only(filepath.Join(b.root, "boot/vmlinuz-*"))
	if err != nil {
		return err
	}
	initrd, err := only(filepath.Join(b.root, "boot/initrd.img-*"))
	if err != nil {
		return err
	}
	menu := fmt.Sprintf(`set timeout=0
serial --unit=0 --speed=115200
terminal_output serial
search --no-floppy --fs-uuid --set=root %s
linux /boot/%s %s
initrd /boot/%s
boot
`, b.recipe.UUID, filepath.Base(kernel), b.recipe.Line, filepath.Base(initrd))
	if err := os.MkdirAll(filepath.Join(b.root, "boot/grub"), 0o755); err != nil {
		return err
	}
	early := fmt.Sprintf(
		"search --no-floppy --fs-uuid --set=root %s\nset prefix=($root)/boot/grub\nconfigfile ($root)/boot/grub/grub.cfg\n",
		b.recipe.UUID,
	)
	raw, core := filepath.Join(b.work, "disk.raw"), filepath.Join(b.work, "core.img")
	earlyFile := filepath.Join(b.work, "early.cfg")
	if err := errors.Join(
		os.WriteFile(filepath.Join(b.root, "boot/grub/grub.cfg"), []byte(menu), 0o644),
		os.WriteFile(earlyFile, []byte(early), 0o644), os.WriteFile(raw, nil, 0o644),
		os.Truncate(raw, int64(b.recipe.MiB)<<20),
	); err != nil {
		return err
	}
	if err := b.run(fmt.Sprintf("%d,,L,*\n", sector), "sfdisk", "-q", raw); err != nil {
		return err
	}
	reads := "ext2"
	if b.recipe.XFS {
		reads = "xfs"
		err = b.fillXFS(raw)
	} else {
		err = b.run("", "mke2fs", "-q", "-t", "ext4", "-U", b.recipe.UUID, "-L", "root", "-O", "^metadata_csum_seed",
			"-E", fmt.Sprintf("offset=%d,lazy_itable_init=1,lazy_journal_init=1", sector*512), "-d", b.root, raw,
			fmt.Sprintf("%dk", b.recipe.MiB<<10-sector/2))
	}
	if err != nil {
		return err
	}
	err = b.run("", "grub-mkimage", "-O", "i386-pc", "-p", "/boot/grub", "-c", earlyFile, "-o", core, "biosdisk",
		"part_msdos", reads, "search", "search_fs_uuid", "linux", "normal", "configfile", "serial", "terminal", "boot")
	if err != nil {
		return err
	}
	if err := putGRUB(raw, core); err != nil {
		return err
	}
	return b.run("", "qemu-img", "convert", "-O", "qcow2", raw, into)
}

// fillXFS makes an XFS file system in the partition of a disk, and copies the root into it. Features that GRUB 2.06
// does not read are left out.
func (b *builder) fillXFS(raw string) error {
	loop, err := b.output("losetup", "--find", "--show", "--offset", fmt.Sprint(sector*512), raw)
	if err != nil {
		return err
	}
	loop = strings.TrimSpace(loop)
	at := filepath.Join(b.work, "mounted")
	err = errors.Join(
		os.MkdirAll(at, 0o755),
		b.run(
			"",
			"mkfs.xfs",
			"-q",
			"-m",
			"uuid="+b.recipe.UUID+",bigtime=0,inobtcount=0",
			"-i",
			"nrext64=0",
			"-L",
			"root",
			loop,
		),
	)
	if err == nil {
		if err = b.run("", "mount", "-t", "xfs", loop, at); err == nil {
			err = errors.Join(b.run("", "cp", "-a", b.root+"/.", at), b.run("", "umount", at))
		}
	}
	return errors.Join(err, b.run("", "losetup", "--detach", loop))
}

// putGRUB writes GRUB's boot record before the table of partitions, and its core behind that.
func putGRUB(raw, core string) error {
	record, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
	if err != nil {
		return err
	}
	rest, err := os.ReadFile(core)
	if err != nil {
		return err
	}
	if len(record) < 440 || len(rest) > (sector-1)*512 {
		return fmt.Errorf("GRUB's boot record has %d bytes and its core %d", len(record), len(rest))
	}
	f, err := os.OpenFile(raw, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, first := f.WriteAt(record[:440], 0)
	_, second := f.WriteAt(rest, 512)
	return errors.Join(first, second, f.Close())
}

func only(pattern string) (string, error) {
	found, err := filepath.Glob(pattern)
	if err == nil && len(found) != 1 {
		err = fmt.Errorf("%s: %d files, want one", pattern, len(found))
	}
	if err != nil {
		return "", err
	}
	return found[0], nil
}
