package runs

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"

	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// Progress is how a step tells of itself while it works.
type Progress struct {
	engine  *Engine
	run     *record.Run
	payload any
	seq     int
	last    string
	// resumed is whether another worker may have begun the same.
	resumed bool
}

// overlap is for how long after a run was taken the worker that lost it may still be at its step:
// it learns of it within a second, and then ends what it has asked of a machine or a cloud.
const overlap = 3 * time.Second

// overlapping reports whether a failure may come of the worker that had the run before, which was
// doing the same. It is seen again once that has ended.
func (p *Progress) overlapping(ctx context.Context, err error) bool {
	taken := p.run.TakenAt
	if !p.resumed || p.run.Epoch < 2 || taken == nil || !isFailure(ctx, err) || waitsIn(err) != nil {
		return false
	}
	var fault *panicked
	return !errors.As(err, &fault) && p.engine.Clock.Now().Before(taken.Add(overlap))
}

// Run is the run as it was when the worker took it up.
func (p *Progress) Run() record.Run { return *p.run }

// Save keeps the payload as the steps have changed it by now. It will be called before
// what it tells of is done, so that it is known after a cut.
func (p *Progress) Save(ctx context.Context) error {
	data, err := Encode(p.payload)
	if err != nil {
		return err
	}
	p.run.Payload = data
	return p.engine.store.SavePayload(ctx, p.run.ID, p.run.Epoch, data)
}

// Report is what somebody outside the service has reported of the step by now; nil for nothing.
func (p *Progress) Report(ctx context.Context, step string) (*record.Report, error) {
	fresh, err := p.engine.store.RunByID(ctx, p.run.ID)
	if err != nil {
		return nil, err
	}
	p.run.Reports = fresh.Reports
	if r, there := fresh.Reports[step]; there {
		return &r, nil
	}
	return nil, nil
}

// Tell shows how far the step is, in percent, and what it does.
func (p *Progress) Tell(ctx context.Context, percent int, what string) error {
	now := fmt.Sprint(percent, what)
	if now == p.last {
		return nil
	}
	p.last = now
	return p.engine.change(ctx, p.run, record.RunChange{
		Steps: []record.StepChange{
			{Seq: p.seq, Percent: &percent, Outcome: new(text.Line(what, text.MaxMessage))},
		},
	})
}

// change is a fenced change of a run that this process has taken.
func (e *Engine) change(ctx context.Context, run *record.Run, c record.RunChange) error {
	defer e.hub.tell(run.ID)
	return e.store.ChangeRun(ctx, run.ID, run.Epoch, c)
}

// work carries the run on for as far as it goes. It returns at once if another
// worker has the run.
func (e *Engine) work(ctx context.Context, id uuid.UUID) error {
	ctx, release, ok, err := e.store.Lock(store.ForWork(ctx), "run "+id.String())
	if err != nil || !ok {
		return err
	}
	defer release()
	run, err := e.store.TakeRun(ctx, id, e.Clock.Now())
	if errors.Is(err, store.ErrFenced) {
		return nil // it has ended
	}
	if err != nil {
		return err
	}
	ctx = store.ForRun(ctx, id, run.Epoch)
	forward, cut := context.WithCancelCause(ctx)
	defer cut(nil)
	e.busy.Store(id, cut)
	defer e.busy.Delete(id)
	plan, err := e.planFor(ctx, &run)
	if err != nil {
		if !isFailure(ctx, err) {
			return err
		}
		return e.giveUp(ctx, run, plan, err)
	}
	if plan.Close != nil {
		defer plan.Close()
	}
	err = e.carry(ctx, forward, &run, plan)
	if errors.Is(err, store.ErrFenced) {
		e.log.Warn("a run was taken by another worker meanwhile", "run", id)
		return nil
	}
	return err
}

