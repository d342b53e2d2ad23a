package kit

import (
	"bytes"
	"io"
	"os"
	"os/exec"

	"golang.org/x/term"
)

// Pager holds what a command shows until it is closed, and then shows it: through the pager where it is longer than
// the terminal is high, and as it is otherwise.
type Pager struct {
	env    Env
	screen *os.File
	held   bytes.Buffer
}

// NewPager returns a pager for what goes to a terminal; nil where it goes elsewhere, or no pager is wanted. The
// pager is that of the variable PAGER, else less, where it is there.
func NewPager(env Env, wanted bool) *Pager {
	screen, ok := env.Out.(*os.File)
	if !wanted || !ok || !IsTerminal(screen) || env.Getenv("TERM") == "dumb" {
		return nil
	}
	return &Pager{env: env, screen: screen}
}

// Write keeps what is shown.
func (p *Pager) Write(b []byte) (int, error) { return p.held.Write(b) }

// Fd is the terminal's, by which its width is found.
func (p *Pager) Fd() uintptr { return p.screen.Fd() }

// Close shows what was held.
func (p *Pager) Close() error {
	_, height, err := term.GetSize(int(p.screen.Fd()))
	if command := p.command(); err == nil && command != "" && bytes.Count(p.held.Bytes(), []byte("\n")) >= height {
		cmd := exec.Command("sh", "-c", command)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = &p.held, p.screen, p.env.Err
		cmd.Env = os.Environ()
		if p.env.Getenv("LESS") == "" {
			cmd.Env = append(cmd.Env, "LESS=FRX") // with colours, and without taking the screen away
		}
		if cmd.Start() == nil {
			return cmd.Wait()
		}
	}
	_, err = io.Copy(p.screen, &p.held)
	return err
}

func (p *Pager) command() string {
	if pager := p.env.Getenv("PAGER"); pager != "" {
		return pager
	}
	if _, err := exec.LookPath("less"); err == nil {
		return "less"
	}
	return ""
}
