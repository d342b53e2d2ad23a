// Package runs carries out runs: lists of steps that are written down before
// they begin and after they end, so that a run that was cut off at any instant is
// gone on with or undone.
//
// The rows of the store are the truth. A job of the queue carries only a run's
// id and wakes a worker; every few seconds every run that has not ended is woken.
package runs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"plumlatch/internal/store"
)

// The states of a run and of its steps.
const (
	Queued  = "queued"
	Running = "running"
	Undoing = "undoing"
	Done    = "done"
	Undone  = "undone"
	Failed  = "failed"

	StepWaiting = "waiting"
	StepRunning = "running"
	StepDone    = "done"
	StepFailed  = "failed"
	StepUndone  = "undone"
)

// Step is one step of a kind of run. Do and Undo are repeated when they were
// cut off, so each must find out for itself what is done already.
type Step struct {
	Name, Title string
	// Intent and UndoIntent are written down before the step starts.
	Intent, UndoIntent string
	// Do takes the step and says what came of it.
	Do func(context.Context, *Progress) (outcome string, err error)
	// Undo takes it back, also where Do was cut off or failed half-way. Nil where
	// there is nothing to take back.
	Undo func(context.Context, *Progress) error
	// Rests is whether somebody outside the service takes the step; see ErrRests.
	Rests bool
	// Patience is for how long Do is tried again while its errors are Temporary.
	// An Undo is tried again for as long as they are.
	Patience time.Duration
}

// Plan gives the steps of a run and what is to follow its end.
type Plan struct {
	Steps []Step
	// Ended is called in the transaction in which the run ends, with its last
	// state and, where it did not succeed, the reason.
	Ended func(ctx context.Context, tx *store.Store, state, reason string) error
	// After, where it is set, is called once the end is written down. A call that is
	// lost must be made up for by somebody else.
	After func(ctx context.Context) error
	// Undoable is whether the run may be undone because somebody asks for it; see AskUndo.
	Undoable bool
	// Close, where it is set, is called when a worker leaves the run, ended or not.
	Close func()
}

// Planner gives the plan of a run, the same each time.
type Planner func(store.Run) (Plan, error)

// temporary marks an error that may pass by itself.
type temporary struct{ error }

func (t temporary) Unwrap() error { return t.error }

// Temporary marks err as one that may pass by itself, so that the step is
// tried again for as long as its patience lasts.
func Temporary(err error) error { return temporary{err} }

// undoAsked is the fact that somebody wants the run undone, and who and why.
const undoAsked = "undo asked"

// errUndo is why the work on a run is cut off where its undo is asked for.
var errUndo = errors.New("an undo was asked for")

// AskUndo has a run of an undoable kind undone: the step that is at work is cut off.
func (e *Engine) AskUndo(ctx context.Context, run uuid.UUID, why string) error {
	if err := e.store.SetFact(ctx, run, undoAsked, why); err != nil {
		return err
	}
	e.hub.tell(run)
	if cut, at := e.busy.Load(run); at {
		cut.(context.CancelCauseFunc)(errUndo)
	}
	e.Wake(ctx, run)
	return nil
}

// ErrRests is returned by a step that somebody outside the service is at work on. The
// run is left where it is until it is woken.
var ErrRests = errors.New("the step is at work elsewhere")

// IsTemporary reports whether err was marked by Temporary.
func IsTemporary(err error) bool {
	var t temporary
	return errors.As(err, &t)
}

// Engine carries out runs.
type Engine struct {
	store *store.Store
	log   *slog.Logger
	plan  Planner
	queue *river.Client[pgx.Tx]
	hub   hub
	busy  sync.Map // the runs that this process is at work on, by their ids, with what cuts them off

	duties []Duty
	// rest ends what comes up again and again, which atWork counts.
	rest   context.CancelFunc
	atWork sync.WaitGroup

	// RetryAfter is the pause before a temporary failure is tried again.
	RetryAfter time.Duration
}

