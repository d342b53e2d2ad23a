// Package charter keeps the charters of teams, says what differs from them, and makes what they declare so. What has to
// change, and in which order, is decided in core; each change is made by the use case that makes it for a person too.
package charter

import (
	"sync/atomic"
	"time"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/inventory"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/rules"
	"plumlatch/internal/store"
)

// Parts are what the use cases of charters need.
type Parts struct {
	Store     *store.Store
	Engine    *runs.Engine
	Journal   *journal.Service
	Keys      *keys.Service
	Fleet     *fleet.Service
	Inventory *inventory.Service
	Access    *access.Service
	Rules     *rules.Service
	Now       func() time.Time
}

// Service is the use cases of charters.
type Service struct {
	store     *store.Store
	engine    *runs.Engine
	journal   *journal.Service
	keys      *keys.Service
	fleet     *fleet.Service
	inventory *inventory.Service
	access    *access.Service
	rules     *rules.Service
	now       func() time.Time
	// reading bounds the memory that is taken by charters that are read at the same time.
	reading chan struct{}
	// took is how long it took to compare all charters, the last time; in nanoseconds.
	took atomic.Int64
}

// mostRead is how many charters are read and compared at the same time.
const mostRead = 2

// New returns the use cases of charters.
func New(p Parts) *Service {
	return &Service{
		store: p.Store, engine: p.Engine, journal: p.Journal, keys: p.Keys,
		fleet: p.Fleet, inventory: p.Inventory, access: p.Access, rules: p.Rules, now: p.Now,
		reading: make(chan struct{}, mostRead),
	}
}

const (
	settleDuty  = "settle-charters"
	settleEvery = time.Second
	watchDuty   = "compare-charters"
	watchEvery  = 10 * time.Second
	// compareEvery is how often a charter is compared where nothing was read meanwhile.
	compareEvery = 10 * time.Minute
	// compareRest is for how long it is left alone at least, since machines are read all the time; and for so many
	// times as long as comparing has taken.
	compareRest = 10 * time.Second
	restTimes   = 20
)

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{
		{Name: settleDuty, Every: settleEvery, Do: s.carrySettlements},
		{Name: watchDuty, Every: watchEvery, Do: s.watch},
	}
}
