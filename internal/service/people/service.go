// Package people holds the operators and their teams, and how they sign in: passwords, one-time codes, an issuer,
// sessions and tokens. Actor is who makes a call, and what it may do and see.
package people

import (
	"log/slog"
	"sync/atomic"
	"time"

	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/store"
)

// Options says how people sign in.
type Options struct {
	// Issuer is by which people may sign in; nil for none.
	Issuer *Issuer
	// SessionLasts is for how long a session holds, SessionIdle for how long without use.
	// 0 means 12 hours and 1 hour.
	SessionLasts, SessionIdle time.Duration
}

// Service is the use cases of operators, teams, sessions and tokens.
type Service struct {
	Options
	// Safe keeps the secrets of factors; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	safes   *safekeeping.Service
	journal *journal.Service
	log     *slog.Logger
	now     func() time.Time
	// setUp is the hash of the set-up secret, nil where there is none.
	setUp atomic.Pointer[[32]byte]
}

// New returns the use cases of people.
func New(
	s *store.Store, j *journal.Service, safes *safekeeping.Service, log *slog.Logger, now func() time.Time,
	o Options,
) *Service {
	if o.SessionLasts == 0 {
		o.SessionLasts = defaultSessionLasts
	}
	if o.SessionIdle == 0 {
		o.SessionIdle = defaultSessionIdle
	}
	return &Service{Options: o, Safe: safes.Safe, store: s, safes: safes, journal: j, log: log, now: now}
}