type wakeArgs struct {
	Run uuid.UUID `json:"run"`
}

func (wakeArgs) Kind() string { return "wake-run" }

// Duty is work that comes up again and again beside the runs. It is done by
// one process at a time.
type Duty struct {
	Name  string
	Every time.Duration
	Do    func(context.Context) error
}

type dutyArgs struct {
	Name string `json:"name"`
}

func (dutyArgs) Kind() string { return "duty" }

const (
	workers   = 16
	tendEvery = 3 * time.Second
	// apart is how much later each duty begins than the one before, so that a start does not
	// open a connection for each.
	apart = 25 * time.Millisecond
)

// Progress is how a step tells of itself while it works.
type Progress struct {
	engine *Engine
	run    store.Run
	seq    int
	last   string
}

// Run is the run as it was when the worker took it up.
func (p *Progress) Run() store.Run { return p.run }

// Fact returns what an earlier step left under the name.
func (p *Progress) Fact(name string) string { return p.run.Facts[name] }

// SetFact leaves something for the later steps.
func (p *Progress) SetFact(ctx context.Context, name, value string) error {
	p.run.Facts[name] = value
	return p.engine.store.SetFact(ctx, p.run.ID, name, value)
}

// Tell shows how far the step is, in percent, and what it waits for.
func (p *Progress) Tell(ctx context.Context, percent int, what string) error {
	now := fmt.Sprint(percent, what)
	if now == p.last {
		return nil
	}
	p.last = now
	return p.engine.changeSteps(ctx, p.run.ID, nil, store.StepChange{Seq: p.seq, Columns: map[string]any{"percent": percent, "outcome": what}})
}

// New returns an engine that is not started yet.
func New(s *store.Store, log *slog.Logger) *Engine {
	return &Engine{store: s, log: log, hub: hub{waiting: map[uuid.UUID]map[chan struct{}]bool{}}, RetryAfter: 500 * time.Millisecond}
}

// Take adds a duty; to be called before Start.
func (e *Engine) Take(d Duty) { e.duties = append(e.duties, d) }

// Start takes up the runs that have not ended and works until ctx ends.
func (e *Engine) Start(ctx context.Context, plan Planner) error {
	e.plan = plan
	w := river.NewWorkers()
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, j *river.Job[wakeArgs]) error { return e.work(ctx, j.Args.Run) }))
	river.AddWorker(w, river.WorkFunc(func(ctx context.Context, j *river.Job[dutyArgs]) error { return e.do(ctx, j.Args.Name) }))
	queue, err := river.NewClient(riverpgxv5.New(e.store.Pool()), &river.Config{
		Queues:     map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: workers}, "duties": {MaxWorkers: 4}},
		Workers:    w,
		JobTimeout: -1,
		// A run that follows another is taken up without a wait that would be seen.
		FetchCooldown: 10 * time.Millisecond,
		Logger:        slog.New(slog.DiscardHandler), // what matters is written down in the run
		ErrorHandler:  troubles{e.log},
	})
	if err != nil {
		return fmt.Errorf("make the job queue: %w", err)
	}
	if err := queue.Start(ctx); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	e.queue = queue
	// Not as jobs, which would be some hundred thousand a day that find nothing to do.
	ctx, e.rest = context.WithCancel(ctx)
	for n, d := range e.duties {
		e.every(ctx, d.Every, time.Duration(n)*apart, func() { e.do(ctx, d.Name) }) // which has said what failed
	}
	e.every(ctx, tendEvery, 0, func() {
		if err := e.tend(ctx); err != nil && isFailure(ctx, err) {
			e.log.Warn("look for runs that have not ended", "err", err)
		}
	})
	return nil
}

// every calls f again and again until ctx ends, for the first time after a while.
func (e *Engine) every(ctx context.Context, pause, first time.Duration, f func()) {
	once := func() {
		defer func() {
			if p := recover(); p != nil {
				e.log.Error("a duty panicked", "panic", p, "trace", string(debug.Stack()))
			}
		}()
		f()
	}
	e.atWork.Go(func() {
		begin, tick := time.NewTimer(first), time.NewTicker(pause)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-begin.C:
			case <-tick.C:
			}
			once()
		}
	})
}

