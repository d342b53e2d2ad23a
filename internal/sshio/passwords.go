package sshio

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
)

var errOnlyAsked = errors.New("no password is given")

// TakesPasswords asks the server whether it takes passwords, and gives none.
func TakesPasswords(ctx context.Context, t Target) (bool, error) {
	asked := false
	err := t.handshake(ctx, ssh.PasswordCallback(func() (string, error) {
		asked = true
		return "", errOnlyAsked
	}))
	if asked {
		return true, nil
	}
	return false, err
}

// LoginWithPassword logs in with a password. The session ends with ctx.
func LoginWithPassword(ctx context.Context, t Target, password string) (*Session, error) {
	client, shown, err := t.dial(ctx, ssh.Password(password))
	if err != nil {
		return nil, err
	}
	return &Session{HostKey: shown, client: client, user: t.User}, nil
}

// Run runs a command in the session and returns what it wrote. The error of a command
// that ends with another status than 0 tells what it complained of.
func (s *Session) Run(input []byte, words ...string) ([]byte, error) {
	line := make([]string, len(words))
	for n, w := range words {
		line[n] = shellWord(w)
	}
	return s.runLine(input, maxOutput, words[0], strings.Join(line, " "))
}

// runLine has the login's shell run a line, which is called name in errors, and reads at most so many bytes of what
// it writes.
func (s *Session) runLine(input []byte, most int, name, line string) ([]byte, error) {
	c, err := s.client.NewSession()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	// A command that writes too much is not waited for.
	end := func() { c.Close() }
	out, errs := bounded{most: most, full: end}, bounded{most: maxOutput, full: end}
	c.Stdout, c.Stderr, c.Stdin = &out, &errs, bytes.NewReader(input)
	err = c.Run(line)
	if out.overflew || errs.overflew {
		return nil, fmt.Errorf("%s: the command wrote over %d bytes, %w", name, most, errOutput)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %s", name, err, text.Line(errs.held.String(), text.MaxLine))
	}
	return out.held.Bytes(), nil
}

// maxOutput is how much of what a command writes is read, in bytes.
const maxOutput = 64 << 10

var errOutput = errors.New("which is the limit")

// bounded is a buffer that takes at most so many bytes, and then calls full. The
// buffer is not embedded, since its ReadFrom knows no bound.
type bounded struct {
	held     bytes.Buffer
	most     int
	full     func()
	overflew bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.held.Len()+len(p) > b.most {
		b.overflew = true
		b.full()
		return 0, errOutput
	}
	return b.held.Write(p)
}

func shellWord(w string) string {
	if w != "" && strings.Trim(w, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./=,:") == "" {
		return w
	}
	return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
}

// PasswordsOff turns password login off in sshd_config, as root: through sudo, which must
// ask for no password, where the session's user is another. The file is written beside
// the old one under a name of its own, so that two who do this at once rename whole files,
// compared, and renamed over it; then the server is told to read it.
func (s *Session) PasswordsOff() error {
	root := func(input []byte, words ...string) ([]byte, error) {
		if s.user != "root" {
			words = append([]string{"sudo", "-n"}, words...)
		}
		return s.Run(input, words...)
	}
	before, err := root(nil, "cat", ServerConfig)
	if err != nil {
		return fmt.Errorf("turn password login off: %w", err)
	}
	after := []byte(restore.PasswordsOff(string(before)))
	if !bytes.Equal(before, after) {
		beside := ServerConfig + BesideSuffix + "-" + rand.Text()
		_, err := root(after, "tee", beside)
		if err == nil {
			_, err = root(nil, "chmod", "644", beside)
		}
		var wrote []byte
		if err == nil {
			wrote, err = root(nil, "cat", beside)
		}
		if err == nil && !bytes.Equal(wrote, after) {
			err = errors.New("what was written beside it reads back otherwise")
		}
		if err == nil {
			_, err = root(nil, "mv", "-T", beside, ServerConfig)
		}
		if err != nil {
			root(nil, "rm", "-f", beside)
			return fmt.Errorf("turn password login off: %w", err)
		}
	}
	if _, err = root(nil, "systemctl", "reload", "ssh"); err != nil { // the unit's other name
		_, err = root(nil, "systemctl", "reload", "sshd")
	}
	if err != nil {
		return fmt.Errorf(
			"turn password login off: %s says so now, but the server was not told to read it: %w", ServerConfig, err,
		)
	}
	return nil
}
