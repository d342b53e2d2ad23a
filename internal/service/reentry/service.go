// Package reentry holds the ways back in to an instance whose private keys are lost: which there are, what each
// costs, and the run that takes one. What is decided without input or output is core/restore's.
package reentry

import (
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/route"
	"plumlatch/internal/store"
)

// Service is the use cases of restores.
type Service struct {
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe
	// Fresh is for how long a proof counts.
	Fresh time.Duration

	store   *store.Store
	clouds  *clouds.Service
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	fleet   *fleet.Service
	reading *reading.Service
	access  *access.Service
	route   *route.Service
	log     *slog.Logger
	now     func() time.Time
}

// Parts are what restores are made of.
type Parts struct {
	Store   *store.Store
	Clouds  *clouds.Service
	Engine  *runs.Engine
	Journal *journal.Service
	Keys    *keys.Service
	Fleet   *fleet.Service
	Reading *reading.Service
	Access  *access.Service
	Routes  *route.Service
	Log     *slog.Logger
	Now     func() time.Time
}

// New returns the use cases of restores.
func New(p Parts) *Service {
	return &Service{
		Safe:    p.Keys.Safe,
		Fresh:   p.Access.Fresh,
		store:   p.Store,
		clouds:  p.Clouds,
		engine:  p.Engine,
		journal: p.Journal,
		keys:    p.Keys,
		fleet:   p.Fleet,
		reading: p.Reading,
		access:  p.Access,
		route:   p.Routes,
		log:     p.Log,
		now:     p.Now,
	}
}
