// Package service wires the use cases together, each of which is a package below it: what they
// are, what they need of each other, and what is done from time to time. It knows nothing of HTTP.
package service

import (
	"cmp"
	"context"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/charter"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/cloudkeys"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/glance"
	"plumlatch/internal/service/history"
	"plumlatch/internal/service/inventory"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/jump"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/leaving"
	"plumlatch/internal/service/mailing"
	"plumlatch/internal/service/notify"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/reachmap"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/route"
	"plumlatch/internal/service/rules"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/service/settle"
	"plumlatch/internal/service/visit"
	"plumlatch/internal/service/work"
	"plumlatch/internal/store"
)

const (
	defaultFresh    = 30 * 24 * time.Hour
	defaultPatience = 2 * time.Minute
)

// Options says how the service works. The zero value is a service without a safe that keeps to
// the defaults.
type Options struct {
	People people.Options
	Keys   keys.Options
	Mail   mailing.Options
	Clouds clouds.Options
	Visits visit.Options
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe
	// SweepEvery is how often logins with a steward key are swept; 0 for never.
	SweepEvery time.Duration
	// ReadCloudsEvery is how often all that runs in each cloud is read; 0 for only when somebody asks.
	ReadCloudsEvery time.Duration
	// KeepReadings is for how long readings are kept that a later one has replaced; 0 for ever.
	KeepReadings time.Duration
	// Fresh is for how long a proof counts; 0 means 30 days.
	Fresh time.Duration
	// ReportWithin is for how long a step that somebody takes from their own machine
	// is waited for; 0 means 2 minutes.
	ReportWithin time.Duration
	// Patience is for how long a step of a restore waits for a cloud or a host that does
	// not answer before the restore is undone; 0 means 2 minutes.
	Patience time.Duration
	// Now is the clock; nil means the machine's.
	Now func() time.Time
}

// Service is the use cases over a store, clouds and an engine for runs.
type Service struct {
	Journal   *journal.Service
	Safes     *safekeeping.Service
	People    *people.Service
	Keys      *keys.Service
	Clouds    *clouds.Service
	Jumps     *jump.Service
	Fleet     *fleet.Service
	Runs      *work.Service
	Reading   *reading.Service
	Inventory *inventory.Service
	Access    *access.Service
	CloudKeys *cloudkeys.Service
	Settle    *settle.Service
	History   *history.Service
	Replace   *replace.Service
	Rotate    *rotate.Service
	Rules     *rules.Service
	Closings  *closing.Service
	Routes    *route.Service
	Reentry   *reentry.Service
	Charters  *charter.Service
	Leaving   *leaving.Service
	Notify    *notify.Service
	Mailing   *mailing.Service
	Visits    *visit.Service
	Glance    *glance.Service
	Maps      *reachmap.Service

	store  *store.Store
	engine *runs.Engine
}

