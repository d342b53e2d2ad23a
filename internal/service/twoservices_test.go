package service

import (
	"context"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/runs"
	"plumlatch/internal/store"
)

// cutter is two services on one database. At every step of restores and rotations, and at every
// undo, it has the database end the connections that hold the locks: once before anything has
// been done, and once when it has taken effect and that is not written down. Each time the worker
// goes on beside the one that took the run from it.
type cutter struct {
	*rig
	other *Service
	// fail is the step that fails once it is done.
	fail string

	mu  sync.Mutex
	cut map[string]bool // by run, step and part
}

func newCutter(t *testing.T) *cutter {
	t.Helper()
	c := &cutter{cut: map[string]bool{}}
	c.rig = newRestoreRig(t, func(s *Service) {
		s.engine.StepHook = func(run store.Run, step runs.Step) runs.Step { return c.hook(run, step) }
	})
	other, err := connectService(t.Context(), c.database, c.cloudURL, c.safeFile, cloud.CallTimeout)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.store.Close() })
	other.now, other.engine.StepHook = c.now, c.hook
	other.Patience, other.engine.RetryAfter = c.Patience, c.engine.RetryAfter
	ctx, stop := context.WithCancel(context.Background())
	if err := other.Start(ctx); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		stop()
		other.engine.Stop(context.Background())
	})
	c.other = other
	return c
}

func (c *cutter) hook(run store.Run, step runs.Step) runs.Step {
	if run.Kind != restoreKind && run.Kind != rotateKind {
		return step
	}
	do, undo, name := step.Do, step.Undo, step.Name
	step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
		c.lose(p.Run(), name+" before")
		said, err := do(ctx, p)
		if err == nil {
			c.lose(p.Run(), name+" after")
		}
		if err == nil && name == c.fail {
			err = errByTest
		}
		return said, err
	}
	if undo != nil {
		step.Undo = func(ctx context.Context, p *runs.Progress) error {
			c.lose(p.Run(), name+" undo, before")
			err := undo(ctx, p)
			if err == nil {
				c.lose(p.Run(), name+" undo, after")
			}
			return err
		}
	}
	return step
}

// lose cuts the locks' connections where that has not been done at this part of the run, and
// waits until another worker has taken it.
func (c *cutter) lose(run store.Run, part string) {
	key := run.ID.String() + " " + part
	c.mu.Lock()
	before := c.cut[key]
	c.cut[key] = true
	c.mu.Unlock()
	if before {
		return
	}
	ctx := context.Background()
	_, err := c.store.Pool().
		Exec(
			ctx,
			"SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND pid <> pg_backend_pid() AND "+
				"database = (SELECT oid FROM pg_database WHERE datname = current_database())",
		)
	if err != nil {
		c.t.Errorf("%s: cut the locks' connections: %v", part, err)
	}
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		c.other.engine.Wake(ctx, run.ID)
		now, err := c.store.RunByID(ctx, run.ID)
		if err == nil && now.Epoch > run.Epoch {
			return
		}
		if time.Now().After(until) {
			c.t.Errorf("%s: nobody took the run, %v", part, err)
			return
		}
	}
}

// cuts is how often runs were cut off.
func (c *cutter) cuts() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.cut)
}

func TestARestoreIsWholeOrUndoneWhereAnotherServiceTakesItAtEveryStep(t *testing.T) {
	for _, rc := range restoreCases {
		t.Run(rc.name(), func(t *testing.T) {
			t.Parallel()
			c := newCutter(t)
			o := c.lockOut(rc, "on")
			r := o.ends(o.begin().ID)
			if wrong := o.judge(r); r.State != runs.Done || len(wrong) > 0 {
				t.Errorf("%s\n%s", strings.Join(wrong, "\n"), stepsOf(r))
			}
			want := 2 * len(stepsIn(r))
			if n := c.cuts(); n != want {
				t.Errorf("it was cut off %d times, want %d\n%s", n, want, stepsOf(r))
			}
			steps := beforeEntry(stepsIn(r))
			if len(steps) == 0 {
				return
			}
			o = c.lockOut(rc, "back")
			c.fail = string(steps[len(steps)-1])
			r = o.ends(o.begin().ID)
			if wrong := o.judge(r); r.State != runs.Undone || len(wrong) > 0 {
				t.Errorf("%s\n%s", strings.Join(wrong, "\n"), stepsOf(r))
			}
			want += 2 * len(steps)
			for _, step := range steps {
				if o.undoes(step) {
					want += 2
				}
			}
			if n := c.cuts(); n != want {
				t.Errorf("with the undo, it was cut off %d times, want %d\n%s", n, want, stepsOf(r))
			}
		})
	}
}

// rotationCases are the means by which the service itself rotates.
var rotationCases = []struct {
	name  string
	means rotationMeans
}{{"steward", stewardMeans}, {"agent", agentMeans}}

// rotationDoor is an instance whose key old is rotated by a means.
func (r *rig) rotationDoor(name string, means rotationMeans) {
	r.t.Helper()
	r.launchWith(name, "old-"+name, means == stewardMeans)
	if means == agentMeans {
		i, err := r.Instance(r.t.Context(), name)
		if err == nil {
			err = r.port.PermitAgent(r.t.Context(), i.CloudID, true)
		}
		if err != nil {
			r.t.Fatal(err)
		}
		r.sweep()
	}
}

