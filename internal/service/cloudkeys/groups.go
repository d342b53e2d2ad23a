package cloudkeys

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Groups returns the groups of a cloud with their keys, as they were last read.
func (s *Service) Groups(ctx context.Context, name string) ([]record.KeyGroup, error) {
	c, err := s.clouds.Cloud(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.store.KeyGroups(ctx, c.ID)
}

// GroupChange is a key that a group gets, or loses.
type GroupChange struct {
	Group, User string
	// Key is the name of a record, or of one that goes also the SHA-256 fingerprint.
	Key string
	// Remove is whether it goes.
	Remove bool
	// Anyway is whether it goes though that leaves logins less safe than thin.
	Anyway bool
	Reason string
	// Preview is whether nothing is changed.
	Preview bool
}

// Effect is what a change does, or did.
type Effect struct {
	Group string
	// Changed is whether anything was, or would be.
	Changed bool
	// Logins are those that the key opens by the group, or would, by name.
	Logins []string
	// Worse are those that its removal leaves without a holder whose proof is fresh.
	Worse []access.LossChange
}

// ChangeGroup adds a key to a group of a cloud, or removes one. A key that goes is taken out of all machines of the
// group: that is refused where it leaves a login without anybody who is known to get in, unless somebody says so.
func (s *Service) ChangeGroup(
	ctx context.Context, actor people.Actor, in string, w GroupChange,
) (Effect, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return Effect{}, err
	}
	if name.CheckUser(w.User) != nil {
		return Effect{}, invalid("user", name.ErrUser.Error())
	}
	c, err := s.asked(ctx, in, cloud.CanGroupKeys, "keys of groups")
	if err != nil {
		return Effect{}, err
	}
	groups, err := s.clouds.Of(&c.ID).KeyGroups(ctx)
	if err != nil {
		return Effect{}, problem.FromCloud(err)
	}
	at := slices.IndexFunc(groups, func(g cloud.KeyGroup) bool { return g.Id == w.Group || g.Name == w.Group })
	if at < 0 {
		return Effect{}, &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-group", Field: "group", Where: []string{w.Group},
			Detail: fmt.Sprintf("%s has no group %q", c.Name, w.Group),
			Remedy: "See them: plumlatch group-key list -cloud " + c.Name,
		}
	}
	group := groups[at]
	sum, line, called, err := s.keyOf(ctx, w)
	if err != nil {
		return Effect{}, err
	}
	same := func(k cloud.MetadataKey) bool {
		have, ok := sumOf(k.Line)
		return ok && k.User == w.User && bytes.Equal(have, sum)
	}
	there := slices.ContainsFunc(group.Keys, same)
	out := Effect{Group: text.Line(group.Name, text.MaxLine), Changed: there == w.Remove}
	logins, err := s.store.InGroup(ctx, c.ID, group.Id, w.User)
	if err != nil {
		return out, err
	}
	if err := s.effect(ctx, &out, logins, sum, w.Remove); err != nil {
		return out, err
	}
	if w.Preview || !out.Changed {
		return out, nil
	}
	if err := refuseWorse(out, w.Anyway, w.Reason); err != nil {
		return out, err
	}
	keys := slices.DeleteFunc(slices.Clone(group.Keys), func(k cloud.MetadataKey) bool { return w.Remove && same(k) })
	told := "group-key.remove"
	if !w.Remove {
		keys, told = append(keys, cloud.MetadataKey{User: w.User, Line: line}), "group-key.add"
	}
	if len(out.Worse) > 0 {
		told += ":anyway"
	}
	// It is in the daybook before it is so: the cloud's answer may be lost.
	if err := s.store.Note(ctx, journal.OnKeys(s.journal.Entry(
		actor.By(), told, "cloud", c.Name, w.Reason,
		journal.Facts{"key": called, "group": out.Group, "user": w.User, "logins": len(out.Logins)},
	), called)); err != nil {
		return out, err
	}
	if err := s.clouds.Of(&c.ID).SetKeyGroup(ctx, group.Id, group.Keys, keys); err != nil {
		return out, problem.FromCloud(err)
	}
	return out, s.inventory.ReadGroups(ctx, c)
}

// keyOf is the key of a change: its digest, its line where it is recorded, and what it is called.
func (s *Service) keyOf(ctx context.Context, w GroupChange) (sum []byte, line, called string, err error) {
	if d, ok := keypair.ReadFingerprint(w.Key); ok && d.Kind == "sha256" && w.Remove {
		return d.Sum, "", w.Key, nil
	}
	k, err := s.keys.Key(ctx, w.Key)
	if err != nil {
		return nil, "", "", err
	}
	if k.StewardOf != nil {
		return nil, "", "", invalid("key", "a steward key is for one instance alone")
	}
	return k.SHA256, lineOf(k), k.Name, nil
}

