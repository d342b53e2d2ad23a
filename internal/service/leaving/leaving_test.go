package leaving_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/servicetest"
)

func TestSomebodyLeavesAndNothingIsShut(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRig(t)
	ctx := t.Context()
	for _, name := range []string{"runa", "tomas"} {
		if err := r.People.AddOperator(
			ctx, r.Ines, journal.IdempotencyKey{},
			people.NewOperator{Name: name, Password: servicetest.OfficePassword, Role: people.Operator},
		); err != nil {
			t.Fatal(err)
		}
	}
	runa, err := r.Store.OperatorNamed(ctx, "runa")
	if err != nil {
		t.Fatal(err)
	}
	theirs := people.Actor{ID: runa.ID, Name: runa.Name, Role: people.Role(runa.Role)}
	for _, key := range []string{"runa-main", "runa-spare"} {
		if _, _, err := r.Keys.MakeKey(
			ctx, theirs, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: key}},
		); err != nil {
			t.Fatal(err)
		}
	}
	r.Launch("cam-1", "runa-main")
	r.Launch("cam-2", "runa-main")
	l, err := r.Leaving.Leaving(ctx, "runa")
	if err != nil || len(l.Items) != 3 || len(l.Shut) != 2 {
		t.Fatalf("%+v %v", l, err)
	}
	if _, err := r.Leaving.BeginLeaving(ctx, r.Ines, "runa", "nobody", ""); servicetest.CodeOf(err) != "no-such-holder" {
		t.Errorf("to nobody: %v", err)
	}
	if l, err = r.Leaving.BeginLeaving(ctx, r.Ines, "runa", "tomas", "the lighthouse"); err != nil || l.Begun == nil {
		t.Fatalf("%+v %v", l, err)
	}
	_, _, err = r.People.SignIn(ctx, people.SignIn{Name: "runa", Password: servicetest.OfficePassword})
	if !l.AccountClosed || l.Closed || servicetest.CodeOf(err) != "wrong-name-or-password" {
		t.Errorf("once it has begun, the account is closed: %v, and a sign-in gives %v", l.AccountClosed, err)
	}
	if _, err := r.Leaving.BeginLeaving(ctx, r.Ines, "runa", "tomas", ""); servicetest.CodeOf(err) != "leaving-already" {
		t.Errorf("again: %v", err)
	}
	// The service is stopped and started again on the way.
	r.Down()
	r.Store.Close()
	r.Reconnect()
	// Nobody is waited for while the rotation is at work, only while it is paused.
	var replaces uuid.UUID
	waits := func() string {
		t.Helper()
		err := r.Leaving.CarryLeavings(ctx)
		o, read := r.Store.OperatorNamed(ctx, "runa")
		if err := errors.Join(err, read); err != nil || o.Leaving.Rotation == nil {
			t.Fatalf("%+v %v", o.Leaving, err)
		}
		replaces = *o.Leaving.Rotation
		return o.Leaving.Note
	}
	waits() // begins it
	if note := waits(); note != "" {
		t.Errorf("it waits: %s", note)
	}
	if _, err := r.Rotate.ChangeRotation(ctx, r.Ines, replaces, "pause", "", ""); err != nil {
		t.Fatal(err)
	}
	if note := waits(); !strings.Contains(note, "is paused; let it continue: plumlatch rotate resume ") {
		t.Errorf("of a rotation that is paused it says %q", note)
	}
	if _, err := r.Rotate.ChangeRotation(ctx, r.Ines, replaces, "resume", "", ""); err != nil {
		t.Fatal(err)
	}
	if note := waits(); note != "" {
		t.Errorf("it waits: %s", note)
	}
	r.Up()
	r.Until("runa has left", func() bool {
		l, err = r.Leaving.Leaving(ctx, "runa")
		return err == nil && l.Closed
	})
	if len(l.Items) != 0 {
		t.Errorf("left to do: %+v", l.Items)
	}
	for _, instance := range []string{"cam-1", "cam-2"} {
		if r.Stands(instance, "runa-main") {
			t.Errorf("runa's key stands on %s", instance)
		}
		login, err := r.Access.Login(ctx, "debian@"+instance)
		if err != nil || login.Standing.State == "shut" {
			t.Errorf("%s is %s, %v", instance, login.Standing.State, err)
		}
	}
	kept, err := r.Keys.List(ctx, record.KeyFilter{Holder: "tomas"}, record.Page{Limit: 10})
	if err != nil || len(kept.Items) != 1 || kept.Items[0].Custody != "kept" {
		t.Errorf("tomas keeps %d keys, %v", len(kept.Items), err)
	}
	if _, _, err := r.People.SignIn(
		ctx, people.SignIn{Name: "runa", Password: servicetest.OfficePassword},
	); servicetest.CodeOf(
		err,
	) != "wrong-name-or-password" {
		t.Errorf("a sign-in afterwards: %v", err)
	}
	spare, err := r.Keys.Key(ctx, "runa-spare")
	if err != nil || spare.State != custody.Retired {
		t.Errorf("the spare key is %s, %v", spare.State, err)
	}
}
