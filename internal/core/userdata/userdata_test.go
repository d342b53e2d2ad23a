package userdata

import (
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

type parsed struct {
	PasswordLogin *bool    `yaml:"ssh_pwauth"`
	DisableRoot   *bool    `yaml:"disable_root"`
	Keys          []string `yaml:"ssh_authorized_keys"`
}

func render(t *testing.T, c Config) parsed {
	t.Helper()
	out, err := Render(c)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(out, "#cloud-config\n") {
		t.Fatalf("no cloud-config header: %q", out)
	}
	var p parsed
	if err := yaml.Unmarshal([]byte(out), &p); err != nil {
		t.Fatal(err)
	}
	return p
}

func TestPasswordLoginIsOffAndKeysComeBackUnchanged(t *testing.T) {
	keys := []string{
		"ssh-ed25519 AAAAC3Nz ines@wrackline",
		`ssh-rsa AAAAB3Nz a comment: with "quotes", # and {braces}`,
		"ssh-rsa AAAAB3Nz - yes",
	}
	p := render(t, Config{LoginUser: "debian", Keys: keys})
	if p.PasswordLogin == nil || *p.PasswordLogin {
		t.Error("password login is not off")
	}
	if p.DisableRoot == nil || !*p.DisableRoot {
		t.Error("root login is not disabled for an image with its own login user")
	}
	if !slices.Equal(p.Keys, keys) {
		t.Errorf("keys came back as %q", p.Keys)
	}
}

func TestRootImageKeepsRootLogin(t *testing.T) {
	if p := render(t, Config{LoginUser: "root", Keys: []string{"ssh-ed25519 AAAA"}}); *p.DisableRoot {
		t.Error("disable_root is true for an image whose login user is root")
	}
}

func TestRenderRefusesWhatWouldBreakTheDocument(t *testing.T) {
	if _, err := Render(Config{LoginUser: "debian", Keys: []string{"ssh-rsa AAAA x\nruncmd: [reboot]"}}); err == nil {
		t.Error("a key with a line break was accepted")
	}
	if _, err := Render(Config{Keys: []string{"ssh-rsa AAAA"}}); err == nil {
		t.Error("an empty login user was accepted")
	}
	big := "ssh-rsa " + strings.Repeat("A", MaxBytes)
	if _, err := Render(Config{LoginUser: "debian", Keys: []string{big}}); err == nil {
		t.Error("user-data over the limit was accepted")
	}
}