// effect tells which logins a change is about and, of one that takes a key away, which it leaves less safe than thin.
func (s *Service) effect(ctx context.Context, out *Effect, logins []uuid.UUID, sum []byte, removes bool) error {
	w, err := s.access.World(store.Unlimited(ctx), record.ReachFilter{})
	if err != nil {
		return err
	}
	after := map[int]reach.State{}
	if at := w.KeyWithDigest(sum); at >= 0 && removes {
		for _, c := range reach.Loss(w.Input, at) {
			after[c.Login] = c.After
		}
	}
	now := reach.Standings(w.Input)
	places := map[uuid.UUID]int{}
	for n, l := range w.Logins {
		places[l.ID] = n
	}
	for _, id := range logins {
		at, there := places[id]
		if !there {
			continue
		}
		l := w.Logins[at]
		called := fleet.LoginName(l.OSUser, l.Instance)
		out.Logins = append(out.Logins, called)
		state, changes := after[at]
		if !changes {
			state = now[at].State
		}
		if removes && state != reach.Solid && state != reach.Thin {
			out.Worse = append(out.Worse, access.LossChange{
				Login: called, Instance: l.Instance, Before: now[at].State, After: state,
			})
		}
	}
	slices.Sort(out.Logins)
	slices.SortFunc(out.Worse, func(a, b access.LossChange) int { return strings.Compare(a.Login, b.Login) })
	return nil
}

func refuseWorse(e Effect, anyway bool, reason string) error {
	if len(e.Worse) == 0 {
		return nil
	}
	if !anyway {
		var which []string
		for _, w := range e.Worse[:min(len(e.Worse), 10)] {
			which = append(which, w.Login)
		}
		return &problem.Problem{
			Kind: problem.Forbidden, Code: "nobody-left", Where: which,
			Detail: fmt.Sprintf(
				"nobody else is known to get in to %s: no other holder has a fresh proof",
				strings.Join(which, ", "),
			),
			Remedy: "Prove another key there first: plumlatch prove LOGIN. To do it all the same: -anyway -reason TEXT",
		}
	}
	if reason == "" {
		return &problem.Problem{
			Kind: problem.Invalid, Code: "no-reason", Field: "reason",
			Detail: "what may lock people out takes a reason, for the daybook", Remedy: "Say why: -reason TEXT",
		}
	}
	return nil
}

// Take has an instance take the keys of its groups, or refuse them. To refuse them takes them away from its logins.
func (s *Service) Take(
	ctx context.Context, actor people.Actor, instance string, taken, anyway, preview bool, reason string,
) (Effect, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return Effect{}, err
	}
	i, err := s.fleet.Instance(ctx, instance)
	if err != nil {
		return Effect{}, err
	}
	if i.InCloud == nil {
		return Effect{}, &problem.Problem{
			Kind: problem.Conflict, Code: "no-cloud", Where: []string{instance}, Detail: instance + " is in no cloud",
		}
	}
	c, err := s.asked(ctx, i.CloudName, cloud.CanGroupKeys, "keys of groups")
	if err != nil {
		return Effect{}, err
	}
	now, err := s.clouds.Of(&c.ID).Instance(ctx, i.CloudID)
	if err != nil {
		return Effect{}, problem.FromCloud(err)
	}
	takes := now.TakesGroupKeys == nil || *now.TakesGroupKeys
	out := Effect{Group: i.Name, Changed: takes != taken}
	if !taken {
		if err := s.withoutGroups(ctx, i, &out); err != nil {
			return out, err
		}
	}
	if preview || !out.Changed {
		return out, nil
	}
	if err := refuseWorse(out, anyway, reason); err != nil {
		return out, err
	}
	told := "group-key.take"
	switch {
	case !taken && len(out.Worse) > 0:
		told = "group-key.refuse:anyway"
	case !taken:
		told = "group-key.refuse"
	}
	if err := s.store.Note(ctx, s.journal.Entry(
		actor.By(), told, "instance", i.Name, reason, journal.Facts{"cloud": c.Name},
	)); err != nil {
		return out, err
	}
	if err := s.clouds.Of(&c.ID).TakeGroupKeys(ctx, i.CloudID, taken); err != nil {
		return out, problem.FromCloud(err)
	}
	return out, s.store.SetTakesGroupKeys(ctx, c.ID, i.CloudID, taken)
}

// withoutGroups tells what becomes of an instance's logins where it refuses all keys of its groups.
func (s *Service) withoutGroups(ctx context.Context, i record.Instance, out *Effect) error {
	w, err := s.access.World(ctx, record.ReachFilter{Instance: i.ID})
	if err != nil {
		return err
	}
	ids := make([]uuid.UUID, len(w.Logins))
	for n, l := range w.Logins {
		ids[n] = l.ID
	}
	digests, err := s.store.GroupKeysOf(ctx, ids)
	if err != nil {
		return err
	}
	now := reach.Standings(w.Input)
	for n, l := range w.Logins {
		if len(digests[l.ID]) == 0 {
			continue
		}
		var lost []int
		for _, sum := range digests[l.ID] {
			if at := w.KeyWithDigest(sum); at >= 0 {
				lost = append(lost, at)
			}
		}
		called, state := fleet.LoginName(l.OSUser, l.Instance), now[n].State
		for _, c := range reach.Loss(w.Input, lost...) {
			if c.Login == n {
				state = c.After
			}
		}
		out.Logins = append(out.Logins, called)
		if state != reach.Solid && state != reach.Thin {
			out.Worse = append(out.Worse, access.LossChange{
				Login: called, Instance: l.Instance, Before: now[n].State, After: state,
			})
		}
	}
	return nil
}
