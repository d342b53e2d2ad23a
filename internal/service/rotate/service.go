// Package rotate holds rotations: which keys are replaced by which, at what pace, and the run that replaces one key
// in one login. What is decided without input or output is core/rotation's.
package rotate

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/service/work"
	"plumlatch/internal/store"
)

const (
	rotationDuty = "rotations"
	// rotateEvery is how soon a rotation whose wake was lost continues.
	rotateEvery = time.Second
	// queuedRuns is how many runs may wait for a worker.
	queuedRuns = 3 * rotation.MaxAtOnce
)

// Service is the use cases of rotations.
type Service struct {
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	clouds  *clouds.Service
	engine  *runs.Engine
	journal *journal.Service
	safes   *safekeeping.Service
	keys    *keys.Service
	fleet   *fleet.Service
	runs    *work.Service
	reading *reading.Service
	access  *access.Service
	replace *replace.Service
	log     *slog.Logger
	now     func() time.Time

	// advancing is held by the worker that starts further runs of rotations.
	advancing sync.Mutex
}

// Parts are what rotations are made of.
type Parts struct {
	Store   *store.Store
	Clouds  *clouds.Service
	Engine  *runs.Engine
	Journal *journal.Service
	Safes   *safekeeping.Service
	Keys    *keys.Service
	Fleet   *fleet.Service
	Runs    *work.Service
	Reading *reading.Service
	Access  *access.Service
	Replace *replace.Service
	Log     *slog.Logger
	Now     func() time.Time
}

// New returns the use cases of rotations and has them continue when one of their runs ends.
func New(p Parts) *Service {
	s := &Service{
		Safe:    p.Keys.Safe,
		store:   p.Store,
		clouds:  p.Clouds,
		engine:  p.Engine,
		journal: p.Journal,
		safes:   p.Safes,
		keys:    p.Keys,
		fleet:   p.Fleet,
		runs:    p.Runs,
		reading: p.Reading,
		access:  p.Access,
		replace: p.Replace,
		log:     p.Log,
		now:     p.Now,
	}
	p.Replace.After = s.carryOn
	return s
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: rotationDuty, Every: rotateEvery, Do: s.carryRotations}}
}

// Wake has the rotations looked at that may have waited for somebody.
func (s *Service) Wake(ctx context.Context) { s.engine.Nudge(ctx, rotationDuty) }
