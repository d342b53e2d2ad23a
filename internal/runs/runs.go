// Package runs carries out runs: lists of steps that are written down before they
// begin and after they end, so that a run that was interrupted at any instant goes
// on or is undone.
//
// The rows of the store are the truth. A job of the queue carries only a run's
// id and wakes a worker; every few seconds every run that has not ended is woken.
//
// A worker takes a run by raising its epoch, and every write names that: one that lost
// the lock of a run, and another took it, writes nothing more. Steps are matched by their
// names, so that a run outlives an upgrade. A run has at most one step that commits it.
// Before it has ended, whatever fails undoes the run, and so does whoever asks; after it,
// nothing does, and what cannot be done is left to do.
package runs

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// State is a state of a run.
type State = record.RunState

// The states of a run. One that NeedsPerson has ended, and neither is all of it done nor all
// of it undone; its error says what to do.
const (
	Queued      State = "queued"
	Running     State = "running"
	Undoing     State = "undoing"
	Done        State = "done"
	Undone      State = "undone"
	Failed      State = "failed"
	NeedsPerson State = "needs-person"
)

// StepState is a state of a step.
type StepState = record.StepState

// The states of a step. One that is left could not be done after the run's point of no
// return.
const (
	StepWaiting StepState = "waiting"
	StepRunning StepState = "running"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
	StepUndone  StepState = "undone"
	StepLeft    StepState = "left"
)

// Step is one step of a kind of run. Do and Undo are repeated when they were
// interrupted, so each must find out for itself what is done already.
type Step struct {
	// Name is what the step is matched by; Was are names that it had in earlier versions.
	Name string
	Was  []string

	Title string
	// Intent and UndoIntent are written down before the step starts.
	Intent, UndoIntent string
	// Do takes the step and says what came of it.
	Do func(context.Context, *Progress) (outcome string, err error)
	// Undo takes it back, also where Do was interrupted or failed half-way. Nil where
	// there is nothing to take back.
	Undo func(context.Context, *Progress) error
	// Commits is whether the run's point of no return is the end of this step.
	Commits bool
	// Patience is for how long Do is tried again while its errors are Temporary.
	// An Undo is tried again for as long as they are.
	Patience time.Duration
}

// Plan gives the steps of a run and what is to follow its end.
type Plan struct {
	Steps []Step
	// Payload points to what the steps share and change; see Progress.Save.
	Payload any
	// Undoable is whether the run may be undone because somebody asks for it; see AskUndo.
	Undoable bool
	// Ended is called in the transaction in which the run ends, with its last
	// state and, where it did not succeed, the reason.
	Ended func(ctx context.Context, tx *store.Store, state State, reason string) error
	// After, where it is set, is called once the end is written down. A call that is
	// lost must be made up for by somebody else.
	After func(ctx context.Context) error
	// Close, where it is set, is called when a worker leaves the run, ended or not.
	Close func()
}

// Planner gives the plan of a run, the same each time. An error means that this version does
// not know how to continue with the run.
type Planner func(record.Run) (Plan, error)

// ErrPayload is wrapped by the error of a payload that this version cannot read.
var ErrPayload = errors.New("what the run works on is written in a form that this version does not know")

// Encode writes a payload.
func Encode(payload any) (json.RawMessage, error) { return json.Marshal(payload) }

// Decode reads the payload of a run, which must have the version and no field that is not known.
func Decode[T any](run record.Run, version int) (*T, error) {
	if run.PayloadVersion != version {
		return nil, fmt.Errorf("%w: version %d, and this is for %d", ErrPayload, run.PayloadVersion, version)
	}
	v := new(T)
	d := json.NewDecoder(bytes.NewReader(run.Payload))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPayload, err)
	}
	return v, nil
}

// temporary marks an error that may pass by itself.
type temporary struct{ error }

func (t temporary) Unwrap() error { return t.error }

// Temporary marks err as one that may pass by itself, so that the step is
// tried again for as long as its patience lasts. One that waits for somebody stays that.
func Temporary(err error) error {
	if err == nil || waitsIn(err) != nil {
		return err
	}
	return temporary{err}
}

// IsTemporary reports whether err was marked by Temporary.
func IsTemporary(err error) bool {
	var t temporary
	return errors.As(err, &t)
}

// waiting is the error of a step, or an undo, that waits for somebody.
type waiting struct{ record.Waits }

func (w *waiting) Error() string { return "waits for " + w.Who + " " + w.What }

// WaitFor is returned by a step or an undo that somebody outside the service has to do something
// for. The run is left where it is until it is woken. Who is to do What, as in "ines" and "to log
// in to debian@door"; Step, Undo and Since are filled in.
func WaitFor(w record.Waits) error { return &waiting{w} }

func waitsIn(err error) *waiting {
	var w *waiting
	if errors.As(err, &w) {
		return w
	}
	return nil
}

// errUndo is why the work on a run is interrupted where its undo is asked for.
var errUndo = errors.New("an undo was asked for")

// Clock tells the time and waits.
type Clock interface {
	Now() time.Time
	// After is a channel that gets a value once so much time has passed.
	After(time.Duration) <-chan time.Time
}

// SystemClock is the clock of the machine.
type SystemClock struct{}

// Now is the time of the machine.
func (SystemClock) Now() time.Time { return time.Now() }

// After is time.After.
func (SystemClock) After(d time.Duration) <-chan time.Time { return time.After(d) }