// rotated sees that of the old key and the new one the one stands that should, once, and that
// nothing else has changed or is left beside the file.
func (r *rig) rotated(name, before string, done bool) {
	r.t.Helper()
	old, err := r.Key(r.t.Context(), "old-"+name)
	if err != nil {
		r.t.Fatal(err)
	}
	text := r.keysFile(name)
	if !done {
		if text != before {
			r.t.Errorf("%s: the file is\n%s\nand was\n%s", name, text, before)
		}
		return
	}
	made, err := r.Key(r.t.Context(), "old-"+name+"-2")
	if err != nil {
		r.t.Fatal(err)
	}
	lines, was := strings.Split(text, "\n"), strings.Split(before, "\n")
	if strings.Contains(text, wire(old)) || strings.Count(text, wire(made)) != 1 || len(lines) != len(was) {
		r.t.Errorf("%s: the file is\n%s\nand was\n%s", name, text, before)
	}
	for _, line := range was {
		if !strings.Contains(line, wire(old)) && !slices.Contains(lines, line) {
			r.t.Errorf("%s: this line is gone: %s", name, line)
		}
	}
}

func (r *rig) rotationOf(name string) RotationState {
	return r.rotate(RotationStart{RotationWanted: selecting("old-" + name), Make: makeService})
}

func TestARotationIsWholeOrUndoneWhereAnotherServiceTakesItAtEveryStep(t *testing.T) {
	for _, rc := range rotationCases {
		t.Run(rc.name, func(t *testing.T) {
			t.Parallel()
			c := newCutter(t)
			c.rotationDoor("on", rc.means)
			before := c.keysFile("on")
			state := c.rotationOf("on")
			c.until("the rotation", c.is(state, rotation.ItemDone))
			c.rotated("on", before, true)
			c.fail = string(rotation.Enter)
			c.rotationDoor("back", rc.means)
			before = c.keysFile("back")
			state = c.rotationOf("back")
			c.until("the undo", c.is(state, rotation.ItemFailed))
			c.rotated("back", before, false)
			if cuts := c.cuts(); cuts != 2*(4+3) {
				t.Errorf("it was cut off %d times, want twice in each of four steps, and of two and an undo", cuts)
			}
		})
	}
}

// serveByTwo has two processes at work, each of which dies at any instant at which none has died
// yet and is started again, until it is over. It returns the instants.
func (r *rig) serveByTwo(fail string, over func() bool) []string {
	r.t.Helper()
	once := r.t.TempDir()
	start := func() child { return r.startChild(onceVariable+"="+once, failVariable+"="+fail) }
	pair := [2]child{start(), start()}
	for until := time.Now().Add(120 * time.Second); !over(); time.Sleep(25 * time.Millisecond) {
		for n := range pair {
			select {
			case err := <-pair[n].over:
				r.killed(err)
				pair[n] = start()
			default:
			}
		}
		if time.Now().After(until) {
			r.t.Error("waited in vain")
			break
		}
	}
	for _, c := range pair {
		c.in.Close()
		<-c.over
	}
	var instants []string
	files, err := os.ReadDir(once)
	if err != nil {
		r.t.Fatal(err)
	}
	for _, f := range files {
		instants = append(instants, f.Name())
	}
	return instants
}

func TestOfTwoServicesOneIsKilledAtEveryInstantOfARestore(t *testing.T) {
	for _, rc := range restoreCases {
		t.Run(rc.name(), func(t *testing.T) {
			t.Parallel()
			r := newRestoreRig(t, nil)
			on, back := r.lockOut(rc, "on"), r.lockOut(rc, "back")
			r.stop()
			serve := func(o *lockedOut, fail string) (Restore, []string) {
				begun := o.begin()
				instants := r.serveByTwo(fail, func() bool {
					now, err := o.Restore(t.Context(), begun.ID)
					if err == nil {
						err = o.help(now)
					}
					return err == nil && now.EndedAt != nil
				})
				return o.ends(begun.ID), instants
			}
			run, instants := serve(on, "")
			if wrong := on.judge(run); run.State != runs.Done || len(wrong) > 0 || len(instants) != len(stepsIn(run)) {
				t.Errorf("killed at %v: %s\n%s", instants, strings.Join(wrong, "\n"), stepsOf(run))
			}
			steps := beforeEntry(stepsIn(run))
			if len(steps) == 0 {
				return
			}
			run, instants = serve(back, string(steps[len(steps)-1]))
			want := len(steps)
			for _, step := range steps {
				if back.undoes(step) {
					want++
				}
			}
			if wrong := back.judge(run); run.State != runs.Undone || len(wrong) > 0 || len(instants) != want {
				t.Errorf("killed at %v, want %d: %s\n%s", instants, want, strings.Join(wrong, "\n"), stepsOf(run))
			}
		})
	}
}

func TestOfTwoServicesOneIsKilledAtEveryInstantOfARotation(t *testing.T) {
	for _, rc := range rotationCases {
		t.Run(rc.name, func(t *testing.T) {
			t.Parallel()
			r := newRestoreRig(t, nil)
			r.rotationDoor("on", rc.means)
			r.rotationDoor("back", rc.means)
			was := map[string]string{"on": r.keysFile("on"), "back": r.keysFile("back")}
			r.stop()
			state := r.rotationOf("on")
			instants := r.serveByTwo("", r.is(state, rotation.ItemDone))
			r.rotated("on", was["on"], true)
			state = r.rotationOf("back")
			instants = append(instants, r.serveByTwo(string(rotation.Enter), r.is(state, rotation.ItemFailed))...)
			r.rotated("back", was["back"], false)
			if len(instants) != 4+3 {
				t.Errorf("killed at %v, want at each of four steps, and of two and an undo", instants)
			}
		})
	}
}
