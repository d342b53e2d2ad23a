package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/safe"
	"plumlatch/internal/store"
)

// TestARekeyLosesNothingThatAnotherProcessSeals has one process replace the master key while another, which
// has the same file and looks at it of itself, puts secrets into the safe.
func TestARekeyLosesNothingThatAnotherProcessSeals(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	before := o.Safe.Mark()
	other := &Service{store: o.store, now: o.now, log: o.log, engine: o.engine, process: newProcess()}
	var err error
	if other.Safe, err = safe.Open(o.safeFile); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var group sync.WaitGroup
	group.Go(func() {
		for ctx.Err() == nil {
			if err := other.tellMasters(ctx); err != nil && ctx.Err() == nil {
				t.Error(err)
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	put := func(n int) error {
		_, err := other.AddReceiver(
			t.Context(),
			o.ines,
			IdempotencyKey{},
			fmt.Sprint("r-", n),
			"https://hooks.example/x",
			nil,
		)
		return err
	}
	if err := put(0); err != nil {
		t.Fatal(err)
	}
	group.Go(func() {
		for n := 1; n <= 40; n++ {
			var refused *Problem
			if err := put(n); err != nil && !errors.Is(err, store.ErrOtherMaster) && !errors.As(err, &refused) {
				t.Error(err)
			}
		}
	})
	state, err := o.Rekey(t.Context(), o.ines.By(), "a try")
	stop()
	group.Wait()
	if err != nil || state.Mark == before || state.Masters != 1 || len(state.Unreadable) > 0 {
		t.Fatalf("%+v %v", state, err)
	}
	if err := put(99); err != nil {
		t.Fatal(err)
	}
	fresh, err := safe.Open(o.safeFile)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	if err := o.eachSealed(store.Unlimited(t.Context()), func(x store.Sealed) error {
		n++
		_, err := fresh.Open(x.Sealed, x.Record)
		return err
	}); err != nil || n < 2 {
		t.Errorf("of %d things: %v", n, err)
	}
	// What is sealed under the old key is not kept any more.
	err = o.store.InTx(t.Context(), func(tx *store.Store) error {
		return tx.AddServiceKey(
			t.Context(),
			store.ServiceKey{Name: "late", Blob: []byte("x"), MadeAt: o.now()},
			store.Secret{Sealed: []byte("x"), Mark: before},
		)
	})
	if !errors.Is(err, store.ErrOtherMaster) {
		t.Errorf("sealed under the old master key: %v", err)
	}
}

// TestARekeyWaitsForAProcessWithoutTheNewKeyAndStepsOverWhatNoneOpens has a process with a file of its own.
func TestARekeyWaitsForAProcessWithoutTheNewKeyAndStepsOverWhatNoneOpens(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.keep("good", "ines", nil)
	k := o.keep("bent", "ines", nil)
	half, err := o.store.KeptHalf(t.Context(), k.ID)
	if err == nil {
		err = o.store.Reseal(
			t.Context(),
			store.Sealed{Table: "kept_halves", ID: k.ID.String(), Sealed: half.Sealed},
			store.Secret{Sealed: []byte("bent"), Mark: o.Safe.Mark()},
		)
	}
	if err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(t.TempDir(), "own.key")
	text, err := os.ReadFile(o.safeFile)
	if err == nil {
		err = os.WriteFile(own, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	other := &Service{store: o.store, now: o.now, log: o.log, engine: o.engine, process: newProcess()}
	if other.Safe, err = safe.Open(own); err != nil {
		t.Fatal(err)
	}
	before := o.Safe.Mark()
	if err := other.tellMasters(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := o.Safe.AddMaster(); err != nil {
		t.Fatal(err)
	}
	_, err = o.rekey(t.Context(), 0)
	o.wants("a process without the key", err, "rekey-waits")
	if state, err := o.SafeState(t.Context()); err != nil || state.Mark != before || state.Masters != 2 {
		t.Errorf("%+v %v", state, err)
	}
	// It goes on by itself once the other process has the key.
	if text, err = os.ReadFile(o.safeFile); err == nil {
		err = os.WriteFile(own, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := other.tellMasters(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := o.carryRekey(t.Context()); err != nil {
		t.Fatal(err)
	}
	state, err := o.SafeState(t.Context())
	if err != nil || state.Mark == before || state.Masters != 1 ||
		strings.Join(state.Unreadable, "") != "the private half of bent" {
		t.Errorf("%+v %v", state, err)
	}
	if err := o.carryRekey(t.Context()); err != nil {
		t.Errorf("again: %v", err)
	}
}
