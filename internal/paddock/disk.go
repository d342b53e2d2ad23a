package paddock

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

	"go.yaml.in/yaml/v3"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/paddock/adapter"
)

// disk is an instance's root disk: a folder tree. Whoever runs paddockd owns
// the files; the owner that the instance sees follows from the path: a
// home folder belongs to its user, all else to root.
type disk struct {
	root  *os.Root
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
	return &disk{root, id, c.state}, nil
}

func (d *disk) close() { d.root.Close() }

// makeDisk lays out the image's files. Doing it again changes nothing.
func (c *Cloud) makeDisk(i instance, image adapter.Image) error {
	d, err := c.openDisk(i.Id)
	if err != nil {
		return err
	}
	defer d.close()
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
		if err := d.root.MkdirAll(path.Dir(f.name), 0o755); err != nil {
			return err
		}
		if err := d.write(f.name, []byte(f.text), f.mode); err != nil {
			return err
		}
	}
	if size := sizeNamed(i.Size); size.TemporaryDiskGib > 0 {
		if err := errors.Join(
			d.root.MkdirAll(scratch, 0o755),
			d.write(scratch+"/README", []byte("A temporary disk of "+i.Name+"\n"), 0o644),
		); err != nil {
			return err
		}
	}
	if err := d.root.MkdirAll("root", 0o700); err != nil {
		return err
	}
	return d.root.MkdirAll(strings.TrimPrefix(homeOf(image.LoginUser), "/"), 0o755)
}

// scratch is where the temporary disk is mounted.
const scratch = "mnt/scratch"

func (d *disk) write(name string, data []byte, mode fs.FileMode) error {
	f, err := d.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close(), d.root.Chmod(name, mode))
}

func homeOf(user string) string {
	if user == "root" {
		return "/root"
	}
	return "/home/" + user
}

// ownerOf returns the user who owns a path, which is absolute on the disk.
func ownerOf(name string) string {
	rest, ok := strings.CutPrefix(path.Clean("/"+name), "/home/")
	if !ok {
		return "root"
	}
	user, _, _ := strings.Cut(rest, "/")
	return user
}

