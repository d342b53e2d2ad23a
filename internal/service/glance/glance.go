// Package glance tells what somebody wants to know first: what is pending for them, what changed since they last
// looked, and how the reach of all logins developed. It decides nothing and changes nothing but when somebody looked.
package glance

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/store"
)

const (
	day = 24 * time.Hour
	// maxDays is the longest stretch of time that is told of.
	maxDays = 366
	// maxShown is how many changes, and names of pending things, are told one by one.
	maxShown = 20
	// atFirst is how far back changes are told to somebody who never looked.
	atFirst = 7 * day
)

// Service tells it.
type Service struct {
	store  *store.Store
	keys   *keys.Service
	access *access.Service
	rotate *rotate.Service
	now    func() time.Time
}

// New returns what tells it.
func New(
	s *store.Store, k *keys.Service, a *access.Service, r *rotate.Service, now func() time.Time,
) *Service {
	return &Service{s, k, a, r, now}
}

// Kind is what sort of thing waits for somebody.
type Kind string

// The kinds, in the order in which they are told.
const (
	// Run is a run that waits for something.
	Run Kind = "run"
	// Grants are those past their end and still in force.
	Grants Kind = "grants"
	// Rotation is one that is paused.
	Rotation Kind = "rotation"
	// Consent is a request to take out a private key that the person may decide.
	Consent Kind = "consent"
	// TakeOver is a key that is handed over to the person, or to a team of theirs.
	TakeOver Kind = "take-over"
	// Bring is a new public key that the person is asked for.
	Bring Kind = "bring"
	// Prove is a key of the person's whose proof is stale, or soon.
	Prove Kind = "prove"
	// Charter is one that something differs from.
	Charter Kind = "charter"
)

// Pending is what somebody has to do, of one kind.
type Pending struct {
	Kind  Kind
	Count int
	// Names are of the first: instances, keys, rotations or charters.
	Names []string
}

// Glance is what somebody wants to know first.
type Glance struct {
	Pending []Pending
	// Since is from when on changes are told, and Looked whether the person said so.
	Since  time.Time
	Looked bool
	// Changes are the last ones, and Changed how many there are.
	Changes []record.ReachChange
	Changed int
	// History is the reach of all logins by day, as long as it was kept.
	History []reach.Moment
}

// Glance tells the actor what is pending for them, what changed since they last looked, and how reach developed in so
// many days.
func (s *Service) Glance(ctx context.Context, actor people.Actor, days int) (Glance, error) {
	if days < 1 || days > maxDays {
		return Glance{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-days",
			Field:  "days",
			Detail: fmt.Sprintf("%d days are not possible; 1 to %d are", days, maxDays),
		}
	}
	var g Glance
	var err error
	if g.Pending, err = s.pending(ctx, actor); err != nil {
		return g, err
	}
	if g.Since, err = s.store.LastLook(ctx, actor.ID); err != nil {
		return g, err
	}
	if g.Looked = !g.Since.IsZero(); !g.Looked {
		g.Since = s.now().Add(-atFirst)
	}
	if g.Changes, g.Changed, err = s.store.ReachChanges(ctx, g.Since, maxShown); err != nil {
		return g, err
	}
	now := s.now()
	turns, since, err := s.store.ReachTurns(ctx, now, day, days)
	if err != nil || since.IsZero() {
		return g, err
	}
	g.History = slices.DeleteFunc(reach.History(now, day, days, turns), func(m reach.Moment) bool {
		return m.At.Before(since)
	})
	return g, nil
}

// Look records that the actor has seen what changed.
func (s *Service) Look(ctx context.Context, actor people.Actor) error {
	return s.store.Look(ctx, actor.ID, s.now())
}

// pending collects what is pending for the actor.
func (s *Service) pending(ctx context.Context, actor people.Actor) ([]Pending, error) {
	var out []Pending
	add := func(kind Kind, names ...string) {
		if len(names) > 0 {
			out = append(out, Pending{Kind: kind, Count: len(names), Names: names[:min(len(names), maxShown)]})
		}
	}
	for _, of := range []func(context.Context, people.Actor) (Kind, []string, error){
		s.runs, s.overdue, s.rotations, s.consents, s.handOvers, s.asked, s.due, s.charters,
	} {
		kind, names, err := of(ctx, actor)
		if err != nil {
			return nil, err
		}
		add(kind, names...)
	}
	return out, nil
}

// most is how many things that wait are looked at, of each kind.
const most = 500

func (s *Service) runs(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	if !actor.Role.May(people.Operator) {
		return Run, nil, nil
	}
	runs, err := s.store.WaitingRuns(ctx, most)
	names := make([]string, len(runs))
	for n, r := range runs {
		names[n] = r.Instance.Name
	}
	return Run, names, err
}

func (s *Service) overdue(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	if !actor.Role.May(people.Operator) {
		return Grants, nil, nil
	}
	l, err := s.store.Grants(ctx, record.GrantFilter{Overdue: true, At: s.now()}, record.Page{Limit: most})
	names := make([]string, len(l.Items))
	for n, g := range l.Items {
		names[n] = g.KeyName + " in " + fleet.LoginName(g.OSUser, g.InstanceName)
	}
	return Grants, names, err
}

func (s *Service) rotations(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	if !actor.Role.May(people.Operator) {
		return Rotation, nil, nil
	}
	paused, err := s.store.PausedRotations(ctx, most)
	names := make([]string, len(paused))
	for n, r := range paused {
		names[n] = r.ID.String()
	}
	return Rotation, names, err
}

func (s *Service) consents(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	all, err := s.keys.Consents(ctx)
	if err != nil || actor.Machine {
		return Consent, nil, err
	}
	var names []string
	for _, c := range all {
		if c.State != custody.ConsentAsked || c.AskedBy == actor.Name {
			continue
		}
		if actor.Role != people.Admin {
			k, err := s.store.KeyByID(ctx, c.KeyID)
			if err != nil {
				return Consent, nil, err
			}
			if own, err := s.keys.Holds(ctx, s.store, actor, k); err != nil || !own {
				if err != nil {
					return Consent, nil, err
				}
				continue
			}
		}
		names = append(names, c.KeyName)
	}
	return Consent, names, nil
}

func (s *Service) handOvers(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	all, err := s.keys.Handovers(ctx)
	if err != nil {
		return TakeOver, nil, err
	}
	var names []string
	for _, h := range all {
		own, err := s.store.IsOf(ctx, h.ToHolder, actor.ID)
		if err != nil {
			return TakeOver, nil, err
		}
		if own {
			names = append(names, h.KeyName)
		}
	}
	return TakeOver, names, nil
}

func (s *Service) asked(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	all, err := s.rotate.AskedKeys(ctx, actor, "")
	if err != nil {
		return Bring, nil, err
	}
	var names []string
	for _, k := range all {
		own, err := s.store.IsOf(ctx, k.HolderID, actor.ID)
		if err != nil {
			return Bring, nil, err
		}
		if own && k.Yours {
			names = append(names, k.Name)
		}
	}
	return Bring, names, nil
}

// soon is in how many days a proof that goes stale is told of.
const soon = 7

func (s *Service) due(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	l, err := s.access.ProofsDue(ctx, actor, "me", soon, record.Page{Limit: most})
	names := make([]string, len(l.Items))
	for n, d := range l.Items {
		names[n] = d.KeyName
	}
	return Prove, names, err
}

func (s *Service) charters(ctx context.Context, actor people.Actor) (Kind, []string, error) {
	if !actor.Role.May(people.Operator) {
		return Charter, nil, nil
	}
	names, err := s.store.DifferingCharters(ctx, most)
	return Charter, names, err
}
