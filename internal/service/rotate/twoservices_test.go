package rotate_test

import (
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/servicetest"
)

// rotationCases are the means by which the service itself rotates.
var rotationCases = []struct {
	name  string
	agent bool
}{{"steward", false}, {"agent", true}}

// rotationDoor is an instance whose key old is rotated by a means.
func rotationDoor(r *servicetest.Rig, name string, agent bool) {
	r.T.Helper()
	r.LaunchWith(name, "old-"+name, !agent)
	if agent {
		i, err := r.Fleet.Instance(r.T.Context(), name)
		if err == nil {
			err = r.Port.PermitAgent(r.T.Context(), i.CloudID, true)
		}
		if err != nil {
			r.T.Fatal(err)
		}
		r.Sweep()
	}
}

// rotated sees that of the old key and the new one the one is in place that should be, once,
// and that nothing else has changed or is left beside the file.
func rotated(r *servicetest.Rig, name, before string, done bool) {
	r.T.Helper()
	old, err := r.Keys.Key(r.T.Context(), "old-"+name)
	if err != nil {
		r.T.Fatal(err)
	}
	text := r.KeysFile(name)
	if !done {
		if text != before {
			r.T.Errorf("%s: the file is\n%s\nand was\n%s", name, text, before)
		}
		return
	}
	made, err := r.Keys.Key(r.T.Context(), "old-"+name+"-2")
	if err != nil {
		r.T.Fatal(err)
	}
	lines, was := strings.Split(text, "\n"), strings.Split(before, "\n")
	if strings.Contains(text, servicetest.Wire(old)) || strings.Count(text, servicetest.Wire(made)) != 1 ||
		len(lines) != len(was) {
		r.T.Errorf("%s: the file is\n%s\nand was\n%s", name, text, before)
	}
	for _, line := range was {
		if !strings.Contains(line, servicetest.Wire(old)) && !slices.Contains(lines, line) {
			r.T.Errorf("%s: this line is gone: %s", name, line)
		}
	}
}

func rotationOf(r *servicetest.Rig, name string) rotate.RotationState {
	return r.StartRotation(
		rotate.RotationStart{RotationWanted: servicetest.Selecting("old-" + name), Make: rotate.MakeService},
	)
}

func TestARotationIsWholeOrUndoneWhereAnotherServiceTakesItAtEveryStep(t *testing.T) {
	for _, rc := range rotationCases {
		t.Run(rc.name, func(t *testing.T) {
			t.Parallel()
			c := servicetest.NewCutter(t)
			rotationDoor(c.Rig, "on", rc.agent)
			before := c.KeysFile("on")
			state := rotationOf(c.Rig, "on")
			c.Until("the rotation", c.Is(state, rotation.ItemDone))
			rotated(c.Rig, "on", before, true)
			c.Fail = string(rotation.Enter)
			rotationDoor(c.Rig, "back", rc.agent)
			before = c.KeysFile("back")
			state = rotationOf(c.Rig, "back")
			c.Until("the undo", c.Is(state, rotation.ItemFailed))
			rotated(c.Rig, "back", before, false)
			if cuts := c.Cuts(); cuts != 2*(4+3) {
				t.Errorf("it was cut off %d times, want twice in each of four steps, and of two and an undo", cuts)
			}
		})
	}
}

func TestOfTwoServicesOneIsKilledAtEveryInstantOfARotation(t *testing.T) {
	for _, rc := range rotationCases {
		t.Run(rc.name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.NewRestoreRig(t, nil)
			rotationDoor(r, "on", rc.agent)
			rotationDoor(r, "back", rc.agent)
			was := map[string]string{"on": r.KeysFile("on"), "back": r.KeysFile("back")}
			r.Down()
			state := rotationOf(r, "on")
			instants := r.ServeByTwo("", r.Is(state, rotation.ItemDone))
			rotated(r, "on", was["on"], true)
			state = rotationOf(r, "back")
			instants = append(instants, r.ServeByTwo(string(rotation.Enter), r.Is(state, rotation.ItemFailed))...)
			rotated(r, "back", was["back"], false)
			if len(instants) != 4+3 {
				t.Errorf("killed at %v, want at each of four steps, and of two and an undo", instants)
			}
		})
	}
}
