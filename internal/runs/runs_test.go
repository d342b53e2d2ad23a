package runs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Prepare) }

// stage is a store with one run of three steps, whose doing is up to the test.
type stage struct {
	t     *testing.T
	store *store.Store
	run   store.Run
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
	i := store.Instance{ID: uuid.Must(uuid.NewV7()), Name: "hide-cam-1", Labels: map[string]string{}, CreatedAt: time.Now()}
	if err := s.AddInstance(t.Context(), &i); err != nil {
		t.Fatal(err)
	}
	g.run = store.Run{ID: uuid.Must(uuid.NewV7()), Kind: "test", InstanceID: i.ID, State: Queued, Version: 1, Facts: map[string]string{}, CreatedAt: time.Now()}
	for n, name := range []string{"a", "b", "c"} {
		g.run.Steps = append(g.run.Steps, store.RunStep{RunID: g.run.ID, Seq: n, Name: name, State: StepWaiting})
		g.plan.Steps = append(g.plan.Steps, Step{
			Name: name, Title: name, UndoIntent: "undo " + name,
			Do:   func(context.Context, *Progress) (string, error) { g.note(name); return "did " + name, nil },
			Undo: func(context.Context, *Progress) error { g.note("undo " + name); return nil },
		})
	}
	g.plan.Ended = func(_ context.Context, _ *store.Store, state, reason string) error {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.end = append(g.end, state+" "+reason)
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
	e := New(g.store, slog.New(slog.DiscardHandler))
	e.RetryAfter = time.Millisecond
	if err := e.Start(ctx, func(store.Run) (Plan, error) { return g.plan, nil }); err != nil {
		g.t.Fatal(err)
	}
	g.t.Cleanup(func() { e.Stop(context.Background()) })
	return e
}

// ended waits until the run has ended and returns it.
func (g *stage) ended() store.Run {
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
	return store.Run{}
}

func (g *stage) expect(state string, done ...string) store.Run {
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
	g.plan.Steps[1].Do = func(context.Context, *Progress) (string, error) { g.note("b fails"); return "", errors.New("no room") }
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
	g.plan.Steps[2].Do = func(context.Context, *Progress) (string, error) { return "", Temporary(errors.New("away for good")) }
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

func TestFactsOutliveACut(t *testing.T) {
	g := newStage(t)
	g.plan.Steps[0].Do = func(ctx context.Context, p *Progress) (string, error) { return "", p.SetFact(ctx, "operation", "op-1") }
	g.plan.Steps[2].Do = func(_ context.Context, p *Progress) (string, error) { return p.Fact("operation"), nil }
	g.engine(t.Context())
	if r := g.ended(); r.Steps[2].Outcome != "op-1" {
		t.Errorf("the fact is %q", r.Steps[2].Outcome)
	}
}

// TestAStepAtWorkElsewhereRestsUntilItIsWoken holds no worker meanwhile, is begun once,
// and neither counts as a failure nor is undone.
func TestAStepAtWorkElsewhereRestsUntilItIsWoken(t *testing.T) {
	g := newStage(t)
	calls := 0
	g.plan.Steps[1].Rests = true
	g.plan.Steps[1].Do = func(_ context.Context, p *Progress) (string, error) {
		g.mu.Lock()
		calls++
		g.mu.Unlock()
		if p.Fact("did b") == "" {
			return "", ErrRests
		}
		g.note("b")
		return p.Fact("did b"), nil
	}
	e := g.engine(t.Context())
	resting := func() store.RunStep {
		t.Helper()
		for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
			r, err := g.store.RunByID(t.Context(), g.run.ID)
			if err != nil {
				t.Fatal(err)
			}
			g.mu.Lock()
			n := calls
			g.mu.Unlock()
			if r.Steps[1].State == StepRunning && n > 0 {
				if _, busy := e.busy.Load(g.run.ID); !busy {
					return r.Steps[1]
				}
			}
		}
		t.Fatal("it never rests")
		return store.RunStep{}
	}
	first := resting()
	e.Wake(t.Context(), g.run.ID) // and nothing has come
	if again := resting(); !again.StartedAt.Equal(*first.StartedAt) || again.EndedAt != nil {
		t.Errorf("%+v, was %+v", again, first)
	}
	if err := g.store.SetFact(t.Context(), g.run.ID, "did b", "elsewhere"); err != nil {
		t.Fatal(err)
	}
	e.Wake(t.Context(), g.run.ID)
	if r := g.expect(Done, "a", "b", "c"); r.Steps[1].Outcome != "elsewhere" {
		t.Errorf("%+v", r.Steps[1])
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
	if err := e.Start(t.Context(), func(store.Run) (Plan, error) { return g.plan, nil }); err != nil {
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
