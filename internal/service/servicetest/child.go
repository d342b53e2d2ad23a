package servicetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/service/route"
)

var ErrByTest = errors.New("the test has it fail")

// A service that is a process of its own, which kills itself at an instant that it was
// given: the test binary, started with these variables.
const (
	childVariable = "PLUMLATCH_TEST_SERVICE" // database, cloud and safe, with blanks between
	DieVariable   = "PLUMLATCH_TEST_DIE"     // a step, and do or undo
	FailVariable  = "PLUMLATCH_TEST_FAIL"    // the step that fails once it is done
	// onceVariable is a folder in which each instant is noted at which a process killed itself:
	// any that is not there yet is one at which to die.
	onceVariable = "PLUMLATCH_TEST_DIE_ONCE"
)

// beKilled works as a service until it is killed, or its input ends.
func beKilled() {
	parts := strings.Fields(os.Getenv(childVariable))
	s, _, e, err := connectService(context.Background(), parts[0], parts[1], parts[2], 2*time.Second, time.Now)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	s.Routes.Patience, e.RetryAfter = 5*time.Second, 10*time.Millisecond
	die, fail, once := os.Getenv(DieVariable), os.Getenv(FailVariable), os.Getenv(onceVariable)
	at := func(step, part string) {
		now := die == step+" "+part
		if once != "" {
			f, err := os.OpenFile(filepath.Join(once, step+" "+part), os.O_CREATE|os.O_EXCL, 0o600)
			if now = err == nil; now {
				f.Close()
			}
		}
		if now {
			syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {} // until the signal is there
		}
	}
	e.StepHook = func(run record.Run, step runs.Step) runs.Step {
		if run.Kind != route.RunKind && run.Kind != replace.RunKind {
			return step
		}
		do, undo, name := step.Do, step.Undo, step.Name
		step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
			said, err := do(ctx, p)
			if err == nil {
				at(name, "do")
			}
			if err == nil && name == fail {
				err = ErrByTest
			}
			return said, err
		}
		if undo != nil {
			step.Undo = func(ctx context.Context, p *runs.Progress) error {
				err := undo(ctx, p)
				if err == nil {
					at(name, "undo")
				}
				return err
			}
		}
		return step
	}
	if err := s.Start(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	io.Copy(io.Discard, os.Stdin)
}

// child is a service that runs as a process of its own.
type child struct {
	In   io.Closer // ends it
	Over chan error
}

func (r *Rig) StartChild(variables ...string) child {
	r.T.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(
		append(os.Environ(), childVariable+"="+strings.Join([]string{r.database, r.cloudURL, r.safeFile}, " ")),
		variables...)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		r.T.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		r.T.Fatal(err)
	}
	c := child{in, make(chan error, 1)}
	go func() { c.Over <- cmd.Wait() }()
	return c
}

// Killed sees that the process ended by the signal that it sent to itself.
func (r *Rig) Killed(ended error) {
	r.T.Helper()
	var exit *exec.ExitError
	if !errors.As(ended, &exit) || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL {
		r.T.Fatalf("the service ended by itself: %v", ended)
	}
}

// ServeByTwo has two processes at work, each of which dies at any instant at which none has died
// yet and is started again, until it is over. It returns the instants.
func (r *Rig) ServeByTwo(fail string, over func() bool) []string {
	r.T.Helper()
	once := r.T.TempDir()
	start := func() child { return r.StartChild(onceVariable+"="+once, FailVariable+"="+fail) }
	pair := [2]child{start(), start()}
	for until := time.Now().Add(120 * time.Second); !over(); time.Sleep(25 * time.Millisecond) {
		for n := range pair {
			select {
			case err := <-pair[n].Over:
				r.Killed(err)
				pair[n] = start()
			default:
			}
		}
		if time.Now().After(until) {
			r.T.Error("waited in vain")
			break
		}
	}
	for _, c := range pair {
		c.In.Close()
		<-c.Over
	}
	var instants []string
	files, err := os.ReadDir(once)
	if err != nil {
		r.T.Fatal(err)
	}
	for _, f := range files {
		instants = append(instants, f.Name())
	}
	return instants
}
