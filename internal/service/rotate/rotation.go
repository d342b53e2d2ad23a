package rotate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/store"
)

// Where the new keys of a rotation are made.
const (
	makeHere    = string(rotation.Here)
	MakeService = string(rotation.Service)
	MakeBring   = string(rotation.Bring)
)

const (
	// mostRotated is the greatest number of logins in one rotation.
	mostRotated   = 5000
	madeAsType    = keypair.Ed25519
	madeAsRSABits = 3072
)

// ShownItem is an item of a plan as it was shown.
type ShownItem = rotation.Shown

// RotationStart says how a planned rotation will be started.
type RotationStart struct {
	RotationWanted
	Shown    []ShownItem
	Make     string
	NewKeys  map[string]string // public keys by the names of the plan, with Make here
	Settings rotation.Settings
	Reason   string

	// Mine is whether the new keys that are made here are the actor's, whoever held the old ones.
	Mine bool

	Rule string // the rotation rule that begins it
	// Holder is whose the new keys are, nil for those of the old ones' holders; only says
	// which key lines are replaced, by key and login, nil for all.
	Holder *uuid.UUID
	Only   map[[2]string]bool
}

// RotationState is a rotation and how far it is.
type RotationState struct {
	record.Rotation
	Counts map[rotation.ItemState]int
	// Old are the keys that it replaces.
	Old record.Some
}

// StartRotation starts a rotation by the plan as it was shown.
func (s *Service) StartRotation(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, start RotationStart,
) (RotationState, error) {
	if err := errors.Join(problem.CheckText("reason", start.Reason), start.checkStart()); err != nil {
		return RotationState{}, err
	}
	earlier, err := s.journal.Before(ctx, actor.ID, once)
	if err != nil {
		return RotationState{}, err
	}
	if earlier != "" {
		id, err := uuid.Parse(earlier)
		if err != nil {
			return RotationState{}, err
		}
		return s.Rotation(ctx, id)
	}
	plan, err := s.planFor(ctx, actor, start)
	if err != nil {
		return RotationState{}, err
	}
	plan.narrow(start)
	if start.Make == makeHere {
		if err := mayMake(plan); err != nil {
			return RotationState{}, err
		}
	}
	if err := outrun(plan, start.Shown); err != nil {
		return RotationState{}, err
	}
	if len(start.Shown) == 0 {
		return RotationState{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "nothing-to-rotate",
			Detail: "the plan replaces nothing",
			Remedy: "See why: plumlatch rotate plan",
		}
	}
	keys, privates, err := s.newKeys(ctx, actor, plan, start)
	if err != nil {
		return RotationState{}, err
	}
	r := record.Rotation{
		ID:          store.NewID(),
		State:       rotation.Running,
		RequestedBy: actor.Name,
		Reason:      start.Reason,
		Settings:    start.Settings,
		CreatedAt:   s.now().Truncate(time.Microsecond),
		Urgent:      start.Urgent,
		Rule:        start.Rule,
	}
	asked, err := askedKeys(r, plan, start)
	if err != nil {
		return RotationState{}, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, r.ID.String())
		if err != nil {
			return err
		}
		if earlier != "" {
			r.ID, err = uuid.Parse(earlier)
			return err
		}
		return s.addRotation(ctx, tx, actor, start, plan, &r, newcomers{keys, privates, asked})
	})
	if err != nil {
		var taken *store.TakenError
		if errors.As(err, &taken) {
			return RotationState{}, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "plan-outrun",
				Detail: "a key of one of the new names was recorded meanwhile, or one of the new keys is recorded already",
				Remedy: "Plan again",
			}
		}
		return RotationState{}, err
	}
	s.engine.Nudge(ctx, rotationDuty)
	return s.Rotation(ctx, r.ID)
}

// newcomers are the new keys of a rotation: their records, the private keys that are kept, and those that
// holders are asked for.
type newcomers struct {
	keys     []record.Key
	privates map[string]record.Secret
	asked    []record.AskedKey
}

// addRotation records a rotation, its items and its new keys.
func (s *Service) addRotation(
	ctx context.Context, tx *store.Store, actor people.Actor, start RotationStart, plan RotationPlan,
	r *record.Rotation, in newcomers,
) error {
	byName, err := addNewKeys(ctx, tx, start, in.keys, in.privates)
	if err != nil {
		return err
	}
	var items []record.RotationItem
	items, r.LeftOut = itemsOfPlan(r.ID, plan, byName)
	logins, instances, leftOut := plan.Counts()
	told := "rotation.start"
	if start.Make == MakeBring {
		told = "rotation.start:bring"
	}
	if err := tx.AddRotation(ctx, *r, items); err != nil {
		return err
	}
	if start.Rule != "" { // in the same transaction, so that a kill does not begin it twice
		if err := tx.NoteRuleBegun(ctx, start.Rule, r.ID, r.CreatedAt); err != nil {
			return err
		}
	}
	if err := tx.AddAskedKeys(ctx, in.asked); err != nil {
		return err
	}
	notes := make([]record.Entry, 0, 1+len(plan.Pending))
	for _, p := range plan.Pending {
		notes = append(notes, s.asks(actor, p))
	}
	return tx.Note(ctx, append(notes, s.journal.Entry(
		actor.By(), told, "rotation", r.ID.String(), start.Reason,
		journal.Facts{
			"logins":    logins,
			"instances": instances,
			"lines":     len(items),
			"left_out":  leftOut,
			"new_keys":  len(plan.New),
		},
	))...)
}

// asks tells what a holder has to do before they get in by their new keys.
func (s *Service) asks(actor people.Actor, p PendingHolder) record.Entry {
	told := map[rotation.Pending]string{
		rotation.TakeOut: "holder.asked:take", rotation.BringIt: "holder.asked:bring",
		rotation.TakeItOver: "holder.asked:take-over",
	}[p.Does]
	e := s.journal.Entry(
		actor.By(), told, "holder", p.Holder, "", journal.Facts{"keys": p.Keys, "logins": p.Logins},
	)
	return journal.OnKeys(e, p.Keys...)
}

// addNewKeys records the new keys of a rotation, with the private keys that are kept. It returns the ids of
// all by their names; a key that is there already is only named.
func addNewKeys(
	ctx context.Context, tx *store.Store, start RotationStart, keys []record.Key, privates map[string]record.Secret,
) (map[string]uuid.UUID, error) {
	byName := map[string]uuid.UUID{}
	for n := range keys {
		k := &keys[n]
		byName[k.Name] = k.ID
		if start.To != "" {
			continue
		}
		if err := tx.AddKey(ctx, k); err != nil {
			return nil, err
		}
		if private, kept := privates[k.Name]; kept {
			if err := tx.KeepKey(ctx, k.ID, private, k.CreatedAt); err != nil {
				return nil, err
			}
		}
	}
	return byName, nil
}

// itemsOfPlan are the items of a rotation, and what its plan leaves out. An item whose new key is not there
// yet is asked for.
func itemsOfPlan(
	of uuid.UUID, plan RotationPlan, keys map[string]uuid.UUID,
) (items []record.RotationItem, leftOut []record.LeftOut) {
	for _, i := range plan.Items {
		if i.LeftOut != "" {
			leftOut = append(leftOut, record.LeftOut{Login: i.Login, Old: i.Old, Why: i.LeftOut, Remedy: i.Remedy})
			continue
		}
		item := record.RotationItem{
			ID:         store.NewID(),
			RotationID: of,
			Seq:        len(items),
			LoginID:    i.LoginID,
			OldKeyID:   new(i.OldID),
			OldName:    i.Old,
			NewName:    i.New,
			State:      rotation.ItemAsked,
			Means:      i.Means,
		}
		if id, there := keys[i.New]; there {
			item.NewKeyID, item.State = &id, rotation.ItemWaiting
		}
		items = append(items, item)
	}
	return items, leftOut
}

// narrow keeps of the plan what will be replaced, and gives the new keys their holder.
func (p *RotationPlan) narrow(start RotationStart) {
	if start.Only != nil {
		comes := map[string]bool{}
		p.Items = slices.DeleteFunc(p.Items, func(i PlannedItem) bool { return !start.Only[[2]string{i.Old, i.Login}] })
		for _, i := range p.Items {
			comes[i.New] = i.LeftOut == "" || comes[i.New]
		}
		p.New = slices.DeleteFunc(p.New, func(k PlannedKey) bool { return !comes[k.Name] })
	}
	for n := range p.New {
		if start.Holder != nil {
			p.New[n].holder = start.Holder
		}
	}
}

// checkStart refuses settings that will not do or that exclude one another, and fills in what is left out.
func (start *RotationStart) checkStart() error {
	if err := CheckSettings(&start.Settings); err != nil {
		return err
	}
	return CheckTogether(*start)
}

// CheckTogether refuses settings that exclude one another.
func CheckTogether(start RotationStart) error {
	return faultProblem("", rotation.Started{
		Settings: start.Settings,
		Rule:     start.Rule != "",
		FromHere: start.FromHere,
		Urgent:   start.Urgent,
		Bring:    start.Make == MakeBring,
		Service:  start.Make == MakeService,
	}.Together())
}

// CheckSettings refuses settings that will not do, and fills in what is left out.
func CheckSettings(t *rotation.Settings) error {
	filled, err := t.Filled()
	if err == nil {
		if _, missing := time.LoadLocation(filled.Zone); missing != nil {
			err = &rotation.Fault{
				Field:  "zone",
				Detail: fmt.Sprintf("there is no time zone %q", filled.Zone),
				Remedy: "Give one such as Europe/Berlin",
			}
		}
	}
	*t = filled
	return faultProblem("settings.", err)
}

// faultProblem is the problem that a fault of core is; prefix is what its field is in.
func faultProblem(prefix string, err error) error {
	var fault *rotation.Fault
	if !errors.As(err, &fault) {
		return err
	}
	code := fault.Field
	if prefix != "" {
		code = strings.ReplaceAll(code, "_", "-")
	}
	return &problem.Problem{
		Kind:   problem.Invalid,
		Code:   "bad-" + code,
		Field:  prefix + fault.Field,
		Detail: fault.Detail,
		Remedy: fault.Remedy,
	}
}

// outrun refuses a plan that is not the one that was shown, with the difference.
func outrun(plan RotationPlan, shown []ShownItem) error {
	var now []ShownItem
	for _, i := range plan.Items {
		if i.LeftOut == "" {
			now = append(now, ShownItem{Login: i.Login, Old: i.Old, New: i.New})
		}
	}
	where := rotation.Outrun(now, shown)
	if len(where) == 0 {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "plan-outrun",
		Where:  where[:min(len(where), 20)],
		Detail: fmt.Sprintf("the plan is not what it was when it was shown: %s", text.Counted(len(where), "difference")),
		Remedy: "Look at the plan again, and start that",
	}
}

// Rotation returns how far a rotation is.
func (s *Service) Rotation(ctx context.Context, id uuid.UUID) (RotationState, error) {
	r, err := s.store.RotationByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return RotationState{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-rotation",
			Detail: "there is no rotation with this id",
			Remedy: "See what there is: plumlatch rotate list",
		}
	}
	if err != nil {
		return RotationState{}, err
	}
	all, err := s.stateOf(ctx, r)
	if err != nil {
		return RotationState{}, err
	}
	return all[0], nil
}

// stateOf adds to rotations how far they are, and of which keys they are.
func (s *Service) stateOf(ctx context.Context, rotations ...record.Rotation) ([]RotationState, error) {
	ids := make([]uuid.UUID, len(rotations))
	for n, r := range rotations {
		ids[n] = r.ID
	}
	counts, err := s.store.RotationCounts(ctx, ids...)
	if err != nil {
		return nil, err
	}
	old, err := s.store.RotatedKeys(ctx, ids...)
	out := make([]RotationState, len(rotations))
	for n, r := range rotations {
		out[n] = RotationState{r, counts[r.ID], old[r.ID]}
	}
	return out, err
}

// Rotations returns one page of rotations, the newest first.
func (s *Service) Rotations(
	ctx context.Context, meant string, p record.Page,
) (record.List[RotationState], error) {
	l, err := s.store.Rotations(ctx, meant, p)
	if err != nil {
		return record.List[RotationState]{}, problem.FromPage(err)
	}
	all, err := s.stateOf(ctx, l.Items...)
	return record.List[RotationState]{Items: all, Next: l.Next, Total: l.Total}, err
}

// RotationItem is an item of a rotation with what to do about it.
type RotationItem struct {
	record.RotationItem
	DueAt *time.Time
	Next  string
}

// RotationItems returns one page of the items of a rotation, in the order of its plan.
func (s *Service) RotationItems(
	ctx context.Context, id uuid.UUID, state rotation.ItemState, p record.Page,
) (record.List[RotationItem], error) {
	r, err := s.Rotation(ctx, id)
	if err != nil {
		return record.List[RotationItem]{}, err
	}
	l, err := s.store.RotationItems(ctx, id, state, p)
	if err != nil {
		return record.List[RotationItem]{}, problem.FromPage(err)
	}
	logins := make([]uuid.UUID, len(l.Items))
	for n, i := range l.Items {
		logins[n] = i.LoginID
	}
	others, err := s.store.RotatingLogins(ctx, logins, id)
	if err != nil {
		return record.List[RotationItem]{}, err
	}
	out := record.List[RotationItem]{Next: l.Next}
	for _, i := range l.Items {
		item := RotationItem{RotationItem: i}
		loginName := fleet.LoginName(i.OSUser, i.InstanceName)
		switch i.State {
		case rotation.ItemAsked:
			item.Detail, item.Next = "its holder is asked to bring a new public key", "plumlatch rotate bring "+i.NewName
		case rotation.ItemWaiting:
			item.Detail = "it waits for its turn"
			if r.Settings.First > 0 && i.Seq >= r.Settings.First {
				item.Detail = "it waits for your word, once the first group is done"
				if r.Settings.ThenGo {
					item.Detail = "it begins when all of the first group are done"
				}
			}
			if replace.IsHere(i.Means) {
				item.Detail = "it waits for somebody who edits from their machine with the old private key"
				item.Next = "plumlatch rotate watch " + loginName + " -from-here -with FILE"
			} else if other, at := others[i.LoginID]; at {
				item.Detail = "it waits for another rotation that is at work on the login"
				item.Next = "plumlatch rotate watch " + other.String()
			}
		case rotation.ItemPlaced:
			item.Next = "plumlatch prove " + loginName
			item.Detail = cmp.Or(
				item.Detail,
				"the new line is in place beside the old one; pending: a login with "+i.NewName+" is awaited",
			)
		case rotation.ItemProved:
			item.DueAt = new(i.ProvedAt.Add(time.Duration(r.Settings.GraceSeconds) * time.Second))
			item.Detail = "the new key opens it; the old one is removed when the grace period ends"
			if replace.IsHere(i.Means) {
				item.Detail, item.Next = "the new key opens it; the old one is removed when the grace period ends, from the "+
					"machine that "+
					"has the new private key", "plumlatch rotate watch "+loginName+" -from-here"
			}
		case rotation.ItemFailed:
			item.Next = "plumlatch why " + i.InstanceName
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}
