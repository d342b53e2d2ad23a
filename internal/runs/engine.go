package runs

import (
	"context"
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

	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

const (
	workers   = 16
	tendEvery = 3 * time.Second
	// restedFor is how soon a run that waits for somebody is looked at again by itself.
	restedFor = 4 * time.Second
	// apart is how much later each duty begins than the one before, so that a start does not
	// open a connection for each.
	apart = 25 * time.Millisecond
)

// Engine carries out runs.
type Engine struct {
	store *store.Store
	log   *slog.Logger
	queue *river.Client[pgx.Tx]
	hub   hub
	busy  sync.Map // the runs that this process is at work on, by their ids, with what cuts them off

	duties   []Duty
	planners map[string]Planner // by kind
	// stopping is closed when the engine stops, and made again where it starts again.
	stopping chan struct{}
	stops    sync.Mutex // held for a look at stopping
	// endDuties ends what comes up again and again, which atWork counts.
	endDuties context.CancelFunc
	atWork    sync.WaitGroup

	// RetryAfter is the first pause before a temporary failure is tried again; the later
	// ones are longer.
	RetryAfter time.Duration
	// Clock is the machine's unless a test sets another, before Start.
	Clock Clock
	// StepHook, where a test sets it, changes the steps of runs.
	StepHook func(record.Run, Step) Step
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
	// Own has every process do it for itself; else one of them does it for all.
	Own bool
}

type dutyArgs struct {
	Name string `json:"name"`
}

func (dutyArgs) Kind() string { return "duty" }

// New returns an engine that is not started yet.
func New(s *store.Store, log *slog.Logger) *Engine {
	return &Engine{
		store:      s,
		log:        log,
		planners:   map[string]Planner{},
		hub:        hub{waiting: map[uuid.UUID]map[chan struct{}]bool{}},
		RetryAfter: 500 * time.Millisecond,
		Clock:      SystemClock{},
	}
}

// Stopping returns a channel that is closed once the context of Start ends; nil where it was not started.
func (e *Engine) Stopping() <-chan struct{} {
	e.stops.Lock()
	defer e.stops.Unlock()
	return e.stopping
}

// Take adds duties; to be called before Start.
func (e *Engine) Take(d ...Duty) { e.duties = append(e.duties, d...) }

// Start takes up the runs that have not ended and works until ctx ends.
func (e *Engine) Start(ctx context.Context) error {
	ctx = store.ForWork(ctx)
	e.stops.Lock()
	stopping := make(chan struct{})
	e.stopping = stopping
	e.stops.Unlock()
	context.AfterFunc(ctx, func() { close(stopping) })
	w := river.NewWorkers()
	river.AddWorker(
		w,
		river.WorkFunc(func(ctx context.Context, j *river.Job[wakeArgs]) error { return e.work(ctx, j.Args.Run) }),
	)
	river.AddWorker(
		w,
		river.WorkFunc(func(ctx context.Context, j *river.Job[dutyArgs]) error { return e.do(ctx, j.Args.Name) }),
	)
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
	ctx, e.endDuties = context.WithCancel(ctx)
	for n, d := range e.duties {
		if d.Own {
			e.every(ctx, d.Every, 0, func() {
				if err := d.Do(ctx); err != nil && isFailure(ctx, err) {
					e.log.Warn("a duty failed", "duty", d.Name, "err", err)
				}
			})
			continue
		}
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

func (t troubles) HandlePanic(
	_ context.Context, job *rivertype.JobRow, what any, trace string,
) *river.ErrorHandlerResult {
	t.log.Error("a worker panicked", "kind", job.Kind, "panic", what, "trace", trace)
	return nil
}

// Stop lets the workers leave their steps where they are; the runs continue at
// the next Start.
func (e *Engine) Stop(ctx context.Context) {
	if e.queue == nil {
		return
	}
	e.endDuties()
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
	ids, err := e.store.LiveRuns(ctx, e.Clock.Now().Add(-restedFor))
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
		held, release, ok, err := e.store.Lock(store.ForWork(ctx), "duty "+name)
		if err != nil || !ok {
			return err
		}
		defer release()
		err = d.Do(held)
		if err != nil && isFailure(ctx, err) {
			e.log.Warn("a duty failed", "duty", name, "err", err)
		}
		return err
	}
	return nil // of an older version
}