// planFor returns the plan of a run whose steps are matched with those that are written down.
func (e *Engine) planFor(ctx context.Context, run *record.Run) (plan Plan, err error) {
	err = guard(func() (err error) { plan, err = e.planOf(*run); return err })
	if err != nil {
		return plan, err
	}
	matched, err := match(run.Steps, plan.Steps)
	if err != nil {
		return plan, err
	}
	if !same(run.Steps, matched) {
		for n := range matched {
			matched[n].RunID = run.ID
		}
		if err := e.store.ReplaceSteps(ctx, run.ID, run.Epoch, matched); err != nil {
			return plan, err
		}
	}
	run.Steps = matched
	return plan, nil
}

// guard turns a panic into an error.
func guard(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &panicked{what: fmt.Sprint(p), trace: string(debug.Stack())}
		}
	}()
	return do()
}

// panicked is a fault of this program that came up in a step.
type panicked struct{ what, trace string }

func (p *panicked) Error() string { return "a fault of this program came up; the service's log has it" }

func (e *Engine) logPanic(run *record.Run, err error) {
	var p *panicked
	if errors.As(err, &p) {
		e.log.Error("a step panicked", "run", run.ID, "kind", run.Kind, "panic", p.what, "trace", p.trace)
	}
}

// giveUp ends a run that this version cannot continue with.
func (e *Engine) giveUp(ctx context.Context, run record.Run, plan Plan, why error) error {
	e.logPanic(&run, why)
	reason := text.Line(why.Error(), 4*text.MaxMessage)
	run.Error = reason
	if plan.Ended == nil {
		plan.Ended = func(context.Context, *store.Store, State, string) error { return nil }
	}
	return e.end(ctx, run, plan, NeedsPerson, reason)
}

func (e *Engine) carry(ctx, forward context.Context, run *record.Run, plan Plan) error {
	if run.State != Undoing {
		cause := e.forward(forward, run, plan)
		switch {
		case cause == nil:
			return e.end(ctx, *run, plan, Done, "")
		case waitsIn(cause) != nil:
			return nil
		}
		if undo, err := e.undoWanted(ctx, forward, run, plan, cause); err != nil || !undo {
			return err
		}
	}
	cause := e.back(ctx, run, plan)
	switch {
	case cause == nil:
		return e.end(ctx, *run, plan, Undone, run.Error)
	case waitsIn(cause) != nil:
		return nil
	case !isFailure(ctx, cause) || IsTemporary(cause):
		return cause // interrupted: an undo is tried for as long as it takes
	}
	e.logPanic(run, cause)
	run.Error = fmt.Sprintf("%s; and it could not be undone: %v", run.Error, cause)
	return e.end(ctx, *run, plan, Failed, run.Error)
}

// undoWanted decides whether the run is undone, because a step failed or somebody asked.
func (e *Engine) undoWanted(ctx, forward context.Context, run *record.Run, plan Plan, cause error) (bool, error) {
	asked := errors.Is(context.Cause(forward), errUndo) || errors.Is(cause, errUndo)
	if !asked && !isFailure(ctx, cause) || ctx.Err() != nil {
		return false, cause // interrupted: it continues later
	}
	if asked {
		wanted, why, err := e.store.UndoAsked(ctx, run.ID)
		if err != nil || !wanted || !plan.Undoable {
			return false, errors.Join(err, cause)
		}
		cause = errors.New(why)
	}
	e.logPanic(run, cause)
	run.Error = text.Line(cause.Error(), 2*text.MaxMessage)
	run.State = Undoing
	return true, e.change(
		ctx, run, record.RunChange{State: Undoing, Error: &run.Error, Goes: true},
	)
}

// isFailure tells a step that failed from a service that is stopping, a lock that was lost, or a
// database that is away.
func isFailure(ctx context.Context, err error) bool {
	return ctx.Err() == nil && !store.Unavailable(err) && !errors.Is(err, store.ErrFenced)
}

