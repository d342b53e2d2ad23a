// Package userdata writes the first-boot user-data of an instance: a
// cloud-config document (cloud-init's format) that places public keys for the
// image's login user and keeps password login off.
//
// It writes only; a cloud's guest reads it.
package userdata

import (
	"bytes"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Header is the first line by which a guest knows a cloud-config document.
const Header = "#cloud-config\n"

// MaxBytes is the greatest user-data that the common clouds take, in bytes.
const MaxBytes = 16 << 10

// Config says what the first boot is to set up.
type Config struct {
	// LoginUser is the image's own login user, which gets the keys.
	LoginUser string
	// Keys are public keys in the one-line OpenSSH form.
	Keys []string
}

type document struct {
	PasswordLogin bool     `yaml:"ssh_pwauth"`
	DisableRoot   bool     `yaml:"disable_root"`
	Keys          []string `yaml:"ssh_authorized_keys,omitempty"`
}

// Render returns the cloud-config document for c. It fails if a key holds a
// line break or the document is larger than MaxBytes.
func Render(c Config) (string, error) {
	if c.LoginUser == "" {
		return "", fmt.Errorf("user-data: no login user given")
	}
	for i, k := range c.Keys {
		if strings.ContainsAny(k, "\r\n\x00") {
			return "", fmt.Errorf("user-data: key %d has a line break in it", i+1)
		}
	}
	var b bytes.Buffer
	b.WriteString(Header)
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	if err := enc.Encode(document{DisableRoot: c.LoginUser != "root", Keys: c.Keys}); err != nil {
		return "", fmt.Errorf("user-data: %w", err)
	}
	if b.Len() > MaxBytes {
		return "", fmt.Errorf(
			"user-data: %d keys make %d bytes; clouds take %d: launch with fewer keys and grant the others afterwards",
			len(c.Keys), b.Len(), MaxBytes,
		)
	}
	return b.String(), nil
}
