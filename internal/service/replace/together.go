package replace

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

const (
	// gatherFor is for how long the look of a run waits for those of others, while at
	// least gatherFrom runs are at work.
	gatherFor  = 40 * time.Millisecond
	gatherFrom = 6
)

// gathering keeps the looks of runs that are at work at the same time, so that they
// are recorded together: one transaction instead of one for each.
type gathering struct {
	mu      sync.Mutex
	waiting []*waitingLook
	busy    bool // somebody records what waits
}

type waitingLook struct {
	reading.Look
	done    chan struct{} // closed once the rest is set
	outcome string
	err     error
}

// recordTogether is recordLook for one of many runs. A look whose ctx ends is
// recorded all the same, as it is true.
func (s *Service) recordTogether(ctx context.Context, l reading.Look) (outcome string, err error) {
	if s.busy.Load() < gatherFrom {
		return s.reading.RecordLook(ctx, l)
	}
	w := &waitingLook{Look: l, done: make(chan struct{})}
	g := &s.gathered
	g.mu.Lock()
	g.waiting = append(g.waiting, w)
	first := !g.busy
	g.busy = true
	g.mu.Unlock()
	if first {
		s.engine.Beside(func() { s.recordGathered(store.Unlimited(context.WithoutCancel(ctx))) })
	}
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case <-w.done:
		return w.outcome, w.err
	}
}

// recordGathered records what waits until nothing does.
func (s *Service) recordGathered(ctx context.Context) {
	for {
		time.Sleep(gatherFor)
		batch := s.gathered.take()
		if len(batch) == 0 {
			return
		}
		looks := make([]reading.Look, len(batch))
		for n, w := range batch {
			looks[n] = w.Look
		}
		var outcomes []string
		err := problem.Guard(
			s.log,
			"recording looks",
			func() (err error) { outcomes, err = s.reading.RecordLooks(ctx, looks); return err },
		)
		for n, w := range batch {
			switch {
			case err == nil:
				w.outcome = outcomes[n]
			case len(batch) > 1: // what is wrong with one costs nothing to the others
				w.err = problem.Guard(
					s.log,
					"recording a reading of "+w.Name,
					func() (err error) { w.outcome, err = s.reading.RecordLook(ctx, w.Look); return err },
				)
			default:
				w.err = err
			}
			close(w.done)
		}
	}
}

// take returns what waits, no two of the same login; nothing where whoever comes next
// has to record.
func (g *gathering) take() []*waitingLook {
	g.mu.Lock()
	defer g.mu.Unlock()
	var batch, later []*waitingLook
	seen := map[uuid.UUID]bool{}
	for _, w := range g.waiting {
		if seen[w.Login.ID] {
			later = append(later, w)
			continue
		}
		seen[w.Login.ID] = true
		batch = append(batch, w)
	}
	g.waiting, g.busy = later, len(batch) > 0
	return batch
}
