package runs

import (
	"errors"
	"slices"
	"testing"

	"plumlatch/internal/record"
)

// recorded is the steps of a run as an earlier version has written them down.
func recorded(states ...StepState) []record.RunStep {
	var rows []record.RunStep
	for n, name := range []string{"place", "enter", "remove", "see"}[:len(states)] {
		rows = append(rows, record.RunStep{Seq: n, Name: name, Title: name, State: states[n], Undo: "undo " + name})
	}
	return rows
}

func plan(names ...string) []Step {
	var steps []Step
	for _, n := range names {
		steps = append(steps, Step{Name: n, Title: n})
	}
	return steps
}

func TestARunOutlivesAnUpgradeWhereThatIsRight(t *testing.T) {
	done, running, waiting := StepDone, StepRunning, StepWaiting
	for name, test := range map[string]struct {
		rows []record.RunStep
		plan []Step
		want []StepState // the states in the order of the plan; nil for a mismatch
	}{
		"unchanged": {
			recorded(done, running, waiting, waiting),
			plan("place", "enter", "remove", "see"),
			[]StepState{done, running, waiting, waiting},
		},
		"inserted behind what was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "enter", "ask", "remove", "see"),
			[]StepState{done, running, waiting, waiting, waiting},
		},
		"inserted before what was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "ask", "enter", "remove", "see"),
			nil,
		},
		"inserted at the end": {
			recorded(done, done, done, running),
			plan("place", "enter", "remove", "see", "tell"),
			[]StepState{done, done, done, running, waiting},
		},
		"removed before it was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "enter", "see"),
			[]StepState{done, running, waiting},
		},
		"removed after it was begun": {recorded(done, running, waiting, waiting), plan("place", "remove", "see"), nil},
		"removed after it was done":  {recorded(done, done, running, waiting), plan("enter", "remove", "see"), nil},
		"renamed before it was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "enter", "take-out", "see"),
			[]StepState{done, running, waiting, waiting},
		},
		"renamed, and its old name known": {
			recorded(done, running, waiting, waiting),
			[]Step{{Name: "place"}, {Name: "log-in", Was: []string{"enter"}}, {Name: "remove"}, {Name: "see"}},
			[]StepState{done, running, waiting, waiting},
		},
		"renamed after it was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "log-in", "remove", "see"),
			nil,
		},
		"reordered before it was begun": {
			recorded(done, waiting, waiting, waiting),
			plan("place", "remove", "enter", "see"),
			[]StepState{done, waiting, waiting, waiting},
		},
		"reordered over what was begun": {
			recorded(done, running, waiting, waiting),
			plan("place", "remove", "enter", "see"),
			nil,
		},
		"fewer rows than steps": {recorded(done), plan("place", "enter"), []StepState{done, waiting}},
		"one twice":             {recorded(done, waiting), plan("place", "place"), nil},
	} {
		got, err := match(test.rows, test.plan)
		var mismatch *MismatchError
		if test.want == nil {
			if !errors.As(err, &mismatch) || len(mismatch.Done) == 0 {
				t.Errorf("%s: %v, %v; want a mismatch that says what was done", name, got, err)
			}
			continue
		}
		var states []StepState
		for n, r := range got {
			states = append(states, r.State)
			if r.Name != test.plan[n].Name || r.Seq != n {
				t.Errorf("%s: step %d is %q with the place %d, want %q", name, n, r.Name, r.Seq, test.plan[n].Name)
			}
		}
		if err != nil || !slices.Equal(states, test.want) {
			t.Errorf("%s: %v, %v; want %v", name, states, err, test.want)
		}
	}
}

// TestALiveRunGoesOnUnderNewStepsOrIsTold has a run that another version began.
func TestALiveRunGoesOnUnderNewStepsOrIsTold(t *testing.T) {
	begin := func(t *testing.T, g *stage) {
		for seq, state := range []StepState{StepDone, StepRunning} {
			if _, err := g.store.Pool().Exec(
				t.Context(), "UPDATE run_steps SET state = $1 WHERE run_id = $2 AND seq = $3", state, g.run.ID, seq,
			); err != nil {
				t.Fatal(err)
			}
		}
	}
	t.Run("inserted behind", func(t *testing.T) {
		g := newStage(t)
		begin(t, g)
		fresh := g.plan.Steps[2]
		fresh.Name, fresh.Title = "new", "new"
		g.plan.Steps = slices.Insert(g.plan.Steps, 2, fresh)
		g.engine(t.Context())
		if r := g.expect(Done, "b", "c", "c"); len(r.Steps) != 4 || r.Steps[2].Name != "new" || r.Steps[2].State != StepDone {
			t.Errorf("the steps are %+v", r.Steps)
		}
	})
	t.Run("removed", func(t *testing.T) {
		g := newStage(t)
		begin(t, g)
		g.plan.Steps = slices.Delete(g.plan.Steps, 1, 2)
		g.engine(t.Context())
		if r := g.expect(NeedsPerson); r.Error == "" || r.Steps[0].State != StepDone || r.Steps[1].State != StepRunning {
			t.Errorf("%q with the steps %+v", r.Error, r.Steps)
		}
	})
}
