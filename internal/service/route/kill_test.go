package route_test

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/route"
	"plumlatch/internal/service/servicetest"
)

// serve starts the service as a process that dies where it is told to, and waits until
// it has died or the restore has ended.
func (o *lockedOut) serve(id uuid.UUID, die, fail string) (died bool) {
	o.T.Helper()
	c := o.StartChild(servicetest.DieVariable+"="+die, servicetest.FailVariable+"="+fail)
	for until := time.Now().Add(90 * time.Second); ; {
		select {
		case err := <-c.Over:
			o.Killed(err)
			return true
		case <-time.After(25 * time.Millisecond):
		}
		r, err := o.Reentry.Restore(o.T.Context(), id)
		if err == nil {
			err = o.help(r)
		}
		if err == nil && r.EndedAt != nil || time.Now().After(until) {
			if r.EndedAt == nil {
				o.T.Errorf("waited in vain with %q:\n%s", die, stepsOf(r))
			}
			c.In.Close()
			<-c.Over
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
			r := servicetest.NewRestoreRig(t, nil)
			on, back := lockOut(r, c, "on"), lockOut(r, c, "back")
			r.Down() // from here on, processes of their own do the work
			begun := on.begin()
			for _, step := range stepsIn(t, begun) {
				if !on.serve(begun.ID, string(step)+" do", "") {
					t.Fatalf("it was not killed in %s:\n%s", step, stepsOf(on.ends(begun.ID)))
				}
			}
			on.serve(begun.ID, "", "")
			if run := on.ends(begun.ID); run.State != runs.Done || len(on.judge(run)) > 0 {
				t.Errorf("%v\n%s", on.judge(run), stepsOf(run))
			}
			begun = back.begin()
			steps := beforeEntry(stepsIn(t, begun))
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
	return route.Undoes(o.Routes, o.route, step)
}
