// Package safe keeps private keys encrypted at rest: each under a data key of
// its own, bound to the record's id, and the data keys under one safe key, which
// lies in a file or comes from a command and never is in the database (envelope
// encryption by tink).
//
// A safe key is 32 bytes in base64, on a line of its own. Where there are several
// lines, all of them open, and whoever seals says under which: that is how a safe key is replaced.
package safe

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/aead/subtle"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// Safe seals and opens. It may be used by several goroutines.
type Safe struct {
	file    string
	command []string

	ring     atomic.Pointer[ring]
	changing sync.Mutex
	asked    atomic.Int64 // when the command was last run for something that did not open
}

// ring is the safe keys, the one that seals first.
type ring struct {
	lines, marks []string
	envelopes    []tink.AEAD
}

// ErrEncrypted is returned where what was encrypted cannot be opened: it was encrypted
// under another safe key or for another record, or was changed.
var ErrEncrypted = errors.New("it was encrypted under another safe key or for another record, or was changed")

// ErrCommand is returned where the safe key comes from a command, which is not ours to
// change.
var ErrCommand = errors.New(
	"the safe key comes from a command: have the command print the new key on its first line and the old one after it",
)

const (
	keyBytes       = 32
	commandTimeout = 30 * time.Second
	commandPause   = 10 * time.Second
)

// Open reads the safe key from its file.
func Open(path string) (*Safe, error) {
	s := &Safe{file: path}
	return s, s.Reload()
}

// OpenCommand takes the safe key from what the command prints. The command is run
// without a shell.
func OpenCommand(command string) (*Safe, error) {
	s := &Safe{command: strings.Fields(command)}
	if len(s.command) == 0 {
		return nil, errors.New("the safe's key: the command is empty")
	}
	return s, s.Reload()
}

// Reload reads the safe keys again.
func (s *Safe) Reload() error {
	text, err := s.read()
	if err != nil {
		return fmt.Errorf("the safe's key: %w", err)
	}
	r := &ring{}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		master, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(master) != keyBytes {
			return fmt.Errorf("the safe's key: line %d of %s is not 32 bytes in base64", len(r.lines)+1, s.source())
		}
		cipher, err := subtle.NewAESGCM(master)
		if err != nil {
			return fmt.Errorf("the safe's key: %w", err)
		}
		r.lines, r.marks, r.envelopes = append(
			r.lines, line,
		), append(
			r.marks, markOf(line),
		), append(
			r.envelopes, aead.NewKMSEnvelopeAEAD2(aead.AES256GCMKeyTemplate(), cipher),
		)
	}
	if len(r.lines) == 0 {
		return fmt.Errorf("the safe's key: %s has none", s.source())
	}
	s.ring.Store(r)
	return nil
}

func (s *Safe) source() string {
	if s.file != "" {
		return s.file
	}
	return "what " + s.command[0] + " prints"
}

func (s *Safe) read() ([]byte, error) {
	if s.file == "" {
		ctx, cancel := context.WithTimeout(context.Background(), commandTimeout)
		defer cancel()
		var out bytes.Buffer
		cmd := exec.CommandContext(ctx, s.command[0], s.command[1:]...)
		cmd.Stdout = &out // its other output is not repeated: it may hold the key
		if err := cmd.Run(); err != nil {
			return nil, fmt.Errorf("the command %s: %w", s.command[0], err)
		}
		return out.Bytes(), nil
	}
	info, err := os.Stat(s.file)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("others can read %s (mode %04o): chmod 600 %s", s.file, info.Mode().Perm(), s.file)
	}
	return os.ReadFile(s.file)
}

// Make writes a new safe key to a file with mode 0600. A file that is there stays.
func Make(path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the safe's key: %w", err)
	}
	return write(f, newKey()+"\n")
}

func newKey() string {
	master := make([]byte, keyBytes)
	rand.Read(master)
	return base64.StdEncoding.EncodeToString(master)
}

// ErrNoKey is returned where there is no safe key with the mark.
var ErrNoKey = errors.New("there is no safe key with this mark")

