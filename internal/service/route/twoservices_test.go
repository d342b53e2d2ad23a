package route_test

import (
	"strings"
	"testing"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/servicetest"
)

func TestARestoreIsWholeOrUndoneWhereAnotherServiceTakesItAtEveryStep(t *testing.T) {
	for _, rc := range restoreCases {
		t.Run(rc.name(), func(t *testing.T) {
			t.Parallel()
			c := servicetest.NewCutter(t)
			o := lockOut(c.Rig, rc, "on")
			r := o.ends(o.begin().ID)
			if wrong := o.judge(r); r.State != runs.Done || len(wrong) > 0 {
				t.Errorf("%s\n%s", strings.Join(wrong, "\n"), stepsOf(r))
			}
			want := 2 * len(stepsIn(t, r))
			if n := c.Cuts(); n != want {
				t.Errorf("it was cut off %d times, want %d\n%s", n, want, stepsOf(r))
			}
			steps := beforeEntry(stepsIn(t, r))
			if len(steps) == 0 {
				return
			}
			o = lockOut(c.Rig, rc, "back")
			c.Fail = string(steps[len(steps)-1])
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
			if n := c.Cuts(); n != want {
				t.Errorf("with the undo, it was cut off %d times, want %d\n%s", n, want, stepsOf(r))
			}
		})
	}
}

func TestOfTwoServicesOneIsKilledAtEveryInstantOfARestore(t *testing.T) {
	for _, rc := range restoreCases {
		t.Run(rc.name(), func(t *testing.T) {
			t.Parallel()
			r := servicetest.NewRestoreRig(t, nil)
			on, back := lockOut(r, rc, "on"), lockOut(r, rc, "back")
			r.Down()
			serve := func(o *lockedOut, fail string) (reentry.Restore, []string) {
				begun := o.begin()
				instants := r.ServeByTwo(fail, func() bool {
					now, err := o.Reentry.Restore(t.Context(), begun.ID)
					if err == nil {
						err = o.help(now)
					}
					return err == nil && now.EndedAt != nil
				})
				return o.ends(begun.ID), instants
			}
			run, instants := serve(on, "")
			if wrong := on.judge(run); run.State != runs.Done || len(wrong) > 0 || len(instants) != len(stepsIn(t, run)) {
				t.Errorf("killed at %v: %s\n%s", instants, strings.Join(wrong, "\n"), stepsOf(run))
			}
			steps := beforeEntry(stepsIn(t, run))
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
