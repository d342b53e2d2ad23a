// Package leaving holds what is done when somebody leaves: their access ends, their keys are replaced or retired,
// and what they keep is handed over.
package leaving

import (
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/store"
)

// Service is the use cases of people who leave.
type Service struct {
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	people  *people.Service
	keys    *keys.Service
	access  *access.Service
	rotate  *rotate.Service
	now     func() time.Time
}

// New returns the use cases of people who leave.
func New(
	s *store.Store, e *runs.Engine, j *journal.Service, p *people.Service, k *keys.Service, a *access.Service,
	r *rotate.Service, now func() time.Time,
) *Service {
	return &Service{
		Safe:    k.Safe,
		store:   s,
		engine:  e,
		journal: j,
		people:  p,
		keys:    k,
		access:  a,
		rotate:  r,
		now:     now,
	}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: leavingDuty, Every: leaveEvery, Do: s.carryLeavings}}
}