// Seal encrypts the secret of a record under the safe key with the mark. The error is ErrNoKey.
func (s *Safe) Seal(mark string, secret []byte, record string) ([]byte, error) {
	if !slices.Contains(s.ring.Load().marks, mark) { // another process may have put it in
		if err := s.Reload(); err != nil {
			return nil, err
		}
	}
	r := s.ring.Load()
	n := slices.Index(r.marks, mark)
	if n < 0 {
		return nil, ErrNoKey
	}
	return r.envelopes[n].Encrypt(secret, []byte(record))
}

// Open returns the secret of a record. The error is ErrEncrypted.
func (s *Safe) Open(encrypted []byte, record string) ([]byte, error) {
	secret, _, err := s.open(encrypted, record)
	if err != nil && s.mayReload() && s.Reload() == nil { // another process may have put in a new safe key
		secret, _, err = s.open(encrypted, record)
	}
	return secret, err
}

// mayReload is whether the safe keys are read again for something that does not open: a command is
// not run for each.
func (s *Safe) mayReload() bool {
	if s.file != "" {
		return true
	}
	now := time.Now().UnixNano()
	last := s.asked.Load()
	return now-last > int64(commandPause) && s.asked.CompareAndSwap(last, now)
}

// open returns also the mark of the safe key by which it was opened.
func (s *Safe) open(encrypted []byte, record string) (secret []byte, mark string, err error) {
	r := s.ring.Load()
	for n, e := range r.envelopes {
		if secret, err := e.Decrypt(encrypted, []byte(record)); err == nil {
			return secret, r.marks[n], nil
		}
	}
	return nil, "", ErrEncrypted
}

// Reseal returns what was encrypted, encrypted under the safe key with the mark; nil if it is
// already. The error is ErrEncrypted or ErrNoKey.
func (s *Safe) Reseal(mark string, encrypted []byte, record string) ([]byte, error) {
	secret, by, err := s.open(encrypted, record)
	if err != nil || by == mark {
		clear(secret)
		return nil, err
	}
	defer clear(secret)
	return s.Seal(mark, secret, record)
}

// SafeKeys is how many safe keys there are. More than one means that some things may
// still be encrypted under an old one.
func (s *Safe) SafeKeys() int { return len(s.ring.Load().lines) }

// Fixed reports whether the safe key comes from a command.
func (s *Safe) Fixed() bool { return s.file == "" }

// Mark tells the first safe key apart without giving it away: 8 hexadecimal digits.
func (s *Safe) Mark() string { return s.ring.Load().marks[0] }

// Marks are those of all safe keys.
func (s *Safe) Marks() []string { return slices.Clone(s.ring.Load().marks) }

func markOf(line string) string {
	sum := sha256.Sum256([]byte("plum latch master key mark " + line))
	return hex.EncodeToString(sum[:4])
}

// AddKey puts a new safe key before the others, in the file too. The error is
// ErrCommand where there is no file.
func (s *Safe) AddKey() error {
	return s.rewrite(func(lines []string) []string { return append([]string{newKey()}, lines...) })
}

// DropOld forgets all safe keys but the one with the mark. What is still encrypted under one of
// them is lost, so see first that nothing is.
func (s *Safe) DropOld(mark string) error {
	if !slices.Contains(s.Marks(), mark) {
		return ErrNoKey
	}
	return s.rewrite(func(lines []string) []string {
		return slices.DeleteFunc(lines, func(line string) bool { return markOf(line) != mark })
	})
}

func (s *Safe) rewrite(change func([]string) []string) error {
	if s.file == "" {
		return ErrCommand
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	if err := s.Reload(); err != nil { // what another process wrote is not lost
		return err
	}
	text := strings.Join(change(slices.Clone(s.ring.Load().lines)), "\n") + "\n"
	f, err := os.OpenFile(s.file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err = write(f, text); err == nil {
		err = os.Rename(s.file+".new", s.file)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("write %s: %w", s.file, err), os.Remove(s.file+".new"))
	}
	if dir, err := os.Open(filepath.Dir(s.file)); err == nil { // so that the name lasts, too
		err = errors.Join(dir.Sync(), dir.Close())
		if err != nil {
			return err
		}
	}
	return s.Reload()
}

// write writes, and closes; nil means that it is on the disk.
func write(f *os.File, text string) error {
	_, err := f.WriteString(text)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}
