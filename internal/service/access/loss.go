package access

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// LossChange is a login whose reach would change.
type LossChange struct {
	Login, Instance string
	Before, After   reach.State
}

// Lost is what would become of the logins if keys were lost together.
type Lost struct {
	Keys    []string // the names of all
	Changes []LossChange
	Behind  []LossBehind
}

// LossBehind is what is reached by way of a jump host whose login user's login would be less safe.
type LossBehind struct {
	JumpHost  string
	After     reach.State
	Instances []string // by name
}

// Loss returns what would become of the logins if keys were lost together: those of the
// names, and all active ones of the holder, unless that is "".
func (s *Service) Loss(ctx context.Context, names []string, holder string) (Lost, error) {
	if len(names) == 0 && holder == "" {
		return Lost{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-key",
			Field:  "key",
			Detail: "no key is named",
			Remedy: "Name keys, or their holder",
		}
	}
	keys, err := s.store.KeysNamed(ctx, names)
	if err != nil {
		return Lost{}, err
	}
	for _, n := range names {
		if !slices.ContainsFunc(keys, func(k record.Key) bool { return k.Name == n }) {
			return Lost{}, s.keys.NoKey(store.ErrNotFound, n)
		}
	}
	if holder != "" {
		k, err := s.store.HolderNamed(ctx, holder)
		if errors.Is(err, store.ErrNotFound) {
			return Lost{}, &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-holder",
				Field:  "holder",
				Where:  []string{holder},
				Detail: fmt.Sprintf("there is no holder %q", holder),
				Remedy: "See who there is: plumlatch holder list",
			}
		}
		if err != nil {
			return Lost{}, err
		}
		held, err := s.store.KeysHeldBy(ctx, k.ID)
		if err != nil {
			return Lost{}, err
		}
		keys = append(keys, held...)
	}
	slices.SortFunc(keys, func(a, b record.Key) int { return cmp.Compare(a.Name, b.Name) })
	keys = slices.CompactFunc(keys, func(a, b record.Key) bool { return a.Name == b.Name })
	lost := Lost{Keys: make([]string, len(keys))}
	for n, k := range keys {
		lost.Keys[n] = k.Name
	}
	w, err := s.World(ctx, record.ReachFilter{Keys: lost.Keys})
	if err != nil {
		return Lost{}, err
	}
	var places []int
	for _, k := range keys {
		if place := w.KeyPlace(k.ID); place >= 0 {
			places = append(places, place)
		}
	}
	less := map[uuid.UUID]LossBehind{}
	for _, c := range reach.Loss(w.Input, places...) {
		l := w.Logins[c.Login]
		lost.Changes = append(
			lost.Changes, LossChange{fleet.LoginName(l.OSUser, l.Instance), l.Instance, c.Before, c.After},
		)
		less[l.ID] = LossBehind{JumpHost: l.Instance, After: c.After}
	}
	lost.Behind, err = s.behind(ctx, less)
	return lost, err
}

// behind adds what is reached by way of the instances of the logins, where those are the instances' own login users. It
// leaves those out by way of which nothing is.
func (s *Service) behind(ctx context.Context, less map[uuid.UUID]LossBehind) ([]LossBehind, error) {
	hosts, err := s.store.JumpHostsOf(ctx, slices.Collect(maps.Keys(less)))
	if err != nil || len(hosts) == 0 {
		return nil, err
	}
	found, err := s.store.BehindAny(ctx, slices.Collect(maps.Keys(hosts)))
	if err != nil {
		return nil, err
	}
	var out []LossBehind
	for id, reached := range found {
		b := less[hosts[id]]
		if b.Instances, err = s.store.InstanceNames(ctx, reached); err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	slices.SortFunc(out, func(a, b LossBehind) int { return cmp.Compare(a.JumpHost, b.JumpHost) })
	return out, nil
}

// MarkLost marks a key as lost: by the person who is its holder, or an admin.
func (s *Service) MarkLost(ctx context.Context, actor people.Actor, name, reason string) (record.Key, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Key{}, err
	}
	if reason == "" {
		return record.Key{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "no reason was given",
			Remedy: "Say what happened, for the daybook: -reason TEXT",
		}
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.keys.LockKey(ctx, tx, name, func(k record.Key) error {
			own, err := s.keys.Holds(ctx, tx, actor, k)
			if err != nil {
				return err
			}
			if actor.Role != people.Admin && !own {
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-holder",
					Where:  []string{name},
					Detail: fmt.Sprintf("only the holder of %s or an admin marks it as lost", name),
					Remedy: "Ask them",
				}
			}
			return s.keys.Beyond(ctx, tx, k)
		})
		if err != nil {
			return err
		}
		if k.State == custody.Lost {
			return nil
		}
		if err := tx.SetKeyState(ctx, k.ID, custody.Lost); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "key.mark-lost", "key", name, reason, nil),
		)
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.keys.Key(ctx, name)
}

// foundWithin is for how long a proof counts for a key that was found.
const foundWithin = 10 * time.Minute

// MarkFound takes it back that a key is lost. Its holder has proved just now that they have the private key.
func (s *Service) MarkFound(ctx context.Context, actor people.Actor, name, reason string) (record.Key, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Key{}, err
	}
	if reason == "" {
		return record.Key{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "no reason was given",
			Remedy: "Say where it was, and why nobody else had it: -reason TEXT",
		}
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.keys.LockKey(ctx, tx, name, func(k record.Key) error { return s.mayBeFound(ctx, tx, actor, k) })
		if err != nil || k.State != custody.Lost {
			return err
		}
		if err := tx.SetKeyState(ctx, k.ID, custody.Active); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "key.found", "key", name, reason, nil))
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.keys.Key(ctx, name)
}

// mayBeFound refuses an actor who does not hold the key, or has not just proved it.
func (s *Service) mayBeFound(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) error {
	own, err := s.keys.Holds(ctx, tx, actor, k)
	switch {
	case err != nil:
		return err
	case !own:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "not-the-holder",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("only the holder of %s says that it was found", k.Name),
			Remedy: "Ask them",
		}
	case k.ProvedAt == nil || k.ProvedBy != actor.Name || s.now().Sub(*k.ProvedAt) > foundWithin:
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-proved",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("you have not proved in the last ten minutes that you have the private key of %s", k.Name),
			Remedy: "The client proves it first: plumlatch key found " + k.Name + " -with FILE -reason TEXT",
		}
	}
	return s.keys.Beyond(ctx, tx, k)
}
