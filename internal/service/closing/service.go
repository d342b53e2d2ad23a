// Package closing keeps the promise that whatever a run opens for a while is closed: it is written down
// with its deadline before it is opened, closed by the run, and at the deadline whatever has become of that.
package closing

import (
	"log/slog"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// Service opens and closes.
type Service struct {
	store   *store.Store
	clouds  *clouds.Service
	journal *journal.Service
	log     *slog.Logger
	now     func() time.Time
}

// New returns what opens and closes at a cloud.
func New(s *store.Store, c *clouds.Service, j *journal.Service, log *slog.Logger, now func() time.Time) *Service {
	return &Service{store: s, clouds: c, journal: j, log: log, now: now}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: "close", Every: closeEvery, Do: s.CloseDue}}
}
