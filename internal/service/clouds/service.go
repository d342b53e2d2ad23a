// Package clouds holds the clouds: where their adapters are, what each can do, and whether it answers. All that asks a
// cloud gets it from here.
package clouds

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/store"
)

// Options says what clouds there may be.
type Options struct {
	// Adapter is where the adapter of the cloud is that the service is started with, for people to see.
	Adapter string
	// Name is what it is called from now on; "" for what it was called before.
	Name string
	// Plain is whether an adapter on another machine may be spoken to without TLS.
	Plain bool
}

// Service is the use cases of clouds.
type Service struct {
	// Safe keeps the tokens for adapters; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	journal *journal.Service
	safes   *safekeeping.Service
	now     func() time.Time
	o       Options
	// given is the cloud that the service is started with; nil for none.
	given *cloud.Cloud

	mu     sync.Mutex
	ways   map[uuid.UUID]*kept
	offers map[uuid.UUID]*outlined
}

// kept is the way to an adapter, as it was when the cloud's record was last changed.
type kept struct {
	changed time.Time
	over    http.RoundTripper
}

// New returns the use cases of clouds.
func New(
	s *store.Store, given *cloud.Cloud, j *journal.Service, safes *safekeeping.Service, now func() time.Time, o Options,
) *Service {
	return &Service{
		Safe: safes.Safe, store: s, given: given, journal: j, safes: safes, now: now, o: o,
		ways: map[uuid.UUID]*kept{}, offers: map[uuid.UUID]*outlined{},
	}
}

// NameGiven calls the cloud that the service is started with as the options say.
func (s *Service) NameGiven(ctx context.Context) error {
	if s.o.Name == "" {
		return nil
	}
	err := s.store.ChangeCloud(ctx, record.GivenCloud, record.CloudChange{Name: s.o.Name})
	return taken(err, record.Cloud{Name: s.o.Name})
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{{Name: "ask-clouds", Every: askEvery, Do: s.askAll}}
}

var (
	errNone  = errors.New("it is in no cloud")
	errGone  = errors.New("it was forgotten")
	errNoWay = errors.New("the service was started without its adapter: -cloud")
)

// Of returns the cloud with the id, for nil one that does not answer. Each call looks at the cloud's record, so that a
// change of it counts at once in all processes.
func (s *Service) Of(id *uuid.UUID) *cloud.Cloud {
	within := cloud.CallTimeout
	if id != nil && *id == record.GivenCloud && s.given != nil {
		_, within = s.given.Way()
	}
	return cloud.Over(func(ctx context.Context) (http.RoundTripper, error) {
		if id == nil {
			return nil, errNone
		}
		c, err := s.store.CloudByID(ctx, *id)
		if err != nil {
			return nil, err
		}
		if c.PausedAt != nil {
			return nil, fmt.Errorf("%s: %w", c.Name, cloud.ErrPaused)
		}
		return s.wayTo(c)
	}, within)
}

// wayTo returns the way to a cloud's adapter, also of one that is paused.
func (s *Service) wayTo(c record.Cloud) (http.RoundTripper, error) {
	if c.ForgottenAt != nil {
		return nil, fmt.Errorf("%s: %w", c.Name, errGone)
	}
	if c.Given {
		if s.given == nil {
			return nil, errNoWay
		}
		over, _ := s.given.Way()
		return over, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if k := s.ways[c.ID]; k != nil && k.changed.Equal(c.ChangedAt) {
		return k.over, nil
	}
	if s.Safe == nil {
		return nil, errors.New("the safe is switched off, so the token for its adapter cannot be opened")
	}
	token, err := s.Safe.Open(c.Encrypted, tokenRecord(c.ID))
	if err != nil {
		return nil, fmt.Errorf("open the token for the adapter of %s: %w", c.Name, err)
	}
	over, err := cloud.Adapter{URL: c.Adapter, Token: string(token), CA: c.CA}.Way(cloud.CallTimeout)
	if err != nil {
		return nil, err
	}
	s.ways[c.ID] = &kept{c.ChangedAt, over}
	return over, nil
}

func tokenRecord(id uuid.UUID) string { return "cloud " + id.String() }
