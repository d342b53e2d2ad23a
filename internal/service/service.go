// Package service holds the use cases: the only place where the core, the
// store, the cloud, SSH and the runs meet. It knows nothing of HTTP; its errors are
// *Problem values that say what is wrong, where, and what to do.
package service

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/semaphore"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/store"
)

// Service is the use cases over a store, a cloud and an engine for runs.
type Service struct {
	// AllowShortRSA is whether RSA keys under 2048 bits may be granted anew.
	AllowShortRSA bool
	// Safe keeps private halves; nil where it is switched off.
	Safe *safe.Safe
	// SweepEvery is how often logins with a steward key are swept; 0 for never.
	SweepEvery time.Duration
	// Fresh is for how long a proof counts.
	Fresh time.Duration
	// ReportWithin is for how long a step that somebody takes from their own machine
	// is waited for.
	ReportWithin time.Duration
	// Patience is for how long a step of a restore waits for a cloud or a host that does
	// not answer before the restore is undone.
	Patience time.Duration
	// StewardFrom limits steward keys to these addresses, as in the from option of
	// authorized_keys; "" for no limit.
	StewardFrom string
	// Issuer is by which people may sign in; nil for none.
	Issuer *Issuer
	// SessionLasts is for how long a session holds, SessionIdle for how long without use.
	SessionLasts, SessionIdle time.Duration

	store  *store.Store
	cloud  *cloud.Cloud
	engine *runs.Engine
	log    *slog.Logger
	now    func() time.Time
	watch  context.Context // ends when the service stops

	// advancing is held by the worker that starts further runs of rotations.
	advancing sync.Mutex
	prepared  preparations
	// rotating is how many runs of rotations are at work.
	rotating atomic.Int32
	gathered gathering
	// reading is what all sweeps may hold of files at once, in bytes.
	reading *semaphore.Weighted
	offers  outlined
	process process

	jobs map[string]Job // by the kind of the run
	// reported is called once somebody has reported from their own machine what they saw there.
	reported func(ctx context.Context, instance uuid.UUID)
	// worry says of a login what is bad about its best way back in.
	worry func(context.Context) func(store.ReachLogin, reach.Standing) string
	// ownSigner returns a key of the service's own.
	ownSigner func(ctx context.Context, name string) (ssh.Signer, error)

	figures keptFigures
	uses    uses
	// setUp is the hash of the set-up secret, nil where there is none.
	setUp atomic.Pointer[[32]byte]
}

// New returns a service over its parts.
func New(s *store.Store, c *cloud.Cloud, e *runs.Engine, log *slog.Logger) *Service {
	service := &Service{
		jobs:         map[string]Job{},
		process:      newProcess(),
		reading:      semaphore.NewWeighted(readBudget),
		store:        s,
		cloud:        c,
		engine:       e,
		log:          log,
		now:          time.Now,
		watch:        context.Background(),
		Fresh:        30 * 24 * time.Hour,
		ReportWithin: 2 * time.Minute,
		Patience:     2 * time.Minute,
		SessionLasts: defaultSessionLasts,
		SessionIdle:  defaultSessionIdle,
	}
	for _, kind := range []string{launchKind, startKind, stopKind, endKind} {
		e.Register(kind, service.lifecyclePlan)
	}
	for _, kind := range []string{grantKind, withdrawKind} {
		e.Register(kind, service.grantPlan)
		service.TakeJobs(kind, service.grantJob())
	}
	service.TakeJobs(rotateKind, service.rotationJob())
	service.reported = func(ctx context.Context, instance uuid.UUID) {
		e.Nudge(ctx, rotationDuty) // one may have waited for it
		service.wakeRestore(ctx, instance)
	}
	service.worry = service.worries
	service.ownSigner = service.ownKey
	e.Register(settleKind, service.settlePlan)
	e.Register(rotateKind, service.rotatePlan)
	e.Register(restoreKind, service.restorePlan)
	return service
}

// Start takes up the runs that have not ended and works until ctx ends.
func (s *Service) Start(ctx context.Context) error {
	if s.Safe != nil {
		if err := s.tellMasters(ctx); err != nil {
			return err
		}
		s.engine.Take(runs.Duty{Name: "tell-masters", Every: processSeen, Do: s.tellMasters, Own: true})
	}
	s.engine.Take(runs.Duty{Name: "compare-primes", Every: compareEvery, Do: s.comparePrimes})
	s.engine.Take(runs.Duty{Name: sweepDuty, Every: carrySweepsEvery, Do: s.carrySweeps})
	s.engine.Take(runs.Duty{Name: "scheduled-sweeps", Every: scheduleEvery, Do: s.sweepDue})
	s.engine.Take(runs.Duty{Name: "end-grants", Every: endGrantsEvery, Do: s.endGrants})
	s.engine.Take(runs.Duty{Name: rotationDuty, Every: rotateEvery, Do: s.carryRotations})
	s.engine.Take(runs.Duty{Name: ruleDuty, Every: rulesEvery, Do: s.carryRules})
	s.engine.Take(runs.Duty{Name: closingDuty, Every: closeEvery, Do: s.closeDue})
	s.engine.Take(runs.Duty{Name: usesDuty, Every: noteUses, Do: s.writeUses})
	s.engine.Take(runs.Duty{Name: leavingDuty, Every: leaveEvery, Do: s.carryLeavings})
	s.engine.Take(runs.Duty{Name: "carry-rekey", Every: rekeyEvery, Do: s.carryRekey})
	s.engine.Take(runs.Duty{Name: "watch-reach", Every: watchReachEvery, Do: s.watchReach})
	s.engine.Take(runs.Duty{Name: deliverDuty, Every: deliverEvery, Do: s.deliver})
	return s.StartRuns(ctx)
}

// Stop ends what Start has begun; the runs go on at the next start.
func (s *Service) Stop(ctx context.Context) {
	s.engine.Stop(ctx)
	if s.Safe == nil {
		return
	}
	if err := s.store.ForgetProcess(ctx, s.process.id); err != nil {
		s.log.Info("the other processes take this one for running for a minute more", "err", err)
	}
}

// StartRuns works on runs alone, without what is done from time to time; for loading a sample.
func (s *Service) StartRuns(ctx context.Context) error {
	s.watch = ctx
	return s.engine.Start(ctx)
}

// Ready returns nil if the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }
