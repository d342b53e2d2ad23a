// Package work follows the runs that are at work, and takes the reports of those who take the steps of a run from
// their own machine.
package work

import (
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/jump"
	"plumlatch/internal/store"
)

// Service is the use cases of runs.
type Service struct {
	// ReportWithin is for how long a step that somebody takes from their own machine
	// is waited for.
	ReportWithin time.Duration

	store  *store.Store
	engine *runs.Engine
	jumps  *jump.Service
	now    func() time.Time
	jobs   map[string]Job // by the kind of the run
}

// New returns the use cases of runs. within is for how long a step that somebody takes from their
// own machine is waited for.
func New(s *store.Store, e *runs.Engine, w *jump.Service, now func() time.Time, within time.Duration) *Service {
	return &Service{ReportWithin: within, store: s, engine: e, jumps: w, now: now, jobs: map[string]Job{}}
}
