package runs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Prepare) }

// stage is a store with one run of three steps, whose doing is up to the test.
// stageKind is the kind of the runs of these tests.
const stageKind = "test"

type stage struct {
	t     *testing.T
	store *store.Store
	run   record.Run
	plan  Plan

	mu   sync.Mutex
	done []string
	end  []string
}

func newStage(t *testing.T) *stage {
	t.Helper()
	s, err := store.Open(t.Context(), pgtest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	g := &stage{t: t, store: s}
	i := record.Instance{
		ID:        uuid.Must(uuid.NewV7()),
		Name:      "hide-cam-1",
		Labels:    map[string]string{},
		CreatedAt: time.Now(),
	}
	if err := s.AddInstance(t.Context(), &i); err != nil {
		t.Fatal(err)
	}
	g.run = record.Run{
		ID:         uuid.Must(uuid.NewV7()),
		Kind:       stageKind,
		InstanceID: i.ID,
		State:      Queued,
		Version:    1,
		CreatedAt:  time.Now(),
	}
	for n, name := range []string{"a", "b", "c"} {
		g.run.Steps = append(g.run.Steps, record.RunStep{RunID: g.run.ID, Seq: n, Name: name, State: StepWaiting})
		g.plan.Steps = append(g.plan.Steps, Step{
			Name: name, Title: name, UndoIntent: "undo " + name,
			Do:   func(context.Context, *Progress) (string, error) { g.note(name); return "did " + name, nil },
			Undo: func(context.Context, *Progress) error { g.note("undo " + name); return nil },
		})
	}
	g.plan.Ended = func(_ context.Context, _ *store.Store, state State, reason string) error {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.end = append(g.end, string(state)+" "+reason)
		return nil
	}
	if err := s.AddRun(t.Context(), g.run); err != nil {
		t.Fatal(err)
	}
	return g
}

func (g *stage) note(what string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.done = append(g.done, what)
}

func (g *stage) engine(ctx context.Context) *Engine {
	g.t.Helper()
	return g.engineWith(ctx, SystemClock{})
}

func (g *stage) engineWith(ctx context.Context, clock Clock) *Engine {
	g.t.Helper()
	e := New(g.store, slog.New(slog.DiscardHandler))
	e.RetryAfter, e.Clock = time.Millisecond, clock
	e.Register(stageKind, func(record.Run) (Plan, error) { return g.plan, nil })
	if err := e.Start(ctx); err != nil {
		g.t.Fatal(err)
	}
	g.t.Cleanup(func() { e.Stop(context.Background()) })
	return e
}

// ended waits until the run has ended and returns it.
func (g *stage) ended() record.Run {
	g.t.Helper()
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
		r, err := g.store.RunByID(g.t.Context(), g.run.ID)
		if err != nil {
			g.t.Fatal(err)
		}
		if r.EndedAt != nil {
			return r
		}
	}
	g.t.Fatal("the run does not end")
	return record.Run{}
}

func (g *stage) expect(state State, done ...string) record.Run {
	g.t.Helper()
	r := g.ended()
	g.mu.Lock()
	defer g.mu.Unlock()
	if r.State != state || !slices.Equal(g.done, done) {
		g.t.Errorf("the run ended %s (%s) after %v; want %s after %v", r.State, r.Error, g.done, state, done)
	}
	if len(g.end) != 1 {
		g.t.Errorf("the end was told %d times: %v", len(g.end), g.end)
	}
	return r
}

func TestStepsAreDoneInOrderAndTheirOutcomesKept(t *testing.T) {
	g := newStage(t)
	g.engine(t.Context())
	r := g.expect(Done, "a", "b", "c")
	for _, s := range r.Steps {
		if s.State != StepDone || s.Outcome != "did "+s.Name || s.StartedAt == nil || s.EndedAt == nil {
			t.Errorf("%+v", s)
		}
	}
}

func TestAFailureUndoesWhatWasBegunLastFirst(t *testing.T) {
	g := newStage(t)
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) {
		g.note("b fails")
		return "", errors.New("no room")
	}
	g.engine(t.Context())
	r := g.expect(Undone, "a", "b fails", "undo b", "undo a")
	if r.Error != "b: no room" || r.Steps[2].State != StepWaiting || r.Steps[0].State != StepUndone {
		t.Errorf("%s %+v", r.Error, r.Steps)
	}
}

func TestAnUndoThatFailsIsTold(t *testing.T) {
	g := newStage(t)
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) { return "", errors.New("no room") }
	g.plan.Steps[0].Undo = func(context.Context, *Progress) error { return errors.New("stuck") }
	g.engine(t.Context())
	if r := g.expect(Failed, "a", "undo b"); r.Error != "b: no room; and it could not be undone: undo a: stuck" {
		t.Errorf("%s", r.Error)
	}
}

