package rotate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// maker is who starts a rotation, as the holder of what they make.
type maker struct {
	holder *record.Holder // nil for an account without one
	owns   map[uuid.UUID]bool
}

// makerOf reads which of the holders of the new keys' forerunners the actor is.
func (s *Service) makerOf(ctx context.Context, actor people.Actor, p *planning, made rotation.Plan) (maker, error) {
	m := maker{owns: map[uuid.UUID]bool{}}
	if actor.ID == uuid.Nil {
		return m, nil
	}
	own, err := s.store.HolderOf(ctx, actor.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return m, err
	default:
		m.holder = &own
	}
	for _, f := range made.New {
		holder := p.records[p.world.Keys[f.Old].ID].HolderID
		if holder == nil {
			continue
		}
		if _, asked := m.owns[*holder]; asked {
			continue
		}
		if m.owns[*holder], err = s.store.IsOf(ctx, *holder, actor.ID); err != nil {
			return m, err
		}
	}
	return m, nil
}

// own reports whether the maker holds the key.
func (m maker) own(k record.Key) bool {
	return k.HolderID != nil && m.owns[*k.HolderID] || k.HolderID == nil && m.holder != nil
}

// sourceOf returns where the new keys come from.
func (s *Service) sourceOf(start RotationStart, p *planning, made rotation.Plan, m maker) rotation.Source {
	if len(made.New) == 0 {
		return rotation.NoNew
	}
	if start.Make != "" {
		return rotation.Source(start.Make)
	}
	all := m.holder != nil
	for _, f := range made.New {
		all = all && m.own(p.records[p.world.Keys[f.Old].ID])
	}
	return rotation.DefaultSource(all, s.Safe != nil)
}

// held fills in who will hold the planned key.
func (k *PlannedKey) held(old record.Key, from rotation.Source, m maker, mine bool) {
	k.holder = old.HolderID
	if from != rotation.Here {
		return
	}
	k.Maker = m.own(old)
	if (mine || old.HolderID == nil) && m.holder != nil {
		k.holder, k.Holder, k.Maker = &m.holder.ID, m.holder.Name, true
	}
}

// mayMake refuses new keys that would be made here and recorded as another's.
func mayMake(plan RotationPlan) error {
	var whose, names []string
	for _, k := range plan.New {
		if !k.Maker {
			whose, names = append(whose, k.Holder), append(names, k.Follows)
		}
	}
	if len(names) == 0 {
		return nil
	}
	slices.Sort(whose)
	return &problem.Problem{
		Kind:  problem.Conflict,
		Code:  "not-your-key",
		Field: "make",
		Where: names,
		Detail: fmt.Sprintf(
			"%s holds %s, and the maker of a private key has it", strings.Join(slices.Compact(whose), ", "),
			strings.Join(names[:min(len(names), 5)], ", "),
		),
		Remedy: "Ask them for new public keys with -make bring, have the service make and keep them with -make service, " +
			"or hold them yourself with -make here -mine",
	}
}

// pending returns who has to do something before they get in by the new keys.
func pending(plan RotationPlan, from rotation.Source, old map[string]record.Key, m maker) (out []PendingHolder) {
	logins := map[string]int{}
	for _, i := range plan.Items {
		if i.LeftOut == "" {
			logins[i.New]++
		}
	}
	for _, k := range plan.New {
		before := old[k.Follows]
		does := rotation.PendingFor(from, m.own(before))
		if before.Holder == nil || does == "" {
			continue
		}
		n := slices.IndexFunc(out, func(p PendingHolder) bool { return p.Holder == before.Holder.Name })
		if n < 0 {
			n = len(out)
			out = append(out, PendingHolder{Holder: before.Holder.Name, Does: does})
		}
		out[n].Keys = append(out[n].Keys, k.Name)
		out[n].Logins += logins[k.Name]
	}
	return out
}

// comes is what a new key will count as: proved by whoever makes or brings it, and by nobody while only the
// safe has its private key.
func (p *planning) comes(from rotation.Source, old int, key PlannedKey, m maker) reach.Key {
	out := reach.Key{Holder: p.world.Input.Keys[old].Holder}
	if key.Maker && m.holder != nil && key.holder != nil && *key.holder == m.holder.ID {
		out.Holder = p.world.HolderPlace(m.holder.ID)
	}
	if from == rotation.Here || from == rotation.Bring {
		out.Proved = p.world.Input.Now
	}
	return out
}
