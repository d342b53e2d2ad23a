// Package history answers who could get in at a time that is over, by what was read, granted and handed over.
package history

import (
	"time"

	"plumlatch/internal/service/keys"
	"plumlatch/internal/store"
)

// Service is the use cases of the past.
type Service struct {
	store *store.Store
	keys  *keys.Service
	now   func() time.Time
}

// New returns the use cases of the past.
func New(s *store.Store, k *keys.Service, now func() time.Time) *Service { return &Service{s, k, now} }
