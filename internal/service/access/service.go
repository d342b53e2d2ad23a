// Package access holds who may open what, and who gets in: grants, the proofs that a key opens a login, the
// differences between the two, and reach, which is drawn from all of them.
package access

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/work"
	"plumlatch/internal/store"
)

// Service is the use cases of grants and of who gets in.
type Service struct {
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe
	// Fresh is for how long a proof counts.
	Fresh time.Duration
	// Reported is called once somebody has reported from their own machine what they saw there.
	Reported func(ctx context.Context, instance uuid.UUID)
	// Worry returns what says of a login what is bad about its best way back in.
	Worry func(context.Context) func(record.ReachLogin, reach.Standing) string

	store   *store.Store
	engine  *runs.Engine
	journal *journal.Service
	keys    *keys.Service
	fleet   *fleet.Service
	runs    *work.Service
	reading *reading.Service
	now     func() time.Time
	figures keptFigures
}

// New returns the use cases of access and registers their runs. fresh is for how long a proof counts.
func New(
	s *store.Store, e *runs.Engine, j *journal.Service, k *keys.Service, f *fleet.Service, w *work.Service,
	r *reading.Service, now func() time.Time, fresh time.Duration,
) *Service {
	service := &Service{
		Safe:     k.Safe,
		Fresh:    fresh,
		Reported: func(context.Context, uuid.UUID) {},
		Worry: func(context.Context) func(record.ReachLogin, reach.Standing) string {
			return func(record.ReachLogin, reach.Standing) string { return "" }
		},
		store:   s,
		engine:  e,
		journal: j,
		keys:    k,
		fleet:   f,
		runs:    w,
		reading: r,
		now:     now,
	}
	for _, kind := range []string{grantKind, withdrawKind} {
		e.Register(kind, service.grantPlan)
		w.TakeJobs(kind, service.grantJob())
	}
	return service
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: "end-grants", Every: endGrantsEvery, Do: s.endGrants}}
}
