package service

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
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/runs"
	"plumlatch/internal/store"
)

// A service that is a process of its own, which kills itself at an instant that it was
// given: the test binary, started with these variables.
const (
	childVariable = "PLUMLATCH_TEST_SERVICE" // database, cloud and safe, with blanks between
	dieVariable   = "PLUMLATCH_TEST_DIE"     // a step, and do or undo
	failVariable  = "PLUMLATCH_TEST_FAIL"    // the step that fails once it is done
	// onceVariable is a folder in which each instant is noted at which a process killed itself:
	// any that is not there yet is one at which to die.
	onceVariable = "PLUMLATCH_TEST_DIE_ONCE"
)

// beKilled works as a service until it is killed, or its input ends.
func beKilled() {
	parts := strings.Fields(os.Getenv(childVariable))
	s, err := connectService(context.Background(), parts[0], parts[1], parts[2], 2*time.Second)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	s.Patience, s.engine.RetryAfter = 5*time.Second, 10*time.Millisecond
	die, fail, once := os.Getenv(dieVariable), os.Getenv(failVariable), os.Getenv(onceVariable)
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
	s.engine.StepHook = func(run store.Run, step runs.Step) runs.Step {
		if run.Kind != restoreKind && run.Kind != rotateKind {
			return step
		}
		do, undo, name := step.Do, step.Undo, step.Name
		step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
			said, err := do(ctx, p)
			if err == nil {
				at(name, "do")
			}
			if err == nil && name == fail {
				err = errByTest
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
	in   io.Closer // ends it
	over chan error
}

func (r *rig) startChild(variables ...string) child {
	r.t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(
		append(os.Environ(), childVariable+"="+strings.Join([]string{r.database, r.cloudURL, r.safeFile}, " ")),
		variables...)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		r.t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		r.t.Fatal(err)
	}
	c := child{in, make(chan error, 1)}
	go func() { c.over <- cmd.Wait() }()
	return c
}

// killed sees that the process ended by the signal that it sent to itself.
func (r *rig) killed(ended error) {
	r.t.Helper()
	var exit *exec.ExitError
	if !errors.As(ended, &exit) || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL {
		r.t.Fatalf("the service ended by itself: %v", ended)
	}
}

// serve starts the service as a process that dies where it is told to, and waits until
// it has died or the restore has ended.
func (o *lockedOut) serve(id uuid.UUID, die, fail string) (died bool) {
	o.t.Helper()
	c := o.startChild(dieVariable+"="+die, failVariable+"="+fail)
	for until := time.Now().Add(90 * time.Second); ; {
		select {
		case err := <-c.over:
			o.killed(err)
			return true
		case <-time.After(25 * time.Millisecond):
		}
		r, err := o.Restore(o.t.Context(), id)
		if err == nil {
			err = o.help(r)
		}
		if err == nil && r.EndedAt != nil || time.Now().After(until) {
			if r.EndedAt == nil {
				o.t.Errorf("waited in vain with %q:\n%s", die, stepsOf(r))
			}
			c.in.Close()
			<-c.over
			return false
		}
	}
}

// TestKilledAtAnyInstantARestoreGoesOnOrIsUndone kills the service with SIGKILL in every
// step of every route, once it has taken effect and before that is written down, and in
// the undo of each: one after the other in one run.
func TestKilledAtAnyInstantARestoreGoesOnOrIsUndone(t *testing.T) {
	for _, c := range restoreCases {
		if c.holder {
			continue // of the same steps as another
		}
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			r := newRestoreRig(t, nil)
			on, back := r.lockOut(c, "on"), r.lockOut(c, "back")
			r.stop() // from here on, processes of their own do the work
			begun := on.begin()
			for _, step := range stepsIn(begun) {
				if !on.serve(begun.ID, string(step)+" do", "") {
					t.Fatalf("it was not killed in %s:\n%s", step, stepsOf(on.ends(begun.ID)))
				}
			}
			on.serve(begun.ID, "", "")
			if run := on.ends(begun.ID); run.State != runs.Done || len(on.judge(run)) > 0 {
				t.Errorf("%v\n%s", on.judge(run), stepsOf(run))
			}
			begun = back.begin()
			steps := beforeEntry(stepsIn(begun))
			fail := string(steps[len(steps)-1])
			for n := len(steps) - 1; n >= 0; n-- {
				if !back.undoes(steps[n]) {
					continue
				}
				if !back.serve(begun.ID, string(steps[n])+" undo", fail) {
					t.Fatalf("it was not killed in the undo of %s:\n%s", steps[n], stepsOf(back.ends(begun.ID)))
				}
			}
			back.serve(begun.ID, "", fail)
			if run := back.ends(begun.ID); run.State != runs.Undone || len(back.judge(run)) > 0 {
				t.Errorf("%v\n%s", back.judge(run), stepsOf(run))
			}
		})
	}
}

// undoes reports whether the step of the case has an undo.
func (o *lockedOut) undoes(step restore.Step) bool {
	r := &restoring{lifecycle: lifecycle{Service: o.Service}, route: o.route, work: &restoreWork{}}
	return r.steps()[step].Undo != nil
}