func TestATemporaryFailureIsTriedAgainForAsLongAsPatienceLasts(t *testing.T) {
	g := newStage(t)
	tries := 0
	g.plan.Steps[1].Patience = time.Minute
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) {
		if tries++; tries < 4 {
			return "", Temporary(errors.New("away"))
		}
		return "", nil
	}
	g.plan.Steps[2].Do = func(context.Context, *Progress) (string, error) {
		return "", Temporary(
			errors.New("away for good"),
		)
	}
	g.engine(t.Context())
	if r := g.expect(Undone, "a", "undo c", "undo b", "undo a"); tries != 4 || r.Error != "c: away for good" {
		t.Errorf("%d tries, %s", tries, r.Error)
	}
}

func TestAnUndoIsTriedForAsLongAsItTakes(t *testing.T) {
	g := newStage(t)
	tries := 0
	g.plan.Steps[0].Do = func(context.Context, *Progress) (string, error) { return "", errors.New("no") }
	g.plan.Steps[0].Undo = func(context.Context, *Progress) error {
		if tries++; tries < 3 {
			return Temporary(errors.New("the cloud is away"))
		}
		return nil
	}
	g.engine(t.Context())
	g.expect(Undone)
	if tries != 3 {
		t.Errorf("%d tries", tries)
	}
}

// TestARunThatWasCutOffGoesOnWhereItWas stops the engine within each step, as a
// killed process would, and starts another.
func TestARunThatWasCutOffGoesOnWhereItWas(t *testing.T) {
	for cut := range 3 {
		t.Run(fmt.Sprint("in step ", cut), func(t *testing.T) {
			g := newStage(t)
			inside := make(chan bool)
			first := true
			name, do := g.plan.Steps[cut].Name, g.plan.Steps[cut].Do
			g.plan.Steps[cut].Do = func(ctx context.Context, p *Progress) (string, error) {
				if first {
					first = false
					g.note("half " + name)
					close(inside)
					<-ctx.Done()
					return "", ctx.Err()
				}
				return do(ctx, p)
			}
			e := g.engine(t.Context())
			<-inside
			e.Stop(t.Context())
			r, err := g.store.RunByID(t.Context(), g.run.ID)
			if err != nil || r.EndedAt != nil || r.Steps[cut].State != StepRunning {
				t.Fatalf("after the cut: %+v %v", r, err)
			}
			g.engine(t.Context())
			want := []string{"a", "b", "c"}
			want = slices.Insert(want, cut, "half "+name)
			g.expect(Done, want...)
		})
	}
}

func TestTwoEnginesNeverWorkOnOneRunAtOnce(t *testing.T) {
	g := newStage(t)
	var mu sync.Mutex
	within, most := 0, 0
	for n := range g.plan.Steps {
		g.plan.Steps[n].Do = func(context.Context, *Progress) (string, error) {
			mu.Lock()
			within++
			most = max(most, within)
			mu.Unlock()
			time.Sleep(20 * time.Millisecond)
			mu.Lock()
			within--
			mu.Unlock()
			g.note("step")
			return "", nil
		}
	}
	a, b := g.engine(t.Context()), g.engine(t.Context())
	for range 20 {
		a.Wake(t.Context(), g.run.ID)
		b.Wake(t.Context(), g.run.ID)
	}
	g.expect(Done, "step", "step", "step")
	if most != 1 {
		t.Errorf("%d workers were within the run at once", most)
	}
}

// stageWork is the payload of the runs of these tests.
type stageWork struct {
	Operation string   `json:"operation"`
	Lines     []string `json:"lines,omitempty"`
}

