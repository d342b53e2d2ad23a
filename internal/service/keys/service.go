// Package keys holds the public keys that are recorded and the private keys that are kept: how they are made,
// imported, told apart, released under consent, handed over and forgotten.
package keys

import (
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/store"
)

// Options says which keys are taken.
type Options struct {
	// AllowShortRSA is whether RSA keys under 2048 bits may be granted again.
	AllowShortRSA bool
	// StewardFrom limits steward keys to these addresses, as in the from option of
	// authorized_keys; "" for no limit.
	StewardFrom string
}

// Service is the use cases of keys.
type Service struct {
	Options
	// Safe keeps private keys; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	safes   *safekeeping.Service
	journal *journal.Service
	people  *people.Service
	now     func() time.Time
}

// New returns the use cases of keys.
func New(
	s *store.Store, j *journal.Service, safes *safekeeping.Service, p *people.Service, now func() time.Time,
	o Options,
) *Service {
	return &Service{Options: o, Safe: safes.Safe, store: s, safes: safes, journal: j, people: p, now: now}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: "compare-primes", Every: compareEvery, Do: s.comparePrimes}}
}