// users returns the names in /etc/passwd.
func (d *disk) uidOf(user string) uint32 {
	data, err := d.root.ReadFile("etc/passwd")
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

func (d *disk) users() ([]string, error) {
	data, err := d.root.ReadFile("etc/passwd")
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

// makeHostKeys makes the keys that are missing. A disk keeps its own for good.
func (d *disk) makeHostKeys() error {
	if err := d.root.MkdirAll("etc/ssh", 0o755); err != nil {
		return err
	}
	for _, typ := range []string{"ed25519", "ecdsa"} {
		file := hostKeyPrefix + typ + "_key"
		if _, err := d.root.Stat(file); err == nil {
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
		if err := d.write(file, pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func (d *disk) removeHostKeys() error {
	return errors.Join(d.root.RemoveAll(hostKeyPrefix+"ed25519_key"), d.root.RemoveAll(hostKeyPrefix+"ecdsa_key"))
}

func (d *disk) hostKeys() ([]ssh.Signer, error) {
	var out []ssh.Signer
	for _, typ := range []string{"ed25519", "ecdsa"} {
		data, err := d.root.ReadFile(hostKeyPrefix + typ + "_key")
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

// cloudConfig is what the stand-in's guest understands of cloud-init's format.
type cloudConfig struct {
	PasswordLogin bool     `yaml:"ssh_pwauth"`
	DisableRoot   *bool    `yaml:"disable_root"`
	Keys          []string `yaml:"ssh_authorized_keys"`
	Password      string   `yaml:"password"`
	Users         []struct {
		Name string   `yaml:"name"`
		Keys []string `yaml:"ssh_authorized_keys"`
	} `yaml:"users"`
}

// firstBoot applies user-data as cloud-init would, and returns what it wrote to
// the console. On the copy of another disk the keys that are in place there stay. Bad user-data is told there and
// places nothing, as on real images.
func (d *disk) firstBoot(image adapter.Image, userData string, copied bool) (string, error) {
	var out bytes.Buffer
	var config cloudConfig
	switch {
	case userData == "":
		out.WriteString("cloud-init: no user-data\n")
	case !strings.HasPrefix(userData, "#cloud-config\n"):
		out.WriteString("cloud-init: user-data is not cloud-config: ignored\n")
	default:
		if err := yaml.Unmarshal([]byte(userData), &config); err != nil {
			fmt.Fprintf(&out, "cloud-init: user-data is not valid YAML: %v\n", err)
			config = cloudConfig{}
		}
	}
	rootLogin := config.DisableRoot != nil && !*config.DisableRoot && image.LoginUser != "root"
	if err := d.placeKeys(image.LoginUser, config.Keys, copied); err != nil {
		return "", err
	}
	for _, u := range config.Users {
		if u.Name == "" || u.Name == "default" || strings.ContainsAny(u.Name, "/:\n") {
			continue
		}
		if err := d.addUser(u.Name); err != nil {
			return "", err
		}
		if err := d.placeKeys(u.Name, u.Keys, copied); err != nil {
			return "", err
		}
	}
	if rootLogin {
		if err := d.placeKeys("root", config.Keys, copied); err != nil {
			return "", err
		}
	}
	if config.Password != "" {
		if err := d.setPassword(image.LoginUser, config.Password); err != nil {
			return "", err
		}
	}
	settings := "PasswordAuthentication no\n"
	if config.PasswordLogin {
		settings = "PasswordAuthentication yes\n"
	}
	if image.LoginUser != "root" && !rootLogin {
		settings += "PermitRootLogin no\n"
	}
	if err := d.write("etc/ssh/sshd_config", []byte(settings), 0o644); err != nil {
		return "", err
	}
	fmt.Fprintf(&out, "cloud-init: placed %d keys for %s\n", len(config.Keys), image.LoginUser)
	return out.String(), nil
}

func (d *disk) addUser(name string) error {
	users, err := d.users()
	if err != nil {
		return err
	}
	for _, u := range users {
		if u == name {
			return nil
		}
	}
	data, err := d.root.ReadFile("etc/passwd")
	if err != nil {
		return err
	}
	line := fmt.Sprintf("%s:x:%d:%d::/home/%s:/bin/sh\n", name, 1000+len(users), 1000+len(users), name)
	if err := d.write("etc/passwd", append(data, line...), 0o644); err != nil {
		return err
	}
	groups, err := d.root.ReadFile("etc/group")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	group := fmt.Sprintf("%s:x:%d:\n", name, 1000+len(users))
	if err := d.write("etc/group", append(groups, group...), 0o644); err != nil {
		return err
	}
	return d.root.MkdirAll("home/"+name, 0o755)
}

func (d *disk) placeKeys(user string, keys []string, copied bool) error {
	dir := strings.TrimPrefix(homeOf(user), "/") + "/.ssh"
	if err := d.root.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	text := ""
	if copied {
		if there, err := d.root.ReadFile(dir + "/authorized_keys"); err == nil {
			text = string(there)
		}
	}
	for _, k := range keys {
		if !strings.Contains(text, k+"\n") {
			text += k + "\n"
		}
	}
	return d.write(dir+"/authorized_keys", []byte(text), 0o600)
}

// fingerprints writes the host keys as cloud-init does at the end of a boot.
func fingerprints(hostname string, keys []ssh.Signer) string {
	var prints, lines strings.Builder
	for _, k := range keys {
		pub := k.PublicKey()
		name, bits := "ED25519", 256
		if pub.Type() != ssh.KeyAlgoED25519 {
			name = "ECDSA"
		}
		fmt.Fprintf(&prints, "%d %s root@%s (%s)\n", bits, ssh.FingerprintSHA256(pub), hostname, name)
		fmt.Fprintf(&lines, "%s root@%s\n", strings.TrimSpace(string(ssh.MarshalAuthorizedKey(pub))), hostname)
	}
	return "-----BEGIN SSH HOST KEY FINGERPRINTS-----\n" + prints.String() + "-----END SSH HOST KEY FINGERPRINTS-----\n" +
		"-----BEGIN SSH HOST KEY KEYS-----\n" + lines.String() + "-----END SSH HOST KEY KEYS-----\n"
}
