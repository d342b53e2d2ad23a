// Package reading reads what opens a login, by the steward key or the guest agent, and records it: one login, or a
// sweep of many. Nothing is changed on a machine.
package reading

import (
	"context"
	"log/slog"
	"time"

	"golang.org/x/sync/semaphore"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/store"
)

// Service is the use cases of reading what opens logins.
type Service struct {
	// Safe keeps the private keys of steward keys; nil where it is switched off.
	Safe *safe.Safe
	// SweepEvery is how often logins with a steward key are swept; 0 for never.
	SweepEvery time.Duration
	// KeepFor is for how long readings are kept that a later one has replaced; 0 for ever.
	KeepFor time.Duration

	store   *store.Store
	clouds  *clouds.Service
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	fleet   *fleet.Service
	log     *slog.Logger
	now     func() time.Time
	// held is what all sweeps may hold of files at once, in bytes.
	held *semaphore.Weighted
}

// New returns the use cases of reading. every is how often logins with a steward key are swept.
func New(
	s *store.Store, c *clouds.Service, e *runs.Engine, j *journal.Service, k *keys.Service, f *fleet.Service,
	log *slog.Logger, now func() time.Time, every time.Duration,
) *Service {
	return &Service{
		Safe:       k.Safe,
		SweepEvery: every,
		store:      s,
		clouds:     c,
		engine:     e,
		journal:    j,
		keys:       k,
		fleet:      f,
		log:        log,
		now:        now,
		held:       semaphore.NewWeighted(readBudget),
	}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{
		{Name: sweepDuty, Every: carrySweepsEvery, Do: s.carrySweeps},
		{Name: "scheduled-sweeps", Every: scheduleEvery, Do: s.sweepDue},
		{Name: "forget-readings", Every: forgetEvery, Do: s.forget},
	}
}

// forgetEvery is how often readings that are too old are looked for, and forgetPart how many go at once.
const (
	forgetEvery = time.Hour
	forgetPart  = 5000
)

// forget deletes what was read so long ago that it is no longer kept. The newest version of each file stays.
func (s *Service) forget(ctx context.Context) error {
	if s.KeepFor <= 0 {
		return nil
	}
	for {
		n, err := s.store.ForgetReadings(ctx, s.now().Add(-s.KeepFor), forgetPart)
		if err != nil || n < forgetPart {
			return err
		}
	}
}
