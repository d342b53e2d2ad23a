package sshio

import (
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"
)

// Terminal is a shell on a pseudo-terminal of a session (RFC 4254 sections 6.2 and 6.5).
type Terminal struct {
	io.Reader
	io.Writer
	session *ssh.Session
}

// The bounds of a terminal's size, in columns and in rows.
const (
	MinTerminal = 2
	MaxTerminal = 1000
)

// TerminalSize brings a size within the bounds.
func TerminalSize(cols, rows int) (int, int) {
	within := func(n int) int { return min(max(n, MinTerminal), MaxTerminal) }
	return within(cols), within(rows)
}

// Terminal starts the shell of the session's user. It ends with the session.
func (s *Session) Terminal(cols, rows int) (*Terminal, error) {
	session, err := s.client.NewSession()
	if err != nil {
		return nil, fmt.Errorf("open a channel for a terminal: %w", err)
	}
	fail := func(what string, err error) (*Terminal, error) {
		session.Close()
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		return fail("open a terminal", err)
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return fail("open a terminal", err)
	}
	cols, rows = TerminalSize(cols, rows)
	modes := ssh.TerminalModes{ssh.ECHO: 1, ssh.TTY_OP_ISPEED: 38400, ssh.TTY_OP_OSPEED: 38400}
	if err := session.RequestPty("xterm-256color", rows, cols, modes); err != nil {
		return fail("the SSH server gives no terminal (PermitTTY, or a limit of the line)", err)
	}
	if err := session.Shell(); err != nil {
		return fail("the SSH server starts no shell", err)
	}
	return &Terminal{out, in, session}, nil
}

// Resize tells the size of the window.
func (t *Terminal) Resize(cols, rows int) error {
	cols, rows = TerminalSize(cols, rows)
	return t.session.WindowChange(rows, cols)
}

// endWithin is how long a shell whose output is over may take to say that it has ended.
const endWithin = 5 * time.Second

// Broke reports, once the output is over, whether the connection broke, so that the machine did not say that the shell
// has ended (RFC 4254 section 6.10).
func (t *Terminal) Broke() bool {
	ended := make(chan error, 1)
	go func() { ended <- t.session.Wait() }()
	select {
	case err := <-ended:
		_, missing := errors.AsType[*ssh.ExitMissingError](err)
		return missing
	case <-time.After(endWithin):
		return true
	}
}
