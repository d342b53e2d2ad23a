package reentry

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/route"
	"plumlatch/internal/store"
)

func nameTaken(name string) error {
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "name-taken",
		Field:  "key",
		Where:  []string{name},
		Detail: fmt.Sprintf("there is a key named %s already", name),
		Remedy: "Choose another name, or use that key",
	}
}

// restoreKey returns the new key; where the service makes it, with its encrypted private key.
func (s *Service) restoreKey(
	ctx context.Context, actor people.Actor, w RestoreWanted,
) (record.Key, record.Secret, error) {
	var none record.Secret
	if !w.Make {
		k, err := s.keys.Key(ctx, w.Key)
		return k, none, err
	}
	if err := problem.CheckName("key", w.Key); err != nil {
		return record.Key{}, none, err
	}
	if _, err := s.store.KeyNamed(ctx, w.Key); err == nil {
		return record.Key{}, none, nameTaken(w.Key)
	} else if !errors.Is(err, store.ErrNotFound) {
		return record.Key{}, none, err
	}
	spec := s.route.Route(w.Route).Key
	k, encrypted, err := s.keys.NewKept(ctx, s.store, actor, keys.NewKey{Name: w.Key, Purpose: "restore"}, spec, w.Key)
	if err != nil {
		return k, none, err
	}
	own, err := s.store.HolderOf(ctx, actor.ID)
	if err == nil {
		k.HolderID = &own.ID
	} else if errors.Is(err, store.ErrNotFound) {
		err = nil // no holder of their own: an admin takes it out of the safe
	}
	return k, encrypted, err
}

// judgeRoute refuses a route that is not possible, not within the limits, or not confirmed.
func (s *Service) judgeRoute(w RestoreWanted, i record.Instance, ranked []restore.Option) error {
	refused := s.route.Ways.Refuse(restore.Chosen{
		Route:          w.Route,
		Instance:       i.Name,
		Confirmed:      w.Confirm == i.Name,
		ForReplacement: w.StopFirst || len(w.Ports) > 0 || w.NewName != "",
		Ports:          w.Ports,
	}, ranked)
	if refused == nil {
		return nil
	}
	p := &problem.Problem{
		Kind:   problem.Conflict,
		Code:   refused.Code,
		Field:  refused.Field,
		Where:  []string{i.Name},
		Detail: refused.Detail,
		Remedy: refused.Remedy,
	}
	if refused.Invalid {
		p.Kind, p.Where = problem.Invalid, nil
	}
	return p
}

// lostOf returns the keys whose lines are to go.
func (s *Service) lostOf(ctx context.Context, w RestoreWanted, routes Routes, fresh record.Key) ([]record.Key, error) {
	names := w.Lost
	if names == nil {
		for _, k := range routes.Lost {
			if k.ID != fresh.ID {
				names = append(names, k.Name)
			}
		}
	}
	var out []record.Key
	for _, name := range names {
		k, err := s.keys.Key(ctx, name)
		if err != nil {
			return nil, err
		}
		bad := func(detail, remedy string) error {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-lost",
				Field:  "lost",
				Where:  []string{name},
				Detail: detail,
				Remedy: remedy,
			}
		}
		switch {
		case k.ID == fresh.ID:
			return nil, bad(name+" cannot be the new key and a lost one", "Choose another key")
		case k.StewardOf != nil:
			return nil, bad(
				name+" is a steward key, whose private key is in the safe",
				"Withdraw it, if it is to go: plumlatch grant withdraw "+name,
			)
		}
		if !slices.ContainsFunc(out, func(other record.Key) bool { return other.ID == k.ID }) {
			out = append(out, k)
		}
	}
	return out, nil
}

// newRestore makes what the steps of a restore go by.
func (s *Service) newRestore(
	ctx context.Context, w RestoreWanted, l record.Login, i record.Instance, k record.Key, lost []record.Key,
	f restore.Facts,
) (route.Work, error) {
	kept, err := s.store.KeptAmong(ctx, []uuid.UUID{k.ID})
	if err != nil {
		return route.Work{}, err
	}
	work := route.Work{
		Route:     w.Route,
		Login:     l.ID,
		LoginName: fleet.LoginName(l.OSUser, i.Name),
		Key:       k.ID,
		KeyName:   k.Name,
		Kept:      kept[k.ID] && s.Safe != nil,
	}
	for _, h := range f.Holders {
		work.Holders = append(work.Holders, h.Holder)
	}
	for _, old := range lost {
		work.Lost = append(work.Lost, route.NamedKey{ID: old.ID, Name: old.Name})
	}
	work.Removes = slices.Clone(work.Lost)
	begins := &route.Beginning{Wanted: w.NewInstance, Login: l, Instance: i, Facts: f, Work: &work}
	if err := s.route.Prepare(ctx, begins); err != nil {
		return work, err
	}
	if s.route.Route(w.Route).Replaces {
		return work, nil // the new login was never entered
	}
	work.EnteredBefore, err = s.store.LastEntered(ctx, l.ID, k.ID)
	return work, err
}
