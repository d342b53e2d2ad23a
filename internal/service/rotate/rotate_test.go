package rotate_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/servicetest"
)

// TestAClockThatJumpsMovesARemovalAndNeverTakesAProofAway sets the clock on and back
// while both keys are in place beside each other.
func TestAClockThatJumpsMovesARemovalAndNeverTakesAProofAway(t *testing.T) {
	r := servicetest.NewRig(t)
	r.Launch("door", "old")
	grace := rotation.Settings{GraceSeconds: 3600}
	state := r.StartRotation(
		rotate.RotationStart{RotationWanted: servicetest.Selecting("old"), Make: rotate.MakeService, Settings: grace},
	)
	r.Until("both keys", r.Is(state, rotation.ItemProved))
	both := r.KeysFile("door")
	if !r.Stands("door", "old") || !r.Stands("door", "old-2") {
		t.Errorf("the file is\n%s", both)
	}
	for _, by := range []time.Duration{-3 * time.Hour, 30 * 24 * time.Hour, -30 * 24 * time.Hour} {
		r.Jump(by)
		if by > 0 {
			break
		}
		if err := r.Rotate.CarryRotations(t.Context()); err != nil {
			t.Fatal(err)
		}
		if !r.Is(state, rotation.ItemProved)() || r.KeysFile("door") != both {
			t.Errorf("the clock was set by %s, and the grace was over:\n%s", by, r.KeysFile("door"))
		}
	}
	// Set on by a month, the grace is over; the login is completed again all the same.
	r.Until("the removal", r.Is(state, rotation.ItemDone))
	if r.Stands("door", "old") || !r.Stands("door", "old-2") {
		t.Errorf("the file is\n%s", r.KeysFile("door"))
	}
	r.Jump(-40 * 24 * time.Hour) // and a done one stays done
	if err := r.Rotate.CarryRotations(t.Context()); err != nil || !r.Is(state, rotation.ItemDone)() {
		t.Errorf("%v", err)
	}
}

func TestALoginThatIsReportedWhileTheClockIsSetBackCounts(t *testing.T) {
	r := servicetest.NewRig(t)
	r.Launch("door", "old")
	made, private, err := r.Keys.MakeKey(
		t.Context(), r.Ines, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: "next"}},
	)
	if err != nil || len(private) == 0 {
		t.Fatal(err)
	}
	wanted := servicetest.Selecting("old")
	wanted.To = made.Name
	state := r.StartRotation(rotate.RotationStart{RotationWanted: wanted})
	r.Until("the new line", r.Is(state, rotation.ItemPlaced))
	r.Jump(-26 * time.Hour)
	i, err := r.Fleet.Instance(t.Context(), "door")
	if err != nil {
		t.Fatal(err)
	}
	hostKey, err := ssh.ParsePublicKey(i.HostKeys[0].Blob)
	if err != nil {
		t.Fatal(err)
	}
	r.ReportEntry("debian@door", "next", ssh.FingerprintSHA256(hostKey), private)
	r.Until("the end", r.Is(state, rotation.ItemDone))
	if r.Stands("door", "old") || !r.Stands("door", "next") {
		t.Errorf("the file is\n%s", r.KeysFile("door"))
	}
}

func TestAStepTakenElsewhereThatIsNotReportedFailsInTime(t *testing.T) {
	r := servicetest.NewRig(t)
	r.LaunchWith("door", "old", false)
	wanted := servicetest.Selecting("old")
	wanted.FromHere = true
	if _, _, err := r.Keys.MakeKey(
		t.Context(), r.Ines, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: "next"}},
	); err != nil {
		t.Fatal(err)
	}
	wanted.To = "next"
	state := r.StartRotation(rotate.RotationStart{RotationWanted: wanted})
	before := r.KeysFile("door")
	if err := r.Rotate.CarryRotations(t.Context()); err != nil || !r.Is(state, rotation.ItemWaiting)() {
		t.Errorf("the service took what is to be edited from somebody's machine: %v", err)
	}
	taken, err := r.Rotate.TakeRotationItems(t.Context(), r.Ines, state.ID, []string{"old"}, 0)
	if err != nil || len(taken) != 1 || taken[0].Phase != rotation.In {
		t.Fatalf("%v %+v", err, taken)
	}
	if again, err := r.Rotate.TakeRotationItems(t.Context(), r.Ines, state.ID, []string{"old"}, 0); err != nil ||
		len(again) != 0 {
		t.Errorf("taken twice: %v %+v", err, again)
	}
	var p *problem.Problem
	if _, err := r.Runs.ReportStep(
		t.Context(), people.Actor{Name: "marek", Role: people.Operator}, taken[0].Run, "place", "done", "",
	); !errors.As(
		err, &p,
	) ||
		p.Code != "not-yours" {
		t.Errorf("somebody else reports: %v", err)
	}
	r.Jump(3 * time.Minute)
	r.Until("the failure", r.Is(state, rotation.ItemFailed))
	items, err := r.Rotate.RotationItems(t.Context(), state.ID, "", record.Page{Limit: 1})
	if err != nil || !strings.Contains(items.Items[0].Detail, "the machine of ines has not reported") ||
		r.KeysFile("door") != before {
		t.Errorf("%v %+v", err, items)
	}
	if _, err := r.Runs.ReportStep(t.Context(), r.Ines, taken[0].Run, "place", "done", ""); !errors.As(err, &p) ||
		p.Code != "run-ended" {
		t.Errorf("reported too late: %v", err)
	}
}

// TestARotationThatCannotGoOnHoldsUpNoOther has the record of one rotation be unreadable.
func TestARotationThatCannotGoOnHoldsUpNoOther(t *testing.T) {
	r := servicetest.NewRig(t)
	r.Launch("door", "old")
	r.Launch("gate", "other")
	grace := rotation.Settings{GraceSeconds: 3600}
	broken := r.StartRotation(
		rotate.RotationStart{RotationWanted: servicetest.Selecting("old"), Make: rotate.MakeService, Settings: grace},
	)
	r.Until("the first", r.Is(broken, rotation.ItemProved))
	later := r.StartRotation(
		rotate.RotationStart{RotationWanted: servicetest.Selecting("other"), Make: rotate.MakeService, Settings: grace},
	)
	r.Until("the second", r.Is(later, rotation.ItemProved))
	const spoil = "UPDATE rotations SET settings = '[]' WHERE id = $1"
	if _, err := r.Store.Pool().Exec(t.Context(), spoil, broken.ID); err != nil {
		t.Fatal(err)
	}
	r.Jump(2 * time.Hour)
	r.Until("the second's removal", r.Is(later, rotation.ItemDone))
	if err := r.Rotate.CarryRotations(t.Context()); err == nil || !strings.Contains(err.Error(), broken.ID.String()) {
		t.Errorf("the first is not told of: %v", err)
	}
}

// TestWhatTheCloudOffersIsAskedOnceForManyLogins counts calls while rotations are planned.
func TestWhatTheCloudOffersIsAskedOnceForManyLogins(t *testing.T) {
	r := servicetest.NewRig(t)
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		r.LaunchWith(name, "old", false)
	}
	r.Down()
	r.Restart() // what was known of the cloud is forgotten
	before := r.Capabilities.Load()
	if _, err := r.Rotate.PlanRotation(t.Context(), servicetest.Selecting("old")); err != nil {
		t.Fatal(err)
	}
	if asked := r.Capabilities.Load() - before; asked > 2 { // once by the duty that sees whether it answers
		t.Errorf("what it can do was asked %d times for 5 logins, want twice", asked)
	}
}