// forward takes the steps that are left. The end of one is written down together
// with the begin of the next.
func (e *Engine) forward(ctx context.Context, run *record.Run, plan Plan) error {
	writtenDown := false
	for seq, step := range plan.Steps {
		row := &run.Steps[seq]
		if row.State == StepDone || row.State == StepLeft {
			continue
		}
		if plan.Undoable && run.CommittedAt == nil {
			asked, _, err := e.store.UndoAsked(ctx, run.ID)
			if err != nil {
				return err
			}
			if asked { // of another process, or before this one took it
				return errUndo
			}
		}
		begun := row.State == StepRunning
		resting := begun && run.Waits != nil && run.Waits.Step == step.Name && !run.Waits.Undo
		if !writtenDown && !resting {
			c := record.RunChange{Goes: true, Steps: []record.StepChange{e.begin(row)}}
			if run.State == Queued {
				c.State, run.State = Running, Running
			}
			if err := e.change(ctx, run, c); err != nil {
				return err
			}
			run.Waits = nil
		}
		p := &Progress{engine: e, run: run, payload: plan.Payload, seq: seq, resumed: !writtenDown && begun && !resting}
		var outcome string
		err := e.patiently(ctx, step, p, func() (err error) {
			outcome, err = step.Do(ctx, p)
			return err
		})
		state := StepDone
		switch {
		case err == nil:
		case waitsIn(err) != nil:
			return e.rest(ctx, run, step.Name, false, seq, err)
		case !isFailure(ctx, err):
			return err
		case run.CommittedAt != nil: // nothing undoes it any more
			e.logPanic(run, err)
			state, outcome = StepLeft, err.Error()
		default:
			row.State = StepFailed
			if err := e.change(ctx, run, record.RunChange{Steps: []record.StepChange{{
				Seq: seq, State: StepFailed, Outcome: new(text.Line(err.Error(), text.MaxMessage)), EndedAt: new(e.Clock.Now()),
			}}}); err != nil {
				return err
			}
			return fmt.Errorf("%s: %w", step.Title, err)
		}
		if writtenDown, err = e.stepEnded(ctx, run, plan, seq, state, outcome); err != nil {
			return err
		}
	}
	return nil
}

// stepEnded writes down the end of a step together with the begin of the next, if there is one
// that is written down by that. A step that commits the run does so in the same statement, or
// finds that the undo was asked for: then that wins.
func (e *Engine) stepEnded(
	ctx context.Context, run *record.Run, plan Plan, seq int, state StepState, outcome string,
) (next bool, err error) {
	now := e.Clock.Now()
	c := record.RunChange{
		Goes: true,
		Steps: []record.StepChange{
			{Seq: seq, State: state, Outcome: new(text.Line(outcome, text.MaxMessage)), Percent: new(100), EndedAt: &now},
		},
	}
	if plan.Steps[seq].Commits && run.CommittedAt == nil {
		c.Commits, c.CommittedAt = true, &now
	}
	if next = seq+1 < len(plan.Steps) && run.Steps[seq+1].State == StepWaiting; next {
		c.Steps = append(c.Steps, e.begin(&run.Steps[seq+1]))
	}
	err = e.change(ctx, run, c)
	if errors.Is(err, store.ErrFenced) && c.Commits {
		if asked, _, look := e.store.UndoAsked(ctx, run.ID); look == nil && asked {
			return false, errUndo
		}
	}
	if err != nil {
		return false, err
	}
	run.Steps[seq].State, run.Waits = state, nil
	if c.Commits {
		run.CommittedAt = &now
	}
	return next, nil
}

// rest leaves a run that waits for somebody.
func (e *Engine) rest(ctx context.Context, run *record.Run, step string, undo bool, seq int, err error) error {
	w := waitsIn(err).Waits
	w.Step, w.Undo, w.Since = step, undo, e.Clock.Now()
	if before := run.Waits; before != nil {
		w.Since = before.Since
		if *before == w {
			return err // it is written down
		}
		if before.Step != w.Step || before.Undo != w.Undo || before.What != w.What {
			w.Since = e.Clock.Now()
		}
	}
	run.Waits = &w
	c := record.RunChange{
		Waits: &w,
		Steps: []record.StepChange{{Seq: seq, Outcome: new(text.Line(w.Sentence(), text.MaxMessage))}},
	}
	return errors.Join(e.change(ctx, run, c), err)
}

