// Package inventory reads all that runs in the clouds, notes what has changed of what is recorded, and brings in what
// is not.
package inventory

import (
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// Service is the use cases of what runs in clouds.
type Service struct {
	// Every is how often each cloud is read; 0 for only when somebody asks.
	Every time.Duration

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	clouds  *clouds.Service
	fleet   *fleet.Service
	reading *reading.Service
	log     *slog.Logger
	now     func() time.Time
}

// Parts are what inventories are made of.
type Parts struct {
	Store   *store.Store
	Engine  *runs.Engine
	Journal *journal.Service
	Clouds  *clouds.Service
	Fleet   *fleet.Service
	Reading *reading.Service
	Log     *slog.Logger
	Now     func() time.Time
	Every   time.Duration
}

// New returns the use cases of what runs in clouds.
func New(p Parts) *Service {
	return &Service{p.Every, p.Store, p.Engine, p.Journal, p.Clouds, p.Fleet, p.Reading, p.Log, p.Now}
}

const (
	readDuty = "read-clouds"
	// lookEvery is how often it is looked whether a cloud is to be read.
	lookEvery = 5 * time.Second
)

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: readDuty, Every: lookEvery, Do: s.readDue}}
}
