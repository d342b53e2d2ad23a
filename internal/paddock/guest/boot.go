package guest

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"golang.org/x/crypto/ssh"
	"gopkg.in/yaml.v3"

	"plumlatch/internal/adapter"
)

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

// FirstBoot applies user-data as cloud-init would, and returns what it wrote to
// the console. On the copy of another disk the keys that are in place there stay. Bad user-data is told there and
// places nothing, as on real images.
func (d *Disk) FirstBoot(image adapter.Image, userData string, copied bool) (string, error) {
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
	if err := d.Write("etc/ssh/sshd_config", []byte(settings), 0o644); err != nil {
		return "", err
	}
	fmt.Fprintf(&out, "cloud-init: placed %d keys for %s\n", len(config.Keys), image.LoginUser)
	return out.String(), nil
}

func (d *Disk) addUser(name string) error {
	users, err := d.users()
	if err != nil {
		return err
	}
	for _, u := range users {
		if u == name {
			return nil
		}
	}
	data, err := d.Root.ReadFile("etc/passwd")
	if err != nil {
		return err
	}
	line := fmt.Sprintf("%s:x:%d:%d::/home/%s:/bin/sh\n", name, 1000+len(users), 1000+len(users), name)
	if err := d.Write("etc/passwd", append(data, line...), 0o644); err != nil {
		return err
	}
	groups, err := d.Root.ReadFile("etc/group")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	group := fmt.Sprintf("%s:x:%d:\n", name, 1000+len(users))
	if err := d.Write("etc/group", append(groups, group...), 0o644); err != nil {
		return err
	}
	return d.Root.MkdirAll("home/"+name, 0o755)
}

func (d *Disk) placeKeys(user string, keys []string, copied bool) error {
	dir := strings.TrimPrefix(HomeOf(user), "/") + "/.ssh"
	if err := d.Root.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	text := ""
	if copied {
		if there, err := d.Root.ReadFile(dir + "/authorized_keys"); err == nil {
			text = string(there)
		}
	}
	for _, k := range keys {
		if !strings.Contains(text, k+"\n") {
			text += k + "\n"
		}
	}
	return d.Write(dir+"/authorized_keys", []byte(text), 0o600)
}

// Fingerprints writes the host keys as cloud-init does at the end of a boot.
func Fingerprints(hostname string, keys []ssh.Signer) string {
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

// FirstKeyIn returns the first public key that a user-data places; "" for none.
func FirstKeyIn(userData string) string {
	var config cloudConfig
	if yaml.Unmarshal([]byte(userData), &config) != nil || len(config.Keys) == 0 {
		return ""
	}
	return config.Keys[0]
}
