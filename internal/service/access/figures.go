package access

import (
	"context"
	"sync"
	"time"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// Figures are what is watched from outside.
type Figures struct {
	record.Figures
	// Reach counts the logins by how safe they are; Strangers the stranger's keys.
	Reach     map[reach.State]int
	Strangers int
}

// figuresHold is for how long figures are told again, as counting takes time.
const figuresHold = 20 * time.Second

type keptFigures struct {
	mu sync.Mutex
	at time.Time
	of Figures
}

// Figures returns the current counts, or those of a moment ago.
func (s *Service) Figures(ctx context.Context) (Figures, error) {
	k := &s.figures
	k.mu.Lock()
	defer k.mu.Unlock()
	if s.now().Sub(k.at) < figuresHold && !k.at.IsZero() {
		return k.of, nil
	}
	ctx = store.Unlimited(ctx)
	counts, err := s.store.Figures(ctx, s.now())
	if err != nil {
		return Figures{}, err
	}
	w, err := s.World(ctx, record.ReachFilter{})
	if err != nil {
		return Figures{}, err
	}
	if counts.GrantsOverdue, err = s.store.CountOverdue(ctx, s.now()); err != nil {
		return Figures{}, err
	}
	if _, counts.CharterChanges, err = s.store.CountDiffering(ctx); err != nil {
		return Figures{}, err
	}
	f := Figures{Figures: counts, Reach: map[reach.State]int{}}
	for _, state := range reach.States {
		f.Reach[state] = 0
	}
	for n, st := range reach.Standings(w.Input) {
		f.Reach[st.State]++
		f.Strangers += w.Logins[n].Strangers
	}
	k.at, k.of = s.now(), f
	return f, nil
}
