// Package service holds the use cases: the only place where the core, the
// store, the cloud, SSH and the runs meet. It knows nothing of HTTP; its errors are
// *Problem values that say what is wrong, where, and what to do.
package service

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
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

	figures keptFigures
	uses    uses
	// setUp is the hash of the set-up secret, nil where there is none.
	setUp atomic.Pointer[[32]byte]

	// stepHook, where a test sets it, changes the steps of runs.
	stepHook func(store.Run, runs.Step) runs.Step
}

// New returns a service over its parts.
func New(s *store.Store, c *cloud.Cloud, e *runs.Engine, log *slog.Logger) *Service {
	return &Service{
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
	return s.engine.Start(ctx, s.planOf)
}

// within is the service whose store is a transaction, for reading in it. It starts nothing.
func (s *Service) within(tx *store.Store) *Service {
	return &Service{store: tx, now: s.now, log: s.log, Safe: s.Safe, StewardFrom: s.StewardFrom, Fresh: s.Fresh}
}

// Ready returns nil if the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Kind is the sort of a Problem.
type Kind int

// The kinds.
const (
	Invalid Kind = iota + 1
	TooLarge
	Unauthenticated
	Forbidden
	NotFound
	Conflict
	Changed // since it was read
	Gone
	Unavailable
	TooMany
)

// Problem is an error for people and programs.
type Problem struct {
	Kind Kind
	// Code is stable, for programs.
	Code string
	// Detail says what is wrong, Remedy what to do about it.
	Detail, Remedy string
	// Field names the field at fault; Line and Column are 1-based places in it.
	Field        string
	Line, Column int
	// Suggestion is a value that would do.
	Suggestion string
	// Where names the things that stand in the way.
	Where []string
	// After is in how many seconds to try again; 0 where that is not known.
	After int
}

func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Detail
	}
	return p.Detail + ". " + p.Remedy
}

// pageProblem turns the store's errors about a page into problems.
func pageProblem(err error) error {
	switch {
	case errors.Is(err, store.ErrCursor):
		return &Problem{
			Kind:   Invalid,
			Code:   "bad-cursor",
			Field:  "after",
			Detail: err.Error(),
			Remedy: "Ask for the first page, without after",
		}
	case errors.Is(err, store.ErrSort):
		return &Problem{Kind: Invalid, Code: "bad-sort", Field: "sort", Detail: err.Error()}
	}
	return err
}

func checkName(field, value string) error {
	var e *name.Error
	if errors.As(name.Check(value), &e) {
		return &Problem{
			Kind:       Invalid,
			Code:       "bad-name",
			Field:      field,
			Line:       min(e.Column, 1),
			Column:     e.Column,
			Detail:     e.Problem,
			Remedy:     suggest(e.Suggestion),
			Suggestion: e.Suggestion,
		}
	}
	return nil
}

func suggest(s string) string {
	if s == "" {
		return ""
	}
	return "Try " + s
}

func refusalProblem(field string, err error) error {
	var r *keypair.Refusal
	if !errors.As(err, &r) {
		return err
	}
	kind := Invalid
	if r.Code == keypair.CodeTooLarge {
		kind = TooLarge
	}
	return &Problem{
		Kind:   kind,
		Code:   r.Code,
		Field:  field,
		Line:   r.Line,
		Column: r.Column,
		Detail: r.Problem,
		Remedy: r.Remedy,
	}
}

const (
	maxLabels     = 32
	maxLabelBytes = 128
	maxTextBytes  = 1024
)

func checkLabels(labels map[string]string) error {
	if len(labels) > maxLabels {
		return &Problem{Kind: Invalid, Code: "too-many-labels", Field: "labels", Detail: "more than 32 labels were given"}
	}
	for k, v := range labels {
		if name.Check(k) != nil {
			return &Problem{
				Kind:       Invalid,
				Code:       "bad-label",
				Field:      "labels",
				Detail:     "the label name is not made of a-z 0-9 . _ -",
				Suggestion: name.Suggest(k),
				Remedy:     suggest(name.Suggest(k)),
			}
		}
		if len(v) > maxLabelBytes || keypair.CheckComment(v) != nil {
			return &Problem{
				Kind:   Invalid,
				Code:   "bad-label",
				Field:  "labels",
				Detail: "the value of the label " + k + " is over 128 bytes or holds a control character",
			}
		}
	}
	return nil
}

func checkText(field, text string) error {
	if len(text) > maxTextBytes || keypair.CheckComment(text) != nil {
		return &Problem{
			Kind:   Invalid,
			Code:   "bad-text",
			Field:  field,
			Detail: "the " + field + " is over 1024 bytes or holds a control character",
			Remedy: "Give one line of plain text",
		}
	}
	return nil
}