// Beside does f in a goroutine that Stop waits for.
func (e *Engine) Beside(f func()) { e.atWork.Go(f) }

// insert has jobs done soon. Those that cannot be inserted are made up for by the next.
func (e *Engine) insert(ctx context.Context, queue string, jobs ...river.JobArgs) {
	if e.queue == nil || len(jobs) == 0 {
		return
	}
	all := make([]river.InsertManyParams, len(jobs))
	for n, job := range jobs {
		all[n] = river.InsertManyParams{Args: job, InsertOpts: &river.InsertOpts{Queue: queue, MaxAttempts: 1}}
	}
	if _, err := e.queue.InsertManyFast(ctx, all); err != nil && isFailure(ctx, err) {
		e.log.Warn("have jobs done", "queue", queue, "err", err)
	}
}

// troubles writes down what a run could not write down itself; it is taken up again.
type troubles struct{ log *slog.Logger }

func (t troubles) HandleError(ctx context.Context, job *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	if job.Kind == (wakeArgs{}).Kind() && !IsTemporary(err) && isFailure(ctx, err) {
		t.log.Warn("a run is left for the next try", "job", string(job.EncodedArgs), "err", err)
	}
	return nil
}

func (t troubles) HandlePanic(_ context.Context, job *rivertype.JobRow, what any, trace string) *river.ErrorHandlerResult {
	t.log.Error("a worker panicked", "kind", job.Kind, "panic", what, "trace", trace)
	return nil
}

// Stop lets the workers leave their steps where they are; the runs go on at
// the next Start.
func (e *Engine) Stop(ctx context.Context) {
	if e.queue == nil {
		return
	}
	e.rest()
	if err := e.queue.StopAndCancel(ctx); err != nil {
		e.log.Warn("stop the job queue", "err", err)
	}
	e.atWork.Wait()
}

// Wake has a worker look at the run. A wake that is lost costs at most tendEvery.
func (e *Engine) Wake(ctx context.Context, run uuid.UUID) {
	e.insert(ctx, river.QueueDefault, wakeArgs{run})
}

// Nudge has a duty done now, by this process or another. A nudge that is lost costs at most
// the duty's Every.
func (e *Engine) Nudge(ctx context.Context, duty string) {
	e.insert(ctx, "duties", dutyArgs{duty})
}

func (e *Engine) tend(ctx context.Context) error {
	ids, err := e.store.LiveRuns(ctx)
	if err != nil {
		return err
	}
	var waiting []river.JobArgs
	for _, id := range ids {
		if _, ours := e.busy.Load(id); !ours {
			waiting = append(waiting, wakeArgs{id})
		}
	}
	e.insert(ctx, river.QueueDefault, waiting...)
	return nil
}

// do does a duty, unless it is being done.
func (e *Engine) do(ctx context.Context, name string) error {
	for _, d := range e.duties {
		if d.Name != name {
			continue
		}
		release, ok, err := e.store.Lock(ctx, "duty "+name)
		if err != nil || !ok {
			return err
		}
		defer release()
		err = d.Do(ctx)
		if err != nil && isFailure(ctx, err) {
			e.log.Warn("a duty failed", "duty", name, "err", err)
		}
		return err
	}
	return nil // of an older version
}

