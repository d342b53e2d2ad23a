// Package rules holds the rotation rules, by which keys are rotated when they are due.
package rules

import (
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/store"
)

// Service is the use cases of the rotation rules.
type Service struct {
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	rotate  *rotate.Service
	log     *slog.Logger
	now     func() time.Time
}

// New returns the use cases of the rotation rules.
func New(
	s *store.Store, e *runs.Engine, j *journal.Service, r *rotate.Service, log *slog.Logger, now func() time.Time,
) *Service {
	return &Service{Safe: r.Safe, store: s, engine: e, journal: j, rotate: r, log: log, now: now}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: ruleDuty, Every: rulesEvery, Do: s.carryRules}}
}
