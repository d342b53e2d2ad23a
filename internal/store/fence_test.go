package store_test

import (
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/machines"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// TestAWorkerThatLostItsRunWritesNothing has a step write in every form there is once another
// worker has taken the run.
func TestAWorkerThatLostItsRunWritesNothing(t *testing.T) {
	s := open(t)
	i, _ := addInstance(t, s, "tide-1")
	run := newRun(i)
	must(t, s.AddRun(t.Context(), run))
	mine, err := s.TakeRun(t.Context(), run.ID, begin)
	must(t, err)
	step := store.ForRun(t.Context(), run.ID, mine.Epoch)
	other := record.Instance{ID: uuid.Must(uuid.NewV7()), Name: "tide-2", Labels: map[string]string{}, CreatedAt: begin}
	writes := map[string]func() error{
		"a statement": func() error {
			return s.ChangeInstance(step, i.ID, record.InstanceChange{State: machines.Failed})
		},
		"a row":                 func() error { return s.AddInstance(step, &other) },
		"an entry":              func() error { return s.Note(step, record.Entry{At: begin, Person: "ines"}) },
		"a transaction":         func() error { return s.InTx(step, func(*store.Store) error { return nil }) },
		"one that may be lost":  func() error { return s.InLooseTx(step, func(*store.Store) error { return nil }) },
		"a part of the run":     func() error { return s.ChangeRun(step, run.ID, mine.Epoch, record.RunChange{}) },
		"the run's own payload": func() error { return s.SavePayload(step, run.ID, mine.Epoch, []byte(`{}`)) },
	}
	must(t, writes["a statement"]())
	must(t, s.ChangeInstance(t.Context(), i.ID, record.InstanceChange{State: machines.Running}))
	theirs, err := s.TakeRun(t.Context(), run.ID, begin)
	must(t, err)
	for what, write := range writes {
		if err := write(); !errors.Is(err, store.ErrFenced) {
			t.Errorf("%s: %v, want ErrFenced", what, err)
		}
	}
	if now, err := s.InstanceNamed(t.Context(), "tide-1"); err != nil || now.State != "running" {
		t.Errorf("the instance is %s: %v", now.State, err)
	}
	if _, err := s.InstanceNamed(t.Context(), "tide-2"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the row is there: %v", err)
	}
	if l, err := s.Daybook(t.Context(), record.EntryFilter{}, record.Page{Limit: 1}); err != nil || len(l.Items) != 0 {
		t.Errorf("the entry is there: %v %v", l.Items, err)
	}
	must(
		t,
		s.ChangeInstance(
			store.ForRun(t.Context(), run.ID, theirs.Epoch),
			i.ID,
			record.InstanceChange{State: machines.Stopped},
		),
	)
}

// TestARunIsTakenOnlyOnceTheTransactionAtWorkIsOver has another worker take the run in the midst
// of a step's transaction.
func TestARunIsTakenOnlyOnceTheTransactionAtWorkIsOver(t *testing.T) {
	s := open(t)
	i, _ := addInstance(t, s, "tide-1")
	run := newRun(i)
	must(t, s.AddRun(t.Context(), run))
	mine, err := s.TakeRun(t.Context(), run.ID, begin)
	must(t, err)
	step := store.ForRun(t.Context(), run.ID, mine.Epoch)
	taken := make(chan error, 1)
	must(t, s.InTx(step, func(tx *store.Store) error {
		go func() {
			_, err := s.TakeRun(t.Context(), run.ID, begin)
			taken <- err
		}()
		for until := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			var waiting int
			err := s.Pool().
				QueryRow(
					t.Context(),
					"SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'",
				).
				Scan(&waiting)
			if err != nil || waiting > 0 || time.Now().After(until) {
				if waiting == 0 {
					t.Errorf("nobody waits for the run: %v", err)
				}
				break
			}
		}
		return tx.ChangeInstance(step, i.ID, record.InstanceChange{State: machines.Stopped})
	}))
	must(t, <-taken)
	if now, err := s.InstanceNamed(t.Context(), "tide-1"); err != nil || now.State != "stopped" {
		t.Errorf("the instance is %s: %v", now.State, err)
	}
}
