// Package route holds the ways back in to an instance whose private keys are lost, one file each, and the
// run that takes one. Which are possible, what they cost and in which order their steps come is
// core/restore's; how one is chosen and begun is package reentry's.
package route

import (
	"time"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// Service is the ways back in, and their runs.
type Service struct {
	// Patience is for how long a step of a restore waits for a cloud or a host that does
	// not answer before the restore is undone.
	Patience time.Duration
	// Ways are what core knows of the routes.
	Ways restore.Ways

	store    *store.Store
	clouds   *clouds.Service
	journal  *journal.Service
	keys     *keys.Service
	fleet    *fleet.Service
	reading  *reading.Service
	access   *access.Service
	closings *closing.Service
	now      func() time.Time
	routes   []Route
}

// Parts are what restores are made of.
type Parts struct {
	Store    *store.Store
	Clouds   *clouds.Service
	Engine   *runs.Engine
	Journal  *journal.Service
	Keys     *keys.Service
	Fleet    *fleet.Service
	Reading  *reading.Service
	Access   *access.Service
	Closings *closing.Service
	Now      func() time.Time
	// Patience is for how long a step waits for a cloud or a host that does not answer before the
	// restore is undone.
	Patience time.Duration
}

// New returns the ways back in and registers their runs.
func New(p Parts) *Service {
	s := &Service{
		Patience: p.Patience,
		Ways:     waysOf(allRoutes),
		store:    p.Store,
		clouds:   p.Clouds,
		journal:  p.Journal,
		keys:     p.Keys,
		fleet:    p.Fleet,
		reading:  p.Reading,
		access:   p.Access,
		closings: p.Closings,
		now:      p.Now,
		routes:   allRoutes,
	}
	p.Engine.Register(RunKind, s.plan)
	return s
}
