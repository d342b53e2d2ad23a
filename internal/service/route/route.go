package route

import (
	"context"
	"slices"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// Route is one way back in as it is taken. What it needs and costs, and the order of its steps, is
// core's, in Way; here is what each of them does. What is nil is not needed.
type Route struct {
	restore.Way
	// by says how the line comes to its place, as in "by the steward key".
	by func(*restoring) string
	// Key is what a key is that the service makes for it.
	Key keypair.Spec
	// NoGrant is whether the new key is not granted the login at the start.
	NoGrant bool
	// prepare adds to the payload what its steps go by.
	prepare func(context.Context, *Service, *Beginning) error
	// rehearse returns what can be tried without touching anything, and tries it.
	rehearse func(*Service, Rehearsing) (what string, try func(context.Context) (string, error))
	// steps are those that not every route has.
	steps func(*restoring) map[restore.Step]runs.Step
	// place brings the line of the new key to its place, takeBack takes it out again where this run
	// has placed it.
	place    func(context.Context, *restoring, *runs.Progress, record.Key, record.LoginToSweep) (string, error)
	takeBack func(context.Context, *restoring, *runs.Progress, record.Key, record.LoginToSweep) error
	// slow is whether what was placed counts only after a while.
	slow bool
	// settled sees that nothing is left of what was made for it, and says so.
	settled func(context.Context, *restoring, *runs.Progress) (string, error)
	// ended adds to the end of a restore that is done; told is what the daybook
	// tells of it, where that is not restore.ended.
	ended func(context.Context, *restoring, *store.Store, journal.By) error
	told  string
}

// allRoutes are the ways that there are, in the order of core's. Another one is a file like theirs and a line here.
var allRoutes = []Route{
	standingKey,
	guestAgent,
	metadataKeys,
	browserShell,
	password,
	helperDisk,
	replacement,
	windowsPassword,
}

// ways are what core knows of the routes.
func waysOf(routes []Route) restore.Ways {
	out := make(restore.Ways, len(routes))
	for n, r := range routes {
		out[n] = r.Way
	}
	return out
}

// Route returns the route of that name; nil where there is none.
func (s *Service) Route(name restore.Route) *Route {
	n := slices.IndexFunc(s.routes, func(r Route) bool { return r.Way.Route == name })
	if n < 0 {
		return nil
	}
	return &s.routes[n]
}

// Prepare adds to the payload of a restore what the steps of its route go by.
func (s *Service) Prepare(ctx context.Context, b *Beginning) error {
	if prepare := s.Route(b.Work.Route).prepare; prepare != nil {
		return prepare(ctx, s, b)
	}
	return nil
}

// Rehearse returns what can be tried of a route without touching anything, and what tries it; nil
// where nothing can be.
func (s *Service) Rehearse(r Rehearsing) (what string, try func(context.Context) (string, error)) {
	if rehearse := s.Route(r.Option.Route).rehearse; rehearse != nil {
		return rehearse(s, r)
	}
	return "", nil
}

// must returns the way of one of core's own routes.
func must(name restore.Route) restore.Way {
	way, there := restore.All.Of(name)
	if !there {
		panic("route: core has no route " + name)
	}
	return way
}

// NewInstance is what somebody wants of an instance that takes the place of one: whether that is stopped
// before the image is made, at which TCP ports the new one is waited for, and its name.
type NewInstance struct {
	StopFirst bool
	Ports     []int
	NewName   string
}

// Beginning is a restore that is about to begin.
type Beginning struct {
	Wanted   NewInstance
	Login    record.Login
	Instance record.Instance
	Facts    restore.Facts
	Work     *Work
}

// Rehearsing is a login at which routes are rehearsed.
type Rehearsing struct {
	Login    record.Login
	Instance record.Instance
	Facts    restore.Facts
	Option   restore.Option
}
