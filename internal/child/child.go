// Package child runs processes that end when this one does, however it ends.
package child

import (
	"errors"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"
)

// Process is a running child.
type Process struct {
	process *os.Process
	done    chan struct{}
	err     error
}

// Start starts cmd in a process group of its own, so that a Ctrl-C on the
// terminal reaches only the parent. When the parent dies, the kernel sends the
// child SIGINT.
func Start(cmd *exec.Cmd) (*Process, error) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	p := &Process{done: make(chan struct{})}
	started := make(chan error)
	go func() {
		// The signal comes when the thread that started the child ends, so this
		// thread stays for as long as the child.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			p.err = cmd.Wait()
			close(p.done)
		}
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	p.process = cmd.Process
	return p, nil
}

// Done is closed when the child has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// Err says how the child ended, once it has.
func (p *Process) Err() error { return p.err }

// PID is the child's process id.
func (p *Process) PID() int { return p.process.Pid }

// Stop asks the child to end and waits; after the grace it kills.
func (p *Process) Stop(grace time.Duration) error {
	if err := p.process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-p.done:
		return nil
	case <-time.After(grace):
	}
	if err := p.process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-p.done
	return nil
}
