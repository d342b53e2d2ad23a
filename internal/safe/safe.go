// Package safe keeps private halves encrypted at rest: each under a data key of
// its own, bound to the record's id, and the data keys under one master key, which
// lies in a file and never in the database (envelope encryption by tink).
package safe

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/aead/subtle"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// Safe seals and opens. It may be used by several goroutines.
type Safe struct{ envelope tink.AEAD }

// ErrSealed is returned where what was sealed cannot be opened: it was sealed
// under another master key or for another record, or was changed.
var ErrSealed = errors.New("it was sealed under another master key or for another record, or was changed")

const masterBytes = 32

// Open reads the master key from its file.
func Open(path string) (*Safe, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the safe's master key: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the safe's master key: others can read %s (mode %04o): chmod 600 %s", path, info.Mode().Perm(), path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the safe's master key: %w", err)
	}
	master, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(master) != masterBytes {
		return nil, fmt.Errorf("the safe's master key: %s does not hold 32 bytes in base64", path)
	}
	cipher, err := subtle.NewAESGCM(master)
	if err != nil {
		return nil, fmt.Errorf("the safe's master key: %w", err)
	}
	return &Safe{aead.NewKMSEnvelopeAEAD2(aead.AES256GCMKeyTemplate(), cipher)}, nil
}

// Make writes a new master key to a file with mode 0600. A file that is there stays.
func Make(path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the safe's master key: %w", err)
	}
	master := make([]byte, masterBytes)
	rand.Read(master)
	_, err = f.WriteString(base64.StdEncoding.EncodeToString(master) + "\n")
	return errors.Join(err, f.Sync(), f.Close())
}

// Seal encrypts the secret of a record.
func (s *Safe) Seal(secret []byte, record string) ([]byte, error) {
	return s.envelope.Encrypt(secret, []byte(record))
}

// Open returns the secret of a record. The error is ErrSealed.
func (s *Safe) Open(sealed []byte, record string) ([]byte, error) {
	secret, err := s.envelope.Decrypt(sealed, []byte(record))
	if err != nil {
		return nil, ErrSealed
	}
	return secret, nil
}
