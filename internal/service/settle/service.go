// Package settle finds where what is in place in a login differs from what is granted, and does what was
// chosen about it.
package settle

import (
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// Service is the use cases of differences.
type Service struct {
	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	fleet   *fleet.Service
	reading *reading.Service
	access  *access.Service
	now     func() time.Time
}

// New returns the use cases of differences and registers their runs.
func New(
	s *store.Store, e *runs.Engine, j *journal.Service, k *keys.Service, f *fleet.Service, r *reading.Service,
	a *access.Service, now func() time.Time,
) *Service {
	service := &Service{s, e, j, k, f, r, a, now}
	e.Register(settleKind, service.settlePlan)
	return service
}
