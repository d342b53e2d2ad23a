// Package fleet holds the instances: launched by the cloud or adopted, started, stopped and ended, with their
// logins, host keys and steward keys, and what the cloud offers. Who gets in is package access's.
package fleet

import (
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/jump"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/store"
)

// Service is the use cases of instances.
type Service struct {
	// Safe keeps the private keys of steward keys; nil where it is switched off.
	Safe *safe.Safe
	// Jumps is how machines are reached.
	Jumps *jump.Service

	store   *store.Store
	clouds  *clouds.Service
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	now     func() time.Time
}

// New returns the use cases of instances and registers the runs that change them.
func New(
	s *store.Store,
	c *clouds.Service,
	e *runs.Engine,
	j *journal.Service,
	k *keys.Service,
	w *jump.Service,
	now func() time.Time,
) *Service {
	service := &Service{Safe: k.Safe, Jumps: w, store: s, clouds: c, engine: e, journal: j, keys: k, now: now}
	for _, kind := range []string{launchKind, startKind, stopKind, endKind} {
		e.Register(kind, service.lifecyclePlan)
	}
	return service
}
