package guest

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/adapter"
)

// ChangeLines adds a line to a user's authorized_keys or takes it out.
func (d *Disk) ChangeLines(user, line string, add bool) error {
	name := Relative(HomeOf(user) + "/.ssh/authorized_keys")
	text, err := d.Root.ReadFile(name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	there := bytes.Contains(append([]byte("\n"), text...), []byte("\n"+line+"\n"))
	switch {
	case there == add:
		return nil
	case add:
		after := bytes.Clone(text)
		if len(after) > 0 && after[len(after)-1] != '\n' {
			after = append(after, '\n')
		}
		return d.Replace(name, text, append(after, line+"\n"...), 0o600)
	}
	return d.Replace(name, text, bytes.Replace(text, []byte(line+"\n"), nil, 1), 0o600)
}

// setPassword keeps the password of a user as a hash.
func (d *Disk) setPassword(user, password string) error {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	if err != nil {
		return err
	}
	text, err := d.Root.ReadFile("etc/shadow")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var out strings.Builder
	for l := range strings.Lines(string(text)) {
		if !strings.HasPrefix(l, user+":") {
			out.WriteString(l)
		}
	}
	fmt.Fprintf(&out, "%s:%s\n", user, hash)
	return d.Write("etc/shadow", []byte(out.String()), 0o600)
}

func (d *Disk) hasPassword(user string, password []byte) bool {
	text, err := d.Root.ReadFile("etc/shadow")
	if err != nil {
		return false
	}
	for l := range strings.Lines(string(text)) {
		if hash, ours := strings.CutPrefix(strings.TrimSpace(l), user+":"); ours {
			return bcrypt.CompareHashAndPassword([]byte(hash), password) == nil
		}
	}
	return false
}

// NewPassword sets a password of the administrator and returns it encrypted to the key;
// without a key there is none.
func (d *Disk) NewPassword(user, line string) (*adapter.Password, error) {
	if line == "" {
		return nil, nil
	}
	key, err := RSAIn(line)
	if err != nil {
		return nil, err
	}
	password := rand.Text()[:16] + "-9a"
	encrypted, err := rsa.EncryptOAEP(sha256.New(), rand.Reader, key, []byte(password), nil)
	if err != nil {
		return nil, err
	}
	return &adapter.Password{
			Encrypted: encrypted,
			PublicKey: line,
			MadeAt:    time.Now().UTC(),
		}, d.setPassword(
			user,
			password,
		)
}

// RSAIn reads the RSA key of one line.
func RSAIn(line string) (*rsa.PublicKey, error) {
	parsed, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return nil, err
	}
	crypto, ok := parsed.(ssh.CryptoPublicKey)
	if ok {
		if key, is := crypto.CryptoPublicKey().(*rsa.PublicKey); is {
			return key, nil
		}
	}
	return nil, errors.New("it is no RSA key")
}
