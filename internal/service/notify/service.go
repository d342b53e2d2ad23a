// Package notify tells subscribers outside of the service what is written in the daybook.
package notify

import (
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/store"
)

// Service is the use cases of subscribers.
type Service struct {
	// Safe keeps the secrets of subscribers; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	safes   *safekeeping.Service
	access  *access.Service
	log     *slog.Logger
	now     func() time.Time
}

// New returns the use cases of subscribers.
func New(
	s *store.Store, e *runs.Engine, j *journal.Service, safes *safekeeping.Service, a *access.Service,
	log *slog.Logger, now func() time.Time,
) *Service {
	return &Service{Safe: safes.Safe, store: s, engine: e, journal: j, safes: safes, access: a, log: log, now: now}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{
		{Name: "watch-reach", Every: watchReachEvery, Do: s.watchReach},
		{Name: deliverDuty, Every: deliverEvery, Do: s.deliver},
	}
}
