// Package safekeeping holds what the service keeps encrypted: it seals secrets under the safe key that
// all processes of the service seal under, puts everything under a new one, and keeps the service's
// own keys. How something is encrypted is package safe's.
package safekeeping

import (
	"context"
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// Service is the use cases of the safe.
type Service struct {
	// Safe seals and opens; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	journal *journal.Service
	log     *slog.Logger
	now     func() time.Time
	process process
}

// New returns the use cases of the safe. box is nil where it is switched off.
func New(s *store.Store, box *safe.Safe, j *journal.Service, log *slog.Logger, now func() time.Time) *Service {
	return &Service{Safe: box, store: s, journal: j, log: log, now: now, process: newProcess()}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	if s.Safe == nil {
		return nil
	}
	return []runs.Duty{
		{Name: "tell-safe_keys", Every: processSeen, Do: s.TellKeys, Own: true},
		{Name: "carry-new-key", Every: renewEvery, Do: s.carryNewKey},
	}
}

// Leave has the other processes not wait for this one, which ends.
func (s *Service) Leave(ctx context.Context) {
	if s.Safe == nil {
		return
	}
	if err := s.store.ForgetProcess(ctx, s.process.id); err != nil {
		s.log.Info("the other processes take this one for running for a minute more", "err", err)
	}
}