func TestThePayloadOutlivesACut(t *testing.T) {
	g := newStage(t)
	e := New(g.store, slog.New(slog.DiscardHandler))
	inside := make(chan bool)
	plan := func(run record.Run) (Plan, error) {
		w, err := Decode[stageWork](run, 1)
		p := g.plan
		p.Steps, p.Payload = slices.Clone(g.plan.Steps), w
		p.Steps[0].Do = func(ctx context.Context, p *Progress) (string, error) {
			w.Operation, w.Lines = "op, 1", []string{"a,b", "c"}
			return "", p.Save(ctx)
		}
		p.Steps[1].Do = func(ctx context.Context, _ *Progress) (string, error) {
			if run.Epoch == 1 {
				close(inside)
				<-ctx.Done()
				return "", ctx.Err()
			}
			return "", nil
		}
		p.Steps[2].Do = func(context.Context, *Progress) (string, error) {
			return w.Operation + " " + fmt.Sprint(len(w.Lines)), nil
		}
		return p, err
	}
	if _, err := g.store.Pool().Exec(
		t.Context(), "UPDATE runs SET payload_version = 1, payload = '{\"operation\": \"\"}'",
	); err != nil {
		t.Fatal(err)
	}
	e.Register(stageKind, plan)
	if err := e.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	<-inside
	e.Stop(t.Context())
	again := New(g.store, slog.New(slog.DiscardHandler))
	again.Register(stageKind, plan)
	if err := again.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { again.Stop(context.Background()) })
	if r := g.ended(); r.Steps[2].Outcome != "op, 1 2" {
		t.Errorf("the payload is %q after the cut, want op, 1 2", r.Steps[2].Outcome)
	}
}

func TestAPayloadOfAnotherVersionNeedsAPerson(t *testing.T) {
	g := newStage(t)
	e := New(g.store, slog.New(slog.DiscardHandler))
	e.Register(stageKind, func(run record.Run) (Plan, error) {
		_, err := Decode[stageWork](run, 7)
		return g.plan, err
	})
	err := e.Start(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Stop(context.Background()) })
	if r := g.expect(NeedsPerson); r.Error == "" {
		t.Error("it does not say why")
	}
}

// TestARunThatWaitsForSomebodyRestsUntilItIsWoken holds no worker meanwhile, tells who has to do
// what since when, forward and in an undo, and neither counts as a failure.
func TestARunThatWaitsForSomebodyRestsUntilItIsWoken(t *testing.T) {
	for _, undo := range []bool{false, true} {
		t.Run(fmt.Sprint("in an undo: ", undo), func(t *testing.T) {
			g := newStage(t)
			calls := 0
			wait := func(ctx context.Context, p *Progress) error {
				g.mu.Lock()
				calls++
				g.mu.Unlock()
				r, err := p.Report(ctx, "b")
				if err == nil && r == nil {
					return Temporary(WaitFor(record.Waits{Who: "ines", What: "to do b", Next: "plumlatch b", ByHand: undo}))
				}
				return err
			}
			g.plan.Steps[1].Do = func(ctx context.Context, p *Progress) (string, error) { return "did b", wait(ctx, p) }
			if undo {
				g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) { return "", errors.New("no room") }
				g.plan.Steps[1].Undo = wait
			}
			e := g.engine(t.Context())
			resting := func() record.Run {
				t.Helper()
				for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
					r, err := g.store.RunByID(t.Context(), g.run.ID)
					if err != nil {
						t.Fatal(err)
					}
					if _, busy := e.busy.Load(g.run.ID); r.Waits != nil && !busy {
						return r
					}
				}
				t.Fatal("it never rests")
				return record.Run{}
			}
			first := resting()
			if w := first.Waits; w.Step != "b" || w.Undo != undo || w.Who != "ines" || w.What != "to do b" ||
				w.Next != "plumlatch b" ||
				w.ByHand != undo ||
				w.Since.IsZero() {
				t.Errorf("it waits for %+v", w)
			}
			for range 3 {
				e.Wake(t.Context(), g.run.ID) // and nothing has come
				time.Sleep(20 * time.Millisecond)
			}
			again := resting()
			if !again.Waits.Since.Equal(first.Waits.Since) || again.Version > first.Version+1 {
				t.Errorf(
					"woken for nothing it waits since %v, version %d, was %v and %d", again.Waits.Since, again.Version,
					first.Waits.Since, first.Version,
				)
			}
			if err := g.store.AddReport(t.Context(), g.run.ID, "b", record.Report{By: "ines", At: time.Now()}); err != nil {
				t.Fatal(err)
			}
			e.Wake(t.Context(), g.run.ID)
			want := Done
			if undo {
				want = Undone
			}
			r := g.ended()
			if r.State != want || r.Waits != nil {
				t.Errorf("it ended %s and waits for %v, want %s and nothing", r.State, r.Waits, want)
			}
		})
	}
}

func TestAStepThatPanicsFailsAndTheServiceLives(t *testing.T) {
	g := newStage(t)
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) { panic("as a test") }
	g.engine(t.Context())
	g.expect(Undone, "a", "undo b", "undo a")
}

// jumpingClock passes each pause at once.
type jumpingClock struct {
	mu sync.Mutex
	at time.Time
}

func (c *jumpingClock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at
}

func (c *jumpingClock) After(d time.Duration) <-chan time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(d + time.Hour)
	ch := make(chan time.Time, 1)
	ch <- c.at
	return ch
}

