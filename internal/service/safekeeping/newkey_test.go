package safekeeping_test

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

	"plumlatch/internal/record"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/store"
)

// TestANewSafeKeyLosesNothingThatAnotherProcessSeals has one process replace the safe key while another, which
// has the same file and looks at it of itself, puts secrets into the safe.
func TestANewSafeKeyLosesNothingThatAnotherProcessSeals(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	before := o.Safe.Mark()
	its, err := safe.Open(o.SafeFile)
	if err != nil {
		t.Fatal(err)
	}
	other := o.Beside(o.Store, its)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var group sync.WaitGroup
	group.Go(func() {
		for ctx.Err() == nil {
			if err := other.Safes.TellKeys(ctx); err != nil && ctx.Err() == nil {
				t.Error(err)
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	put := func(n int) error {
		_, err := other.Notify.AddSubscriber(
			t.Context(), o.Ines, journal.IdempotencyKey{}, fmt.Sprint("r-", n), "https://hooks.example/x", nil,
		)
		return err
	}
	if err := put(0); err != nil {
		t.Fatal(err)
	}
	group.Go(func() {
		for n := 1; n <= 40; n++ {
			var refused *problem.Problem
			if err := put(n); err != nil && !errors.Is(err, store.ErrOtherKey) && !errors.As(err, &refused) {
				t.Error(err)
			}
		}
	})
	state, err := o.Safes.NewKey(t.Context(), o.Ines.By(), "a try")
	stop()
	group.Wait()
	if err != nil || state.Mark == before || state.SafeKeys != 1 || len(state.Unreadable) > 0 {
		t.Fatalf("%+v %v", state, err)
	}
	if err := put(99); err != nil {
		t.Fatal(err)
	}
	fresh, err := safe.Open(o.SafeFile)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	if err := o.Safes.EachEncrypted(store.Unlimited(t.Context()), func(x record.Encrypted) error {
		n++
		_, err := fresh.Open(x.Encrypted, x.Record)
		return err
	}); err != nil || n < 2 {
		t.Errorf("of %d things: %v", n, err)
	}
	// What is encrypted under the old key is no longer kept.
	err = o.Store.InTx(t.Context(), func(tx *store.Store) error {
		return tx.AddServiceKey(
			t.Context(), record.ServiceKey{Name: "late", Blob: []byte("x"), MadeAt: o.Now()},
			record.Secret{Encrypted: []byte("x"), Mark: before},
		)
	})
	if !errors.Is(err, store.ErrOtherKey) {
		t.Errorf("encrypted under the old safe key: %v", err)
	}
}

// TestANewSafeKeyWaitsForAProcessWithoutTheNewKeyAndStepsOverWhatNoneOpens has a process with a file of its own.
func TestANewSafeKeyWaitsForAProcessWithoutTheNewKeyAndStepsOverWhatNoneOpens(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	o.Keep("good", "ines", nil)
	k := o.Keep("bent", "ines", nil)
	kept, err := o.Store.KeptKey(t.Context(), k.ID)
	if err == nil {
		err = o.Store.Reseal(
			t.Context(), record.Encrypted{Table: "kept_keys", ID: k.ID.String(), Encrypted: kept.Encrypted},
			record.Secret{Encrypted: []byte("bent"), Mark: o.Safe.Mark()},
		)
	}
	if err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(t.TempDir(), "own.key")
	text, err := os.ReadFile(o.SafeFile)
	if err == nil {
		err = os.WriteFile(own, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	its, err := safe.Open(own)
	if err != nil {
		t.Fatal(err)
	}
	other := o.Beside(o.Store, its)
	before := o.Safe.Mark()
	if err := other.Safes.TellKeys(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := o.Safe.AddKey(); err != nil {
		t.Fatal(err)
	}
	_, err = o.Safes.RenewWithin(t.Context(), 0)
	o.Wants("a process without the key", err, "new-key-waits")
	if state, err := o.Safes.SafeState(t.Context()); err != nil || state.Mark != before || state.SafeKeys != 2 {
		t.Errorf("%+v %v", state, err)
	}
	// It continues by itself once the other process has the key.
	if text, err = os.ReadFile(o.SafeFile); err == nil {
		err = os.WriteFile(own, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Safes.TellKeys(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := o.Safes.CarryNewKey(t.Context()); err != nil {
		t.Fatal(err)
	}
	state, err := o.Safes.SafeState(t.Context())
	if err != nil || state.Mark == before || state.SafeKeys != 1 ||
		strings.Join(state.Unreadable, "") != "the private key of bent" {
		t.Errorf("%+v %v", state, err)
	}
	if err := o.Safes.CarryNewKey(t.Context()); err != nil {
		t.Errorf("again: %v", err)
	}
}

func TestWhatASafeCannotBeOpenedWithIsSaidAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return file
	}
	good := strings.Repeat("QUJDREVGR0hJSktMTU5PUFFSU1RVVldY", 1)
	for name, c := range map[string]struct{ file, says string }{
		"missing":        {filepath.Join(dir, "none"), "no such file"},
		"others read it": {write("open", good, 0o644), "chmod 600"},
		"empty":          {write("empty", "", 0o600), "has none"},
		"short":          {write("short", "QUJD\n", 0o600), "not 32 bytes"},
		"half written":   {write("half", good[:20], 0o600), "not 32 bytes"},
	} {
		if _, err := safe.Open(c.file); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := safe.OpenCommand("/bin/false"); err == nil || strings.Contains(err.Error(), good) {
		t.Errorf("a command that fails: %v", err)
	}
}

func TestANewSafeKeyPutsEverythingUnderTheNewKeyAndCanBeCutOff(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	for n := range 30 {
		o.Keep(fmt.Sprint("kept-", n), "ines", nil)
	}
	if _, err := o.People.BeginFactor(t.Context(), o.Ines); err != nil {
		t.Fatal(err)
	}
	if _, err := o.Journal.Head(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := o.Notify.AddSubscriber(
		t.Context(), o.Ines, journal.IdempotencyKey{}, "pager", "https://hooks.example/x", nil,
	); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(o.SafeFile)
	if err != nil {
		t.Fatal(err)
	}
	// Interrupted after a part: the new key is in the file, and some things are under
	// it.
	if err := o.Safe.AddKey(); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(
		o.Store.WantMark(t.Context(), o.Safe.Mark()), o.Store.UseMark(t.Context(), o.Safe.Mark()),
	); err != nil {
		t.Fatal(err)
	}
	things, err := o.Store.EncryptedThings(t.Context(), nil, 7)
	if err != nil || len(things) != 7 {
		t.Fatal(len(things), err)
	}
	for _, x := range things {
		encrypted, err := o.Safe.Reseal(o.Safe.Mark(), x.Encrypted, x.Record)
		if err != nil {
			t.Fatal(err)
		}
		if err := o.Store.Reseal(t.Context(), x, record.Secret{Encrypted: encrypted, Mark: o.Safe.Mark()}); err != nil {
			t.Fatal(err)
		}
	}
	// Another process comes up with the file as it is, and continues.
	o.Restart()
	if err := o.Safes.CarryNewKey(t.Context()); err != nil {
		t.Fatal(err)
	}
	state, err := o.Safes.SafeState(t.Context())
	if err != nil || state.SafeKeys != 1 || state.PrivateKeys != 30 {
		t.Fatalf("%+v %v", state, err)
	}
	old := filepath.Join(t.TempDir(), "old.key")
	if err := os.WriteFile(old, before, 0o600); err != nil {
		t.Fatal(err)
	}
	oldSafe, err := safe.Open(old)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	var last *record.Encrypted
	for {
		things, err := o.Store.EncryptedThings(t.Context(), last, 10)
		if err != nil {
			t.Fatal(err)
		}
		if len(things) == 0 {
			break
		}
		for _, x := range things {
			count++
			if _, err := o.Safe.Open(x.Encrypted, x.Record); err != nil {
				t.Errorf("%s: %v", x.Record, err)
			}
			if _, err := oldSafe.Open(x.Encrypted, x.Record); err == nil {
				t.Errorf("%s still opens with the old safe key", x.Record)
			}
			if _, err := o.Safe.Open(x.Encrypted, "another record"); err == nil {
				t.Errorf("%s opens for another record", x.Record)
			}
		}
		last = &things[len(things)-1]
	}
	if count != 33 {
		t.Errorf("%d encrypted things, want 33", count)
	}
	if state, err = o.Safes.NewKey(t.Context(), o.Ines.By(), "again"); err != nil || state.SafeKeys != 1 {
		t.Errorf("%+v %v", state, err)
	}
	text, err := os.ReadFile(o.SafeFile)
	if info, errStat := os.Stat(o.SafeFile); err != nil || errStat != nil || strings.Count(string(text), "\n") != 1 ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("%d lines, %v %v", strings.Count(string(text), "\n"), info.Mode(), errors.Join(err, errStat))
	}
}