// begin is the begin of a step.
func (e *Engine) begin(row *record.RunStep) record.StepChange {
	c := record.StepChange{Seq: row.Seq, State: StepRunning, Outcome: new(""), Percent: new(0)}
	row.State = StepRunning
	if row.StartedAt == nil {
		row.StartedAt = new(e.Clock.Now())
		c.StartedAt = row.StartedAt
	}
	return c
}

// back undoes, last first, every step that was begun.
func (e *Engine) back(ctx context.Context, run *record.Run, plan Plan) error {
	for seq, step := range slices.Backward(plan.Steps) {
		state := run.Steps[seq].State
		if step.Undo == nil || state == StepWaiting || state == StepUndone {
			continue
		}
		p := &Progress{engine: e, run: run, payload: plan.Payload, seq: seq, resumed: true}
		if err := e.patiently(ctx, step, p, func() error { return step.Undo(ctx, p) }); err != nil {
			if waitsIn(err) != nil {
				return e.rest(ctx, run, step.Name, true, seq, err)
			}
			if IsTemporary(err) {
				err = errors.Join(err, p.Tell(ctx, 0, "the undo waits: "+err.Error()))
			}
			return fmt.Errorf("%s: %w", step.UndoIntent, err)
		}
		if err := e.change(ctx, run, record.RunChange{
			Goes:  true,
			Steps: []record.StepChange{{Seq: seq, State: StepUndone}},
		}); err != nil {
			return err
		}
		run.Steps[seq].State, run.Waits = StepUndone, nil
	}
	return nil
}

// patiently repeats do while its errors are temporary and patience lasts, less and less often
// and with some chance in when, so that many that wait for one thing do not come at once.
func (e *Engine) patiently(ctx context.Context, step Step, p *Progress, do func() error) error {
	pauses := &backoff.ExponentialBackOff{
		InitialInterval:     e.RetryAfter,
		RandomizationFactor: 0.3,
		Multiplier:          1.5,
		MaxInterval:         20 * e.RetryAfter,
	}
	for until := e.Clock.Now().Add(step.Patience); ; {
		err := guard(do)
		passes := IsTemporary(err) && !e.Clock.Now().After(until)
		if err == nil || ctx.Err() != nil || !passes && !p.overlapping(ctx, err) {
			return err
		}
		if err := p.Tell(ctx, 0, "waiting: "+err.Error()); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-e.Clock.After(pauses.NextBackOff()):
		}
	}
}

func (e *Engine) end(ctx context.Context, run record.Run, plan Plan, state State, reason string) error {
	err := e.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.EndRun(ctx, run.ID, run.Epoch, state, reason, e.Clock.Now()); err != nil {
			return err
		}
		return plan.Ended(ctx, tx, state, reason)
	})
	if err != nil {
		return err
	}
	e.hub.tell(run.ID)
	e.log.Info("run ended", "run", run.ID, "kind", run.Kind, "instance", run.Instance.Name, "state", state)
	if plan.After != nil {
		if err := plan.After(ctx); err != nil {
			e.log.Warn("continue after a run", "run", run.ID, "err", err)
		}
	}
	return nil
}

// AskUndo has a run of an undoable kind undone, unless it is past its point of no return or has
// ended: won tells. The step that is at work is interrupted.
func (e *Engine) AskUndo(ctx context.Context, run uuid.UUID, why string) (won bool, err error) {
	won, err = e.store.AskUndo(ctx, run, why, e.Clock.Now())
	if err != nil || !won {
		return false, err
	}
	e.hub.tell(run)
	if cut, at := e.busy.Load(run); at {
		cut.(context.CancelCauseFunc)(errUndo)
	}
	e.Wake(ctx, run)
	return true, nil
}