// TestAfterItsPointOfNoReturnNothingUndoesARun has a step behind it that cannot be done for more
// than a day, and one that fails for good.
func TestAfterItsPointOfNoReturnNothingUndoesARun(t *testing.T) {
	g := newStage(t)
	g.plan.Undoable, g.plan.Steps[0].Commits = true, true
	tries := 0
	g.plan.Steps[1].Patience = 24 * time.Hour
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) {
		tries++
		return "", Temporary(errors.New("the cloud refuses it"))
	}
	g.plan.Steps[2].Do = func(context.Context, *Progress) (string, error) { g.note("c"); return "", errors.New("broken") }
	e := g.engineWith(t.Context(), &jumpingClock{at: time.Now()})
	r := g.expect(Done, "a", "c")
	if r.Steps[1].State != StepLeft || r.Steps[1].Outcome != "the cloud refuses it" || r.Steps[2].State != StepLeft ||
		tries < 20 {
		t.Errorf("after %d tries: %+v", tries, r.Steps)
	}
	if won, err := e.AskUndo(t.Context(), g.run.ID, "too late"); won || err != nil {
		t.Errorf("an undo after the end: %v %v", won, err)
	}
}

// TestAnUndoAndThePointOfNoReturnNeverBothWin lets them race: whoever asked is told the truth.
func TestAnUndoAndThePointOfNoReturnNeverBothWin(t *testing.T) {
	g := newStage(t)
	rows := func(n int) record.Run {
		run := g.run
		run.ID = uuid.Must(uuid.NewV7())
		i := record.Instance{
			ID:        uuid.Must(uuid.NewV7()),
			Name:      fmt.Sprint("racer-", n),
			Labels:    map[string]string{},
			CreatedAt: time.Now(),
		}
		if err := g.store.AddInstance(t.Context(), &i); err != nil {
			t.Fatal(err)
		}
		run.InstanceID, run.Steps = i.ID, slices.Clone(g.run.Steps)
		for s := range run.Steps {
			run.Steps[s].RunID = run.ID
		}
		return run
	}
	const racers = 1000
	var mu sync.Mutex
	entered, ends, won := map[uuid.UUID]chan bool{}, map[uuid.UUID]State{}, map[uuid.UUID]bool{}
	var all []record.Run
	for n := range racers {
		all = append(all, rows(n))
		entered[all[n].ID] = make(chan bool, 1)
	}
	e := New(g.store, slog.New(slog.DiscardHandler))
	e.RetryAfter = time.Millisecond
	e.Register(stageKind, func(run record.Run) (Plan, error) {
		step := func(name string, commits bool, do func()) Step {
			return Step{
				Name:    name,
				Title:   name,
				Commits: commits,
				Undo:    func(context.Context, *Progress) error { return nil },
				Do: func(context.Context, *Progress) (string, error) {
					do()
					return "", nil
				},
			}
		}
		nothing := func() {}
		return Plan{Undoable: true, Steps: []Step{step("a", false, nothing), step("b", true, func() {
			mu.Lock()
			ch := entered[run.ID]
			mu.Unlock()
			if ch != nil {
				select {
				case ch <- true:
				default:
				}
			}
		}), step("c", false, nothing)}, Ended: func(_ context.Context, _ *store.Store, state State, _ string) error {
			mu.Lock()
			defer mu.Unlock()
			ends[run.ID] = state
			return nil
		}}, nil
	})
	err := e.Start(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Stop(context.Background()) })
	var asking sync.WaitGroup
	for n, run := range all {
		if err := g.store.AddRun(t.Context(), run); err != nil {
			t.Fatal(err)
		}
		e.Wake(t.Context(), run.ID)
		asking.Go(func() {
			<-entered[run.ID]
			time.Sleep(time.Duration(n%7) * 300 * time.Microsecond)
			ok, err := e.AskUndo(context.Background(), run.ID, "raced")
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			won[run.ID] = ok
			mu.Unlock()
		})
	}
	asking.Wait()
	undone := 0
	for until := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		mu.Lock()
		n := len(ends)
		mu.Unlock()
		if n >= racers {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("only %d of %d have ended", n, racers)
		}
	}
	// Not under the lock: a run that is told of its end again would wait for it.
	for _, run := range all {
		r, err := g.store.RunByID(t.Context(), run.ID)
		// The end is told of in the transaction that is committed after it.
		for until := time.Now().Add(60 * time.Second); err == nil && r.EndedAt == nil && time.Now().Before(until); {
			time.Sleep(5 * time.Millisecond)
			r, err = g.store.RunByID(t.Context(), run.ID)
		}
		if err != nil {
			t.Fatal(err)
		}
		if r.EndedAt == nil {
			t.Errorf("told of its end, the run is still %s: %+v", r.State, r)
		}
		if won[run.ID] != (r.State == Undone) || won[run.ID] != (r.CommittedAt == nil) {
			t.Errorf("the undo won: %v; the run is %s, committed at %v", won[run.ID], r.State, r.CommittedAt)
		}
		if won[run.ID] {
			undone++
		}
	}
	t.Logf("%d of %d were undone", undone, racers)
	if undone == 0 || undone == racers {
		t.Errorf("%d of %d were undone: it was no race", undone, racers)
	}
}

