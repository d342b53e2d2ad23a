// Package reentry holds the ways back in to an instance whose private keys are lost: which there are, what each
// costs, and the run that takes one. What is decided without input or output is core/restore's.
package reentry

import (
	"log/slog"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// Service is the use cases of restores.
type Service struct {
	// Safe keeps private halves; nil where it is switched off.
	Safe *safe.Safe
	// Fresh is for how long a proof counts.
	Fresh time.Duration
	// Patience is for how long a step of a restore waits for a cloud or a host that does
	// not answer before the restore is undone.
	Patience time.Duration

	store   *store.Store
	cloud   *cloud.Cloud
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	fleet   *fleet.Service
	reading *reading.Service
	access  *access.Service
	log     *slog.Logger
	now     func() time.Time
	routes  []route
	ways    restore.Ways // of the routes
}

// Parts are what restores are made of.
type Parts struct {
	Store   *store.Store
	Cloud   *cloud.Cloud
	Engine  *runs.Engine
	Journal *journal.Service
	Keys    *keys.Service
	Fleet   *fleet.Service
	Reading *reading.Service
	Access  *access.Service
	Log     *slog.Logger
	Now     func() time.Time
	// Patience is for how long a step waits for a cloud or a host that does not answer before the
	// restore is undone.
	Patience time.Duration
}

// New returns the use cases of restores and registers their runs.
func New(p Parts) *Service {
	s := &Service{
		Safe:     p.Keys.Safe,
		Fresh:    p.Access.Fresh,
		Patience: p.Patience,
		store:    p.Store,
		cloud:    p.Cloud,
		engine:   p.Engine,
		journal:  p.Journal,
		keys:     p.Keys,
		fleet:    p.Fleet,
		reading:  p.Reading,
		access:   p.Access,
		log:      p.Log,
		now:      p.Now,
		routes:   allRoutes,
		ways:     waysOf(allRoutes),
	}
	p.Engine.Register(RunKind, s.restorePlan)
	return s
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: closingDuty, Every: closeEvery, Do: s.closeDue}}
}
