// Package journal holds the daybook: its entries, how they are read, followed and checked, and the
// requests that are done one time however often they are sent.
package journal

import (
	"context"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/runs"
	"plumlatch/internal/store"
)

// Service is the use cases of the daybook.
type Service struct {
	// OwnKey returns the key of that name of the service's own, by which heads are signed. Whoever
	// keeps these keys sets it.
	OwnKey func(ctx context.Context, name string) (ssh.Signer, error)

	store *store.Store
	now   func() time.Time
	// stopping returns what is closed when the service stops.
	stopping func() <-chan struct{}
	uses     uses
}

// New returns the use cases over a store. stopping returns what is closed when the service stops.
func New(s *store.Store, now func() time.Time, stopping func() <-chan struct{}) *Service {
	return &Service{store: s, now: now, stopping: stopping}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: "note-uses", Every: noteUses, Do: s.writeUses}}
}
