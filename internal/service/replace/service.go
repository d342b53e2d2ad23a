// Package replace holds the run that replaces one key by another in one login: its steps, by which means
// the lines are changed, the login that lets the old line go, and what becomes of grants in the end. Which
// keys are replaced by which, and when, is package rotate's.
package replace

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/jump"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/work"
	"plumlatch/internal/store"
)

// Service is the runs that replace keys.
type Service struct {
	// After is called when a run of a rotation has ended.
	After func(ctx context.Context, rotation uuid.UUID) error

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	runs    *work.Service
	reading *reading.Service
	jumps   *jump.Service
	log     *slog.Logger
	now     func() time.Time

	prepared preparations
	// busy is how many of the runs are at work.
	busy     atomic.Int32
	gathered gathering
}

// Parts are what the runs are made of.
type Parts struct {
	Store   *store.Store
	Engine  *runs.Engine
	Journal *journal.Service
	Keys    *keys.Service
	Runs    *work.Service
	Reading *reading.Service
	Jumps   *jump.Service
	Log     *slog.Logger
	Now     func() time.Time
}

// New returns the runs that replace keys, and registers them.
func New(p Parts) *Service {
	s := &Service{
		After:   func(context.Context, uuid.UUID) error { return nil },
		store:   p.Store,
		engine:  p.Engine,
		journal: p.Journal,
		keys:    p.Keys,
		runs:    p.Runs,
		reading: p.Reading,
		jumps:   p.Jumps,
		log:     p.Log,
		now:     p.Now,
	}
	p.Engine.Register(RunKind, s.plan)
	p.Runs.TakeJobs(RunKind, s.job())
	return s
}