// TestAWorkerThatLostItsLockWritesNoOtherStep cuts the connection that holds the locks while a
// step is at work in one engine, and has another take the run.
func TestAWorkerThatLostItsLockWritesNoOtherStep(t *testing.T) {
	g := newStage(t)
	other, err := store.Open(t.Context(), g.store.URL())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(other.Close)
	inside, goOn := make(chan bool), make(chan bool)
	do := g.plan.Steps[1].Do
	first := true
	g.plan.Steps[1].Do = func(ctx context.Context, p *Progress) (string, error) {
		g.mu.Lock()
		mine := first
		first = false
		g.mu.Unlock()
		if !mine {
			return do(ctx, p)
		}
		close(inside)
		<-goOn // deaf to its context, as something that hangs in a system call
		g.note("the one without a lock")
		return "by the one without a lock", nil
	}
	a := g.engine(t.Context())
	<-inside
	if _, err := g.store.Pool().Exec(
		t.Context(),
		"SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND database = (SELECT oid FROM "+
			"pg_database WHERE datname = current_database())",
	); err != nil {
		t.Fatal(err)
	}
	b := New(other, slog.New(slog.DiscardHandler))
	b.Register(stageKind, func(record.Run) (Plan, error) { return g.plan, nil })
	if err := b.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Stop(context.Background()) })
	b.Wake(t.Context(), g.run.ID)
	r := g.ended()
	close(goOn)
	a.Stop(t.Context())
	if after, err := g.store.RunByID(t.Context(), g.run.ID); err != nil || after.Version != r.Version ||
		after.Steps[1].Outcome != "did b" {
		t.Errorf(
			"after its lock was lost a worker wrote version %d, %q; the end was %d, %v", after.Version,
			after.Steps[1].Outcome, r.Version, err,
		)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.end) != 1 {
		t.Errorf("the end was told %d times", len(g.end))
	}
}

// TestADutyComesUpAgainWhateverItDidAndNoOtherWaitsForIt has one that fails and then panics,
// and one that hangs until the engine stops.
func TestADutyComesUpAgainWhateverItDidAndNoOtherWaitsForIt(t *testing.T) {
	g := newStage(t)
	e := New(g.store, slog.New(slog.DiscardHandler))
	turns, begun, over := make(chan int, 100), make(chan struct{}), make(chan struct{})
	n := 0
	e.Take(Duty{Name: "hangs", Every: time.Hour, Do: func(ctx context.Context) error {
		close(begun)
		<-ctx.Done()
		close(over)
		return ctx.Err()
	}})
	e.Take(Duty{Name: "goes wrong", Every: 5 * time.Millisecond, Do: func(context.Context) error {
		n++
		turns <- n
		if n == 2 {
			panic("as a test")
		}
		return errors.New("by the test")
	}})
	e.Register(stageKind, func(record.Run) (Plan, error) { return g.plan, nil })
	if err := e.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	for want := range 4 {
		select {
		case <-turns:
		case <-time.After(20 * time.Second):
			t.Fatalf("the turn %d did not come", want+1)
		}
	}
	<-begun
	e.Stop(context.Background())
	select {
	case <-over:
	default:
		t.Error("the engine has stopped, and a duty is at work")
	}
	at := len(turns)
	if time.Sleep(30 * time.Millisecond); len(turns) != at {
		t.Error("a duty came up after the engine had stopped")
	}
}

// TestStopWaitsForWhatGoesOnBeside has something at work beside the runs as the engine stops.
func TestStopWaitsForWhatGoesOnBeside(t *testing.T) {
	e := newStage(t).engine(t.Context())
	var over atomic.Bool
	begun := make(chan bool)
	e.Beside(func() {
		close(begun)
		time.Sleep(50 * time.Millisecond)
		over.Store(true)
	})
	<-begun
	if e.Stop(context.Background()); !over.Load() {
		t.Error("the engine has stopped, and something is at work beside it")
	}
}