// New returns a service over its parts. c is the cloud that it is started with; nil for none.
func New(s *store.Store, c *cloud.Cloud, e *runs.Engine, log *slog.Logger, o Options) *Service {
	now := o.Now
	if now == nil {
		now = time.Now
	}
	within := cmp.Or(o.ReportWithin, defaultPatience)
	h := &Service{store: s, engine: e}
	h.Journal = journal.New(s, now, e.Stopping)
	h.Safes = safekeeping.New(s, o.Safe, h.Journal, log, now)
	h.Journal.OwnKey = h.Safes.OwnKey
	h.People = people.New(s, h.Journal, h.Safes, log, now, o.People)
	h.Keys = keys.New(s, h.Journal, h.Safes, h.People, now, o.Keys)
	h.Clouds = clouds.New(s, c, h.Journal, h.Safes, now, o.Clouds)
	h.Jumps = jump.New(s, o.Safe, h.Journal, now)
	h.Fleet = fleet.New(s, h.Clouds, e, h.Journal, h.Keys, h.Jumps, now)
	h.Runs = work.New(s, e, h.Jumps, now, within)
	h.Reading = reading.New(s, h.Clouds, e, h.Journal, h.Keys, h.Fleet, log, now, o.SweepEvery)
	h.Reading.KeepFor = o.KeepReadings
	h.Inventory = inventory.New(inventory.Parts{
		Store:   s,
		Engine:  e,
		Journal: h.Journal,
		Clouds:  h.Clouds,
		Fleet:   h.Fleet,
		Reading: h.Reading,
		Log:     log,
		Now:     now,
		Every:   o.ReadCloudsEvery,
	})
	h.Access = access.New(s, e, h.Journal, h.Keys, h.Fleet, h.Runs, h.Reading, now, cmp.Or(o.Fresh, defaultFresh))
	h.CloudKeys = cloudkeys.New(s, h.Clouds, h.Keys, h.Fleet, h.Access, h.Inventory, h.Journal, now)
	h.Settle = settle.New(s, e, h.Journal, h.Keys, h.Fleet, h.Reading, h.Access, now)
	h.History = history.New(s, h.Keys, now)
	h.Replace = replace.New(replace.Parts{
		Store:   s,
		Engine:  e,
		Journal: h.Journal,
		Keys:    h.Keys,
		Runs:    h.Runs,
		Reading: h.Reading,
		Jumps:   h.Jumps,
		Log:     log,
		Now:     now,
	})
	h.Rotate = rotate.New(rotate.Parts{
		Store:   s,
		Clouds:  h.Clouds,
		Engine:  e,
		Journal: h.Journal,
		Safes:   h.Safes,
		Keys:    h.Keys,
		Fleet:   h.Fleet,
		Runs:    h.Runs,
		Reading: h.Reading,
		Access:  h.Access,
		Replace: h.Replace,
		Log:     log,
		Now:     now,
	})
	h.Rules = rules.New(s, e, h.Journal, h.Rotate, log, now)
	h.Closings = closing.New(s, h.Clouds, h.Journal, log, now)
	h.Routes = route.New(route.Parts{
		Store:    s,
		Clouds:   h.Clouds,
		Engine:   e,
		Journal:  h.Journal,
		Keys:     h.Keys,
		Fleet:    h.Fleet,
		Reading:  h.Reading,
		Access:   h.Access,
		Closings: h.Closings,
		Now:      now,
		Patience: cmp.Or(o.Patience, defaultPatience),
	})
	h.Reentry = reentry.New(reentry.Parts{
		Store:   s,
		Clouds:  h.Clouds,
		Engine:  e,
		Journal: h.Journal,
		Keys:    h.Keys,
		Fleet:   h.Fleet,
		Reading: h.Reading,
		Access:  h.Access,
		Routes:  h.Routes,
		Log:     log,
		Now:     now,
	})
	h.Charters = charter.New(charter.Parts{
		Store:     s,
		Engine:    e,
		Journal:   h.Journal,
		Keys:      h.Keys,
		Fleet:     h.Fleet,
		Inventory: h.Inventory,
		Rules:     h.Rules,
		Access:    h.Access,
		Now:       now,
	})
	h.Maps = reachmap.New(h.Access, now)
	h.Glance = glance.New(s, h.Keys, h.Access, h.Rotate, now)
	h.Leaving = leaving.New(s, e, h.Journal, h.People, h.Keys, h.Access, h.Rotate, now)
	h.Notify = notify.New(s, e, h.Journal, h.Safes, h.Access, log, now)
	h.Mailing = mailing.New(s, h.Journal, log, now, cmp.Or(o.Fresh, defaultFresh), o.Mail)
	h.Visits = visit.New(visit.Parts{
		Store:   s,
		Journal: h.Journal,
		Safes:   h.Safes,
		Keys:    h.Keys,
		Fleet:   h.Fleet,
		Access:  h.Access,
		Runs:    h.Runs,
		Log:     log,
		Now:     now,
	}, o.Visits)
	// A rotation or a restore may have waited for what somebody reports.
	h.Access.Reported = func(ctx context.Context, instance uuid.UUID) {
		h.Rotate.Wake(ctx)
		h.Reentry.WakeRestore(ctx, instance)
	}
	h.Access.Worry = h.Reentry.Worries
	return h
}

// Start takes up the runs that have not ended and works until ctx ends.
func (s *Service) Start(ctx context.Context) error {
	if s.Safes.Safe != nil {
		if err := s.Safes.TellKeys(ctx); err != nil {
			return err
		}
	}
	if err := s.Clouds.NameGiven(ctx); err != nil {
		return err
	}
	for _, of := range []interface{ Duties() []runs.Duty }{
		s.Safes, s.Keys, s.Clouds, s.Inventory, s.Reading, s.Access, s.Rotate, s.Rules, s.Closings, s.Journal, s.Leaving,
		s.Charters, s.Notify, s.Mailing, s.Visits,
	} {
		s.engine.Take(of.Duties()...)
	}
	if err := s.StartRuns(ctx); err != nil {
		return err
	}
	s.Visits.Start()
	return nil
}

// Stop ends what Start has begun; the runs continue at the next start.
func (s *Service) Stop(ctx context.Context) {
	s.Visits.Stop()
	s.engine.Stop(ctx)
	s.Safes.Leave(ctx)
}

// StartRuns works on runs alone, without what is done from time to time; for loading a sample.
func (s *Service) StartRuns(ctx context.Context) error { return s.engine.Start(ctx) }

// Ready returns nil if the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }
