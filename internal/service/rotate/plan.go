package rotate

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/replace"
)

// RotationWanted says which keys will be replaced, where, and by what.
type RotationWanted struct {
	rotation.Selection
	Instances            []string
	LabelName, LabelText string
	Region               string
	Each                 rotation.Each
	To                   string
	// Names is a pattern for the names of new keys; "" for names that follow the old ones.
	Names string
	// FromHere is whether whoever asks edits where there is no steward key.
	FromHere bool
	// Urgent is for lost keys: no grace, no hours, no first group.
	Urgent bool
	// Wait is whether a login that another rotation is at work on is waited for.
	Wait bool

	// Follows is who takes over from whom, where somebody leaves.
	Follows rotation.Heir
	// Ahead is how far in the future the keys' ages are looked at.
	Ahead time.Duration
}

// PlannedItem is one old key in one login.
type PlannedItem struct {
	Login, Instance, Old, Holder, New, Means string
	OldSHA256                                []byte
	Before, After                            reach.State
	LeftOut, Remedy                          string
	// Seconds is how long the work may take; 0 where nothing is known.
	Seconds float64
	// WaitsFor is the rotation that is at work on the login.
	WaitsFor *uuid.UUID
	// Due is when the old key comes to the age that is selected by.
	Due time.Time

	LoginID, OldID uuid.UUID
}

// PlannedKey is a key that has to be made.
type PlannedKey struct {
	Name, Follows, Holder, Type string
	Bits                        int
	// Maker is whether the actor makes it, and so holds it.
	Maker bool

	holder *uuid.UUID
}

// PendingHolder is who has to do something before they get in by new keys.
type PendingHolder struct {
	Holder string
	Does   rotation.Pending
	Keys   []string
	Logins int
}

// RotationPlan is what a rotation would do.
type RotationPlan struct {
	Items []PlannedItem
	New   []PlannedKey
	// Seconds is how long all may take together; 0 where nothing is known.
	Seconds float64
	// Make is where the new keys come from, Pending who has to do something before they get in by them.
	Make    string
	Pending []PendingHolder
}

// Counts returns how many logins and instances change, and how many items are left out.
func (p RotationPlan) Counts() (logins, instances, leftOut int) {
	l, i := map[string]bool{}, map[string]bool{}
	for _, item := range p.Items {
		if item.LeftOut != "" {
			leftOut++
			continue
		}
		l[item.Login], i[item.Instance] = true, true
	}
	return len(l), len(i), leftOut
}

func CheckWanted(w *RotationWanted) error {
	bad := func(field, detail, remedy string) error {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-" + strings.ReplaceAll(field, "_", "-"),
			Field:  field,
			Detail: detail,
			Remedy: remedy,
		}
	}
	if w.Each == "" {
		w.Each = rotation.EachKey
	}
	switch {
	case w.Selection.Empty():
		return bad(
			"wanted", "no keys to replace were given",
			"Name keys, or give an age, a strength, a type, a holder, shared or lost",
		)
	case w.Older < 0:
		return bad("older_days", "an age is not negative", "")
	case w.To != "" && w.Each == rotation.EachInstance:
		return bad(
			"to", "one existing key for all, and one key for each instance, exclude one another",
			"Leave one of them out",
		)
	}
	if err := rotation.CheckNames(w.Names, w.Each); err != nil {
		return faultProblem("", err)
	}
	if w.Urgent && !w.Lost && len(w.Keys) == 0 {
		return bad("urgent", "only lost keys are urgent, and nothing says which", "Name them, or select all: -lost")
	}
	if w.Weaker != "" {
		if _, _, err := rotation.ReadStrength(w.Weaker); err != nil {
			return bad("weaker_than", err.Error(), "")
		}
	}
	return nil
}

// PlanStart is PlanRotation for a start by the actor with settings, of which it refuses what a start would refuse.
func (s *Service) PlanStart(ctx context.Context, actor people.Actor, start RotationStart) (RotationPlan, error) {
	if err := start.checkStart(); err != nil {
		return RotationPlan{}, err
	}
	plan, err := s.planFor(ctx, actor, start)
	if err == nil && start.Make == makeHere && len(plan.New) > 0 {
		err = mayMake(plan)
	}
	return plan, err
}

// PlanRotation says what a rotation would do. Nothing is kept.
func (s *Service) PlanRotation(ctx context.Context, w RotationWanted) (RotationPlan, error) {
	return s.planFor(ctx, people.Actor{}, RotationStart{RotationWanted: w, Make: MakeService})
}

// planFor plans what a start by the actor would do.
func (s *Service) planFor(ctx context.Context, actor people.Actor, start RotationStart) (RotationPlan, error) {
	w := start.RotationWanted
	if err := CheckWanted(&w); err != nil {
		return RotationPlan{}, err
	}
	for _, k := range append(slices.Clone(w.Keys), w.To) {
		if k == "" {
			continue
		}
		if _, err := s.keys.Key(ctx, k); err != nil {
			return RotationPlan{}, err
		}
	}
	for _, i := range w.Instances {
		if _, err := s.fleet.Instance(ctx, i); err != nil {
			return RotationPlan{}, err
		}
	}
	filter := record.ReachFilter{
		Region:    w.Region,
		LabelName: w.LabelName,
		LabelText: w.LabelText,
		Holder:    w.Holder,
		Keys:      w.Keys,
	}
	world, err := s.access.World(ctx, filter)
	if err != nil {
		return RotationPlan{}, err
	}
	p := &planning{RotationWanted: w, world: world, standings: reach.Standings(world.Input), now: s.now().Add(w.Ahead)}
	if err := p.judgeKeys(ctx, s); err != nil {
		return RotationPlan{}, err
	}
	if err := p.gatherLogins(ctx, s); err != nil {
		return RotationPlan{}, err
	}
	return p.plan(ctx, s, actor, start)
}

// planning is a plan in the making.
type planning struct {
	RotationWanted
	world     *access.World
	standings []reach.Standing

	records map[uuid.UUID]record.Key
	keys    []rotation.Key // in the order of world.keys
	logins  []rotation.Login
	places  []int // of each login, in world.logins
	ways    map[uuid.UUID]record.LoginToSweep
	others  map[uuid.UUID]uuid.UUID // the rotations at work, by login
	now     time.Time               // for ages
}

// judgeKeys fills in what the selection judges of the keys.
func (p *planning) judgeKeys(ctx context.Context, s *Service) error {
	ids := make([]uuid.UUID, len(p.world.Keys))
	for n, k := range p.world.Keys {
		ids[n] = k.ID
	}
	records, err := s.store.KeysByID(ctx, ids)
	if err != nil {
		return err
	}
	instances, err := s.store.InstancesOfKeys(ctx, ids)
	if err != nil {
		return err
	}
	p.records = make(map[uuid.UUID]record.Key, len(records))
	for _, k := range records {
		p.records[k.ID] = k
	}
	for _, id := range ids {
		k := p.records[id]
		out := rotation.Key{
			Name:      k.Name,
			Type:      k.Type,
			Bits:      k.Bits,
			Created:   k.CreatedAt,
			Lost:      k.State == custody.Lost,
			Steward:   k.StewardOf != nil,
			Instances: instances[id],
		}
		if k.Holder != nil {
			out.Holder = k.Holder.Name
		}
		p.keys = append(p.keys, out)
	}
	return nil
}

// gatherLogins fills in the logins at which a wanted key is in place or should be.
func (p *planning) gatherLogins(ctx context.Context, s *Service) error {
	stands := map[int32][]rotation.Stand{}
	for _, pair := range p.world.Input.Pairs {
		if (pair.Granted || pair.Sighting == reach.Seen) && p.Wants(p.keys[pair.Key], p.now) {
			stands[pair.Login] = append(
				stands[pair.Login],
				rotation.Stand{Key: int(pair.Key), Seen: pair.Sighting == reach.Seen, Granted: pair.Granted},
			)
		}
	}
	var ids []uuid.UUID
	for n, l := range p.world.Logins {
		if len(stands[int32(n)]) == 0 || len(p.Instances) > 0 && !slices.Contains(p.Instances, l.Instance) {
			continue
		}
		p.places = append(p.places, n)
		ids = append(ids, l.ID)
	}
	if len(ids) > mostRotated {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "too-many-logins",
			Field:  "wanted",
			Detail: fmt.Sprintf("%d logins match; %d is the limit of one rotation", len(ids), mostRotated),
			Remedy: "Narrow it by label or region, and rotate one part after the other",
		}
	}
	ways, err := s.store.LoginsToSweep(ctx, ids)
	if err != nil {
		return err
	}
	p.ways = make(map[uuid.UUID]record.LoginToSweep, len(ways))
	for _, l := range ways {
		p.ways[l.ID] = l
	}
	if p.others, err = s.store.RotatingLogins(ctx, ids, uuid.Nil); err != nil {
		return err
	}
	noAgent, err := s.withoutAgent(ctx, ways)
	if err != nil {
		return err
	}
	for n, place := range p.places {
		l := p.world.Logins[place]
		out := rotation.Login{Name: fleet.LoginName(l.OSUser, l.Instance), Instance: l.Instance, Stands: stands[int32(place)]}
		no := s.access.NoMeans(p.ways[ids[n]])
		missing, asked := noAgent[ids[n]]
		switch {
		case no == nil:
			out.Means = string(replace.BySteward)
		case p.ways[ids[n]].Instance.State != machines.Running:
			out.NoMeans, out.Remedy = no.Detail, no.Remedy
		case p.FromHere:
			out.Means = string(replace.FromHere)
		case asked && missing == "":
			out.Means = string(replace.ByAgent)
		default:
			out.NoMeans, out.Remedy = no.Detail, no.Remedy
			if asked {
				out.NoMeans += "; and " + missing
			}
			if no.Code == "no-means" && p.ways[ids[n]].Steward == nil {
				if p.Urgent { // whoever has the old private key is not the one to edit
					out.Remedy = "Get back in, which takes the lost line out as well: plumlatch restore routes " + l.Instance
					break
				}
				out.Remedy = "Edit it from your machine: add -from-here -with FILE. Or place a steward key: plumlatch instance " +
					"steward " + l.Instance + " -with FILE"
			}
		}
		if _, at := p.others[ids[n]]; at && !p.Wait {
			out.Means, out.NoMeans, out.Remedy = "", "another rotation is at work on it", "Have this one wait for it "+
				"(-overlap wait), or watch that: plumlatch rotate list"
		}
		slices.SortFunc(
			out.Stands,
			func(a, b rotation.Stand) int { return strings.Compare(p.keys[a.Key].Name, p.keys[b.Key].Name) },
		)
		p.logins = append(p.logins, out)
	}
	return nil
}

// agentsAtOnce is how many guest agents are asked for at once.
const agentsAtOnce = 16

// withoutAgent says, of the logins that no steward key opens, what keeps their guest
// agent from being asked; "" if nothing does.
func (s *Service) withoutAgent(ctx context.Context, logins []record.LoginToSweep) (map[uuid.UUID]string, error) {
	missing := make([]string, len(logins))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(agentsAtOnce)
	for n, l := range logins {
		if s.access.NoMeans(l) == nil || l.Instance.State != machines.Running {
			continue
		}
		group.Go(func() error {
			err := problem.Guard(s.log, "asking the guest agent of "+l.Instance.Name, func() (err error) {
				missing[n], err = s.fleet.AgentMissing(ctx, l.Instance)
				return err
			})
			if err != nil && ctx.Err() == nil { // a cloud that does not answer is one means less
				missing[n], err = "its guest agent cannot be asked: "+err.Error(), nil
			}
			return err
		})
	}
	err := group.Wait()
	of := map[uuid.UUID]string{}
	for n, l := range logins {
		if s.access.NoMeans(l) != nil && l.Instance.State == machines.Running {
			of[l.ID] = missing[n]
		}
	}
	return of, err
}

// plan has core make the plan, with names that are free, and fills in the rest.
func (p *planning) plan(
	ctx context.Context, s *Service, actor people.Actor, start RotationStart,
) (RotationPlan, error) {
	wanted := rotation.Wanted{
		Selection: p.Selection,
		Each:      p.Each,
		To:        p.To,
		Names:     p.Names,
		Urgent:    p.Urgent,
		Follows:   p.Follows,
		Now:       p.now,
	}
	used := map[string]bool{}
	made := rotation.Plan{}
	for { // until every proposed name is free
		made = rotation.Make(wanted, p.keys, p.logins, func(n string) bool { return used[n] })
		var stems []string
		free := true
		for _, f := range made.New {
			stem, _ := rotation.Stem(f.Name)
			stems = append(stems, stem)
		}
		there, err := s.store.NamesUnder(ctx, stems)
		if err != nil {
			return RotationPlan{}, err
		}
		for _, n := range there {
			used[n] = true
		}
		for _, f := range made.New {
			free = free && !used[f.Name]
		}
		if free {
			break
		}
	}
	m, err := s.makerOf(ctx, actor, p, made)
	if err != nil {
		return RotationPlan{}, err
	}
	from := s.sourceOf(start, p, made, m)
	out := RotationPlan{Make: string(from)}
	types, err := s.keyTypesOf(ctx, made, p)
	if err != nil {
		return RotationPlan{}, err
	}
	comes, old := map[string]reach.Key{}, map[string]record.Key{}
	for n, f := range made.New {
		k := p.records[p.world.Keys[f.Old].ID]
		planned := PlannedKey{Name: f.Name, Follows: k.Name, Holder: p.keys[f.Old].Holder, Type: types[n]}
		planned.held(k, from, m, start.Mine)
		planned.Bits = map[string]int{keypair.RSA: madeAsRSABits}[planned.Type]
		if planned.Bits == 0 {
			planned.Bits = 256
		}
		out.New = append(out.New, planned)
		comes[f.Name], old[k.Name] = p.comes(from, f.Old, planned, m), k
	}
	after := p.after(made, comes)
	took, tookAll, err := s.store.RotatingTimes(ctx)
	if err != nil {
		return RotationPlan{}, err
	}
	for _, i := range made.Items {
		l, k := p.world.Logins[p.places[i.Login]], p.records[p.world.Keys[i.Old].ID]
		item := PlannedItem{
			Login:     p.logins[i.Login].Name,
			Instance:  l.Instance,
			Old:       k.Name,
			OldSHA256: k.SHA256,
			Holder:    p.keys[i.Old].Holder,
			New:       i.New,
			LeftOut:   i.LeftOut,
			Remedy:    i.Remedy,
			Before:    p.standings[p.places[i.Login]].State, LoginID: l.ID, OldID: k.ID,
		}
		item.Due = p.Due(p.keys[i.Old], p.now.Add(-p.Ahead))
		if i.LeftOut == "" {
			item.Means, item.After = p.logins[i.Login].Means, after[p.places[i.Login]].State
			item.Seconds = cmp.Or(took[p.ways[l.ID].InstanceID], tookAll)
			out.Seconds += item.Seconds / rotation.MaxAtOnce
			if other, at := p.others[l.ID]; at {
				item.WaitsFor = &other
			}
		}
		out.Items = append(out.Items, item)
	}
	out.Pending = pending(out, from, old, m)
	return out, nil
}

// after computes the reach once the plan is carried out, where each new key counts as comes says. A key that is
// there already counts as it does.
func (p *planning) after(made rotation.Plan, comes map[string]reach.Key) []reach.Standing {
	in := p.world.Input
	in.Keys, in.Pairs = slices.Clone(in.Keys), slices.Clone(in.Pairs)
	gone := map[[2]int32]bool{}
	for _, i := range made.Items {
		if i.LeftOut != "" {
			continue
		}
		place := int32(p.places[i.Login])
		gone[[2]int32{int32(i.Old), place}] = true
		key, made := comes[i.New]
		if !made {
			key = reach.Key{Holder: in.Keys[i.Old].Holder, Proved: in.Now}
			if n := p.keyNamed(i.New); n >= 0 {
				key = in.Keys[n]
			}
		}
		in.Keys = append(in.Keys, key)
		in.Pairs = append(in.Pairs, reach.Pair{
			Key:      int32(len(in.Keys) - 1),
			Login:    place,
			Granted:  true,
			Sighting: reach.Seen,
			Opens:    true,
		})
	}
	in.Pairs = slices.DeleteFunc(in.Pairs, func(pair reach.Pair) bool { return gone[[2]int32{pair.Key, pair.Login}] })
	return reach.Standings(in)
}

// keyNamed is the place of a key that opens something, below 0 for none.
func (p *planning) keyNamed(name string) int {
	return slices.IndexFunc(p.world.Keys, func(k record.ReachKey) bool { return k.Name == name })
}

// imageIn is an image of a cloud.
type imageIn struct {
	cloud uuid.UUID
	name  string
}

// imageOf is the image of the instance of an item.
func imageOf(i rotation.Item, p *planning) imageIn {
	at := p.ways[p.world.Logins[p.places[i.Login]].ID].Instance
	if at.InCloud == nil {
		return imageIn{}
	}
	return imageIn{*at.InCloud, at.Image}
}

// cloudsOf are the clouds of the instances of a plan.
func cloudsOf(made rotation.Plan, p *planning) (in []uuid.UUID) {
	for _, i := range made.Items {
		if of := imageOf(i, p); of.cloud != uuid.Nil && !slices.Contains(in, of.cloud) {
			in = append(in, of.cloud)
		}
	}
	return in
}

// keyTypesOf returns as what each new key will be made: Ed25519, or RSA where an
// image that it will be on takes no other.
func (s *Service) keyTypesOf(ctx context.Context, made rotation.Plan, p *planning) ([]string, error) {
	out := make([]string, len(made.New))
	takes := map[imageIn][]string{}
	if len(made.New) > 0 {
		for _, in := range cloudsOf(made, p) {
			_, images, err := s.clouds.Outline(ctx, &in)
			if err != nil && !slices.ContainsFunc(p.logins, func(l rotation.Login) bool { return l.Means != "" }) {
				return nil, problem.FromCloud(err)
			}
			for _, i := range images {
				takes[imageIn{in, i.Name}] = i.KeyTypes
			}
		}
	}
	for n, f := range made.New {
		out[n] = madeAsType
		for _, i := range made.Items {
			takes := takes[imageOf(i, p)]
			if i.New == f.Name && len(takes) > 0 && !slices.Contains(takes, madeAsType) {
				out[n] = keypair.RSA
			}
		}
	}
	return out, nil
}