// work carries the run on for as far as it goes. It returns at once if another
// worker has the run.
func (e *Engine) work(ctx context.Context, id uuid.UUID) error {
	release, ok, err := e.store.Lock(ctx, "run "+id.String())
	if err != nil || !ok {
		return err
	}
	defer release()
	forward, cut := context.WithCancelCause(ctx)
	defer cut(nil)
	e.busy.Store(id, cut)
	defer e.busy.Delete(id)
	run, err := e.store.RunByID(ctx, id)
	if err != nil || run.EndedAt != nil {
		return err
	}
	plan, err := e.plan(run)
	if err != nil {
		return err
	}
	if plan.Close != nil {
		defer plan.Close()
	}
	if run.Facts == nil {
		run.Facts = map[string]string{}
	}
	if run.State != Undoing {
		var cause error
		if asked := run.Facts[undoAsked]; asked != "" && plan.Undoable {
			cause = errors.New(asked)
		} else if cause = e.forward(forward, &run, plan); cause != nil && ctx.Err() == nil && (errors.Is(context.Cause(forward), errUndo) || errors.Is(cause, errUndo)) {
			if !plan.Undoable {
				return cause
			}
			fresh, err := e.store.RunByID(ctx, id) // with what the step that was cut off has left
			if err != nil {
				return err
			}
			run, cause = fresh, errors.New(fresh.Facts[undoAsked])
		}
		if cause == nil {
			return e.end(ctx, run, plan, Done, "")
		}
		if errors.Is(cause, ErrRests) {
			return nil
		}
		if !isFailure(ctx, cause) {
			return cause // cut off: gone on with later
		}
		run.Error = cause.Error()
		if err := e.changeRun(ctx, id, map[string]any{"state": Undoing, "error": run.Error}); err != nil {
			return err
		}
	}
	cause := e.back(ctx, &run, plan)
	if cause == nil {
		return e.end(ctx, run, plan, Undone, run.Error)
	}
	if !isFailure(ctx, cause) || IsTemporary(cause) {
		return cause // cut off: an undo is tried for as long as it takes
	}
	reason := fmt.Sprintf("%s; and it could not be undone: %v", run.Error, cause)
	if err := e.changeRun(ctx, id, map[string]any{"error": reason}); err != nil {
		return err
	}
	return e.end(ctx, run, plan, Failed, reason)
}

// isFailure tells a step that failed from a service that is stopping or a
// database that is away.
func isFailure(ctx context.Context, err error) bool {
	return ctx.Err() == nil && !store.Unavailable(err)
}

// forward takes the steps that are left. The end of one is written down together
// with the begin of the next.
func (e *Engine) forward(ctx context.Context, run *store.Run, plan Plan) error {
	begun := false
	for seq, step := range plan.Steps {
		if run.Steps[seq].State == StepDone {
			continue
		}
		p := &Progress{engine: e, run: *run, seq: seq}
		if plan.Undoable {
			if asked, err := e.store.FactOf(ctx, undoAsked, []uuid.UUID{run.ID}); err != nil || asked[run.ID] != "" {
				return cmp.Or(err, errUndo) // by another process
			}
		}
		if resting := run.Steps[seq].State == StepRunning && step.Rests; !begun && !resting {
			columns := map[string]any{}
			if run.State == Queued {
				columns["state"] = Running
			}
			if err := e.changeSteps(ctx, run.ID, columns, begin(run, seq)); err != nil {
				return err
			}
		}
		var outcome string
		err := e.patiently(ctx, step, p, func() (err error) {
			outcome, err = step.Do(ctx, p)
			return err
		})
		if err != nil {
			if isFailure(ctx, err) && !errors.Is(err, ErrRests) {
				run.Steps[seq].State = StepFailed
				ended := map[string]any{"state": StepFailed, "outcome": err.Error(), "ended_at": time.Now()}
				if err := e.changeSteps(ctx, run.ID, nil, store.StepChange{Seq: seq, Columns: ended}); err != nil {
					return err
				}
			}
			return fmt.Errorf("%s: %w", step.Title, err)
		}
		run.Steps[seq].State = StepDone
		changes := []store.StepChange{{Seq: seq, Columns: map[string]any{"state": StepDone, "outcome": outcome, "percent": 100, "ended_at": time.Now()}}}
		if begun = seq+1 < len(plan.Steps) && run.Steps[seq+1].State != StepDone; begun {
			changes = append(changes, begin(run, seq+1))
		}
		if err := e.changeSteps(ctx, run.ID, nil, changes...); err != nil {
			return err
		}
	}
	return nil
}

