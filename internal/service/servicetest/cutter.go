package servicetest

import (
	"context"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/service/route"
)

// cutter is two services on one database. At every step of restores and rotations, and at every
// undo, it has the database end the connections that hold the locks: once before anything has
// been done, and once when it has taken effect and that is not written down. Each time the worker
// continues beside the one that took the run from it.
type cutter struct {
	*Rig
	other  *service.Service
	engine *runs.Engine // the other's
	// Fail is the step that fails once it is done.
	Fail string

	mu  sync.Mutex
	cut map[string]bool // by run, step and part
}

func NewCutter(t *testing.T) *cutter {
	t.Helper()
	c := &cutter{cut: map[string]bool{}}
	c.Rig = NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(run record.Run, step runs.Step) runs.Step { return c.hook(run, step) }
	})
	other, st, e, err := connectService(t.Context(), c.database, c.cloudURL, c.safeFile, cloud.CallTimeout, c.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	e.StepHook, e.RetryAfter = c.hook, c.Rig.Engine.RetryAfter
	other.Routes.Patience = c.Routes.Patience
	ctx, stop := context.WithCancel(context.Background())
	if err := other.Start(ctx); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		stop()
		e.Stop(context.Background())
	})
	c.other, c.engine = other, e
	return c
}

func (c *cutter) hook(run record.Run, step runs.Step) runs.Step {
	if run.Kind != route.RunKind && run.Kind != replace.RunKind {
		return step
	}
	do, undo, name := step.Do, step.Undo, step.Name
	step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
		c.lose(p.Run(), name+" before")
		said, err := do(ctx, p)
		if err == nil {
			c.lose(p.Run(), name+" after")
		}
		if err == nil && name == c.Fail {
			err = ErrByTest
		}
		return said, err
	}
	if undo != nil {
		step.Undo = func(ctx context.Context, p *runs.Progress) error {
			c.lose(p.Run(), name+" undo, before")
			err := undo(ctx, p)
			if err == nil {
				c.lose(p.Run(), name+" undo, after")
			}
			return err
		}
	}
	return step
}

// lose cuts the locks' connections where that has not been done at this part of the run, and
// waits until another worker has taken it.
func (c *cutter) lose(run record.Run, part string) {
	key := run.ID.String() + " " + part
	c.mu.Lock()
	before := c.cut[key]
	c.cut[key] = true
	c.mu.Unlock()
	if before {
		return
	}
	ctx := context.Background()
	_, err := c.Store.Pool().
		Exec(
			ctx,
			"SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND pid <> pg_backend_pid() AND "+
				"database = (SELECT oid FROM pg_database WHERE datname = current_database())",
		)
	if err != nil {
		c.T.Errorf("%s: cut the locks' connections: %v", part, err)
	}
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		c.engine.Wake(ctx, run.ID)
		now, err := c.Store.RunByID(ctx, run.ID)
		if err == nil && now.Epoch > run.Epoch {
			return
		}
		if time.Now().After(until) {
			c.T.Errorf("%s: nobody took the run, %v", part, err)
			return
		}
	}
}

// Cuts is how often runs were interrupted.
func (c *cutter) Cuts() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.cut)
}