// begin is the begin of a step.
func begin(run *store.Run, seq int) store.StepChange {
	columns := map[string]any{"state": StepRunning, "outcome": "", "percent": 0}
	if run.Steps[seq].StartedAt == nil {
		columns["started_at"] = time.Now()
	}
	return store.StepChange{Seq: seq, Columns: columns}
}

// back undoes, last first, every step that was begun.
func (e *Engine) back(ctx context.Context, run *store.Run, plan Plan) error {
	for seq := len(plan.Steps) - 1; seq >= 0; seq-- {
		step, state := plan.Steps[seq], run.Steps[seq].State
		if step.Undo == nil || state == StepWaiting || state == StepUndone {
			continue
		}
		p := &Progress{engine: e, run: *run, seq: seq}
		if err := e.patiently(ctx, step, p, func() error { return step.Undo(ctx, p) }); err != nil {
			if IsTemporary(err) {
				err = errors.Join(err, p.Tell(ctx, 0, "the undo waits: "+err.Error()))
			}
			return fmt.Errorf("%s: %w", step.UndoIntent, err)
		}
		if err := e.changeSteps(ctx, run.ID, nil, store.StepChange{Seq: seq, Columns: map[string]any{"state": StepUndone}}); err != nil {
			return err
		}
	}
	return nil
}

// patiently repeats do while its errors are temporary and patience lasts.
func (e *Engine) patiently(ctx context.Context, step Step, p *Progress, do func() error) error {
	for until := time.Now().Add(step.Patience); ; {
		err := do()
		if err == nil || !IsTemporary(err) || time.Now().After(until) || ctx.Err() != nil {
			return err
		}
		if err := p.Tell(ctx, 0, "waiting: "+err.Error()); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(e.RetryAfter):
		}
	}
}

func (e *Engine) end(ctx context.Context, run store.Run, plan Plan, state, reason string) error {
	err := e.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.EndRun(ctx, run.ID, state, time.Now()); err != nil {
			return err
		}
		return plan.Ended(ctx, tx, state, reason)
	})
	if err == nil {
		e.hub.tell(run.ID)
		e.log.Info("run ended", "run", run.ID, "kind", run.Kind, "instance", run.Instance.Name, "state", state)
	}
	if err == nil && plan.After != nil {
		if err := plan.After(ctx); err != nil {
			e.log.Warn("go on after a run", "run", run.ID, "err", err)
		}
	}
	return err
}

func (e *Engine) changeRun(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	defer e.hub.tell(id)
	return e.store.ChangeRun(ctx, id, columns)
}

func (e *Engine) changeSteps(ctx context.Context, id uuid.UUID, columns map[string]any, changes ...store.StepChange) error {
	defer e.hub.tell(id)
	return e.store.ChangeSteps(ctx, id, columns, changes...)
}

// Follow returns a channel that gets a value whenever this process has changed
// the run since the last one was taken. Call stop when done.
func (e *Engine) Follow(run uuid.UUID) (changed <-chan struct{}, stop func()) {
	ch := e.hub.join(run)
	return ch, func() { e.hub.leave(run, ch) }
}

// hub wakes those who watch a run.
type hub struct {
	mu      sync.Mutex
	waiting map[uuid.UUID]map[chan struct{}]bool
}

func (h *hub) join(run uuid.UUID) chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	ch := make(chan struct{}, 1)
	if h.waiting[run] == nil {
		h.waiting[run] = map[chan struct{}]bool{}
	}
	h.waiting[run][ch] = true
	return ch
}

func (h *hub) leave(run uuid.UUID, ch chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.waiting[run], ch)
	if len(h.waiting[run]) == 0 {
		delete(h.waiting, run)
	}
}

func (h *hub) tell(run uuid.UUID) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.waiting[run] {
		select {
		case ch <- struct{}{}:
		default:
		}
	}
}
