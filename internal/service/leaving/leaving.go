package leaving

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/leaving"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/store"
)

// LeavingItem is one key that somebody who leaves holds, in one login.
type LeavingItem struct {
	Key string
	// Login is "" for a key that opens nothing, or that is handed over as it is.
	Login         string
	Before, After reach.State
	// What is replace, withdraw, hand over or retire.
	What leaving.What
}

// Leaving is what somebody's going takes, and how far it is.
type Leaving struct {
	Person string
	Items  []LeavingItem
	// Shut and Thin are the logins that would be so without the person.
	Shut, Thin []string
	// TeamKeys are keys of the teams that the person is in: they may have those, too.
	TeamKeys []string
	// Begun is nil where nobody has begun it.
	Begun *record.Leaving
	// Closed is whether nothing is left to do, AccountClosed whether they can no longer use the service.
	Closed, AccountClosed bool
}

// Leaving says what a person holds, what would become of the logins without them, and what
// will be done so that none of their keys is in place and nothing is shut.
func (s *Service) Leaving(ctx context.Context, person string) (Leaving, error) {
	o, err := s.people.OperatorNamed(ctx, s.store, person)
	if err != nil {
		return Leaving{}, err
	}
	return s.leavingOf(ctx, o)
}

func (s *Service) leavingOf(ctx context.Context, o record.Operator) (Leaving, error) {
	out := Leaving{Person: o.Name, Begun: o.Leaving, AccountClosed: o.ClosedAt != nil}
	out.Closed = out.AccountClosed && !o.Going()
	holder, err := s.store.HolderOf(ctx, o.ID)
	if err != nil {
		return out, err
	}
	keys, err := s.store.KeysHeldBy(ctx, holder.ID)
	if err != nil {
		return out, err
	}
	teams, err := s.store.TeamsOf(ctx, o.ID)
	if err != nil {
		return out, err
	}
	ofTeams := make([]uuid.UUID, len(teams))
	for n, t := range teams {
		ofTeams[n] = t.ID
	}
	held, err := s.store.KeysHeldBy(ctx, ofTeams...)
	if err != nil {
		return out, err
	}
	for _, k := range held {
		out.TeamKeys = append(out.TeamKeys, k.Name)
	}
	w, err := s.access.World(ctx, record.ReachFilter{Holder: holder.Name})
	if err != nil {
		return out, err
	}
	ids := make([]uuid.UUID, len(keys))
	for n, k := range keys {
		ids[n] = k.ID
	}
	kept, err := s.store.NeverReleased(ctx, ids)
	if err != nil {
		return out, err
	}
	theirs := make([]leaving.Key, len(keys))
	for n, k := range keys {
		theirs[n] = leaving.Key{Name: k.Name, Place: w.KeyPlace(k.ID), Kept: kept[k.ID]}
	}
	plan := leaving.Make(w.Input, theirs)
	called := func(login int) string { return fleet.LoginName(w.Logins[login].OSUser, w.Logins[login].Instance) }
	for _, login := range plan.Shut {
		out.Shut = append(out.Shut, called(login))
	}
	for _, login := range plan.Thin {
		out.Thin = append(out.Thin, called(login))
	}
	for _, i := range plan.Items {
		item := LeavingItem{Key: i.Key, Before: i.Before, After: i.After, What: i.What}
		if i.Login >= 0 {
			item.Login = called(i.Login)
		}
		out.Items = append(out.Items, item)
	}
	slices.SortFunc(out.Items, func(a, b LeavingItem) int {
		return cmp.Or(cmp.Compare(a.Key, b.Key), cmp.Compare(a.Login, b.Login))
	})
	return out, nil
}

// BeginLeaving begins what Leaving has shown. to is the holder who follows.
func (s *Service) BeginLeaving(ctx context.Context, actor people.Actor, person, to, reason string) (Leaving, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return Leaving{}, err
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.LockPeople(ctx); err != nil {
			return err
		}
		o, err := s.people.OperatorNamed(ctx, tx, person)
		if err != nil {
			return err
		}
		if o.ClosedAt != nil && !o.Going() {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "account-closed",
				Where:  []string{person},
				Detail: "the account of " + person + " is closed already",
			}
		}
		follows, err := tx.HolderNamed(ctx, to)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "no-such-holder",
				Field:  "to",
				Detail: fmt.Sprintf("there is no holder %q to follow", to),
				Remedy: "See who there is: plumlatch holder list",
			}
		case err != nil:
			return err
		case follows.OperatorID != nil && *follows.OperatorID == o.ID:
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "no-such-holder",
				Field:  "to",
				Detail: person + " cannot follow themselves",
			}
		case follows.LeftAt != nil:
			return &problem.Problem{Kind: problem.Conflict, Code: "holder-left", Field: "to", Detail: to + " has left"}
		}
		admins, err := tx.CountAdmins(ctx)
		if err != nil {
			return err
		}
		if people.Role(o.Role) == people.Admin && admins == 1 {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "last-admin",
				Where:  []string{person},
				Detail: person + " is the only admin; nobody could make another",
				Remedy: "Make somebody else an admin first: plumlatch operator change NAME -role admin",
			}
		}
		if o.Leaving != nil {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "leaving-already",
				Where:  []string{person},
				Detail: o.Leaving.By + " has begun this already",
				Remedy: "See how far it is: plumlatch operator leave " + person,
			}
		}
		o.Leaving = &record.Leaving{BegunAt: s.now(), By: actor.Name, Reason: reason, To: to}
		if err := tx.ChangeOperator(ctx, o.ID, o, "leaving"); err != nil {
			return err
		}
		if err := tx.CloseAccount(ctx, o.ID, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "operator.leave", "operator", person, reason,
			journal.Facts{"to": to},
		))
	})
	if err != nil {
		return Leaving{}, err
	}
	s.engine.Nudge(ctx, leavingDuty)
	return s.Leaving(ctx, person)
}

const (
	leavingDuty = "carry-leavings"
	leaveEvery  = 5 * time.Second
	// leaveAgain is how long after a rotation that has left something another begins.
	leaveAgain = 10 * time.Minute
)

// carryLeavings continues with the leavings that were begun. Each turn looks at how things are
// and does what is next, so that it may be interrupted anywhere.
func (s *Service) carryLeavings(ctx context.Context) error {
	people, err := s.store.LeavingOperators(ctx)
	if err != nil {
		return err
	}
	var all error
	for _, o := range people {
		note, again, err := "", true, error(nil)
		for again && err == nil {
			note, again, err = s.carryLeaving(ctx, o)
		}
		if err != nil {
			var p *problem.Problem
			if !errors.As(err, &p) {
				all = errors.Join(all, fmt.Errorf("the leaving of %s: %w", o.Name, err))
				continue
			}
			note = p.Error()
		}
		if note != o.Leaving.Note {
			all = errors.Join(all, s.store.NoteLeaving(ctx, o.ID, note))
		}
	}
	return all
}

// carryLeaving does what is next and returns which doing of somebody's it waits for, and
// whether there may be something next already.
func (s *Service) carryLeaving(ctx context.Context, o record.Operator) (note string, again bool, err error) {
	var r *rotate.RotationState // as it was before the rest was looked at: what ends meanwhile is for the next turn
	if o.Leaving.Rotation != nil {
		now, err := s.rotate.Rotation(ctx, *o.Leaving.Rotation)
		if err != nil {
			return "", false, err
		}
		r = &now
	}
	l, err := s.leavingOf(ctx, o)
	if err != nil {
		return "", false, err
	}
	by := people.Actor{Name: o.Leaving.By, Via: "service", Role: people.Admin}
	reason := strings.TrimSuffix(o.Name+" leaves: "+o.Leaving.Reason, ": ")
	replace, kept, stuck, err := s.carryItems(ctx, by, l, o.Leaving.To, reason)
	if err != nil {
		return "", false, err
	}
	switch {
	case len(l.Items) > 0 && len(l.Items) == kept:
		return "", true, nil
	case replace && r == nil:
		note, err := s.replaceForLeaving(ctx, by, o, reason)
		return note, false, err
	case replace && r.EndedAt != nil && s.now().Sub(*r.EndedAt) < leaveAgain:
		return "a part could not be replaced yet; see plumlatch rotate report " + r.ID.String() + ". It is tried again at " +
				r.EndedAt.Add(leaveAgain).
					UTC().
					Format("15:04 MST") +
				", or at once: plumlatch operator leave " + o.Name + " -again",
			false, nil
	case replace && r.EndedAt != nil: // what was left out or has failed may be reached now
		o.Leaving.Rotation, o.Leaving.Note = nil, ""
		o.Leaving.Tries++
		return "", true, s.store.ChangeOperator(ctx, o.ID, o, "leaving")
	case r != nil && r.State == rotation.Paused:
		stuck = append(
			stuck,
			"the rotation that replaces their keys is paused; let it continue: plumlatch rotate resume "+r.ID.String(),
		)
	}
	if len(l.Items) > 0 {
		return strings.Join(stuck, "; "), false, nil
	}
	return "", false, s.endLeaving(ctx, by, o)
}

// carryItems does what is to be done about each key of somebody who leaves: whether some are to be replaced, how many
// are done, and why others are stuck.
func (s *Service) carryItems(
	ctx context.Context, by people.Actor, l Leaving, to, reason string,
) (replace bool, kept int, stuck []string, err error) {
	for _, i := range l.Items {
		switch i.What {
		case leaving.Replace:
			replace = true
		case leaving.HandOver:
			if _, _, err := s.keys.HandOver(ctx, by, i.Key, to, reason); err != nil {
				return false, 0, nil, err
			}
			kept++
		case leaving.Retire:
			if err := s.retire(ctx, by, i.Key, reason); err != nil {
				return false, 0, nil, err
			}
			kept++
		case leaving.Withdraw:
			_, err := s.access.WithdrawGrant(ctx, by, access.Withdrawal{Key: i.Key, Login: i.Login, Reason: reason})
			var p *problem.Problem
			if errors.As(err, &p) && p.Code != "run-at-work" {
				stuck = append(stuck, fmt.Sprintf("%s in %s: %s", i.Key, i.Login, p.Detail))
			} else if err != nil && p == nil {
				return false, 0, nil, err
			}
		}
	}
	return replace, kept, stuck, nil
}

// endLeaving closes the account of somebody who has left, unless they are the only admin.
func (s *Service) endLeaving(ctx context.Context, by people.Actor, o record.Operator) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.LockPeople(ctx); err != nil {
			return err
		}
		admins, err := tx.CountAdmins(ctx)
		if err != nil {
			return err
		}
		if people.Role(o.Role) == people.Admin && admins == 1 && o.ClosedAt == nil {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "last-admin",
				Detail: o.Name + " is the only admin now",
				Remedy: "Make somebody else an admin: plumlatch operator change NAME -role admin",
			}
		}
		if err := tx.CloseOperator(ctx, o.ID, s.now()); err != nil {
			return err
		}
		if err := tx.EndLeaving(ctx, o.ID, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			by.By(), "operator.left", "operator", o.Name, o.Leaving.Reason, nil,
		))
	})
}

// retire marks a key that opens nothing as out of use.
func (s *Service) retire(ctx context.Context, actor people.Actor, key, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := tx.LockKey(ctx, key)
		if err != nil {
			return s.keys.NoKey(err, key)
		}
		if err := tx.SetKeyState(ctx, k.ID, custody.Retired); err != nil {
			return err
		}
		return tx.Note(
			ctx, s.journal.Entry(actor.By(), "key.retire", "key", key, reason, nil),
		)
	})
}

// replaceForLeaving begins the rotation that puts keys of the one who follows in the place
// of those of the one who leaves.
func (s *Service) replaceForLeaving(
	ctx context.Context, by people.Actor, o record.Operator, reason string,
) (string, error) {
	to, err := s.store.HolderNamed(ctx, o.Leaving.To)
	if err != nil {
		return "", err
	}
	wanted := rotate.RotationWanted{
		Selection: rotation.Selection{Holder: o.Name},
		Wait:      true,
		Follows:   rotation.Heir{Leaves: o.Name, To: to.Name},
	}
	plan, err := s.rotate.PlanRotation(ctx, wanted)
	if err != nil {
		return "", err
	}
	l, err := s.leavingOf(ctx, o)
	if err != nil {
		return "", err
	}
	replaced := map[[2]string]bool{}
	for _, i := range l.Items {
		replaced[[2]string{i.Key, i.Login}] = i.What == leaving.Replace
	}
	start := rotate.RotationStart{
		RotationWanted: wanted,
		Make:           rotate.MakeBring,
		Reason:         reason,
		Holder:         &to.ID,
		Only:           replaced,
	}
	if s.Safe != nil {
		start.Make = rotate.MakeService
	}
	var cannot []string
	for _, i := range plan.Items {
		switch {
		case !replaced[[2]string{i.Old, i.Login}]:
		case i.LeftOut != "":
			cannot = append(cannot, fmt.Sprintf("%s in %s: %s", i.Old, i.Login, i.LeftOut))
		default:
			start.Shown = append(start.Shown, rotate.ShownItem{Login: i.Login, Old: i.Old, New: i.New})
		}
	}
	if len(start.Shown) == 0 {
		return "nothing can be replaced from here: " + strings.Join(cannot, "; "), nil
	}
	// The id is that of the leaving's own request, so that a kill does not begin it twice.
	r, err := s.rotate.StartRotation(
		ctx, people.Actor{ID: o.ID, Name: by.Name, Via: by.Via, Role: by.Role},
		journal.IdempotencyKey{Key: requestOf(o)}, start,
	)
	if err != nil {
		return "", err
	}
	return "", s.store.SetLeavingRotation(ctx, o.ID, r.ID)
}

// requestOf is the id of the request that begins the next rotation of a leaving.
func requestOf(o record.Operator) string {
	return "leaving " + o.Leaving.BegunAt.UTC().Format("20060102T150405.000000") + fmt.Sprintf(" %d", o.Leaving.Tries)
}

// LeaveAgain takes up a leaving whose rotation is over and has left something.
func (s *Service) LeaveAgain(ctx context.Context, actor people.Actor, person, reason string) (Leaving, error) {
	o, err := s.people.OperatorNamed(ctx, s.store, person)
	if err != nil {
		return Leaving{}, err
	}
	if !o.Going() {
		return Leaving{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-leaving",
			Where:  []string{person},
			Detail: "nobody has begun the leaving of " + person,
			Remedy: "Begin it: plumlatch operator leave " + person + " -to HOLDER",
		}
	}
	if o.Leaving.Rotation != nil {
		r, err := s.rotate.Rotation(ctx, *o.Leaving.Rotation)
		if err != nil {
			return Leaving{}, err
		}
		if r.EndedAt == nil {
			return Leaving{}, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "rotation-at-work",
				Where:  []string{r.ID.String()},
				Detail: "its rotation is still at work",
				Remedy: "Watch it: plumlatch rotate watch " + r.ID.String(),
			}
		}
	}
	o.Leaving.Rotation, o.Leaving.BegunAt, o.Leaving.Note = nil, s.now(), ""
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeOperator(ctx, o.ID, o, "leaving"); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "operator.leave:again", "operator", person, reason, nil,
		))
	})
	if err != nil {
		return Leaving{}, err
	}
	s.engine.Nudge(ctx, leavingDuty)
	return s.Leaving(ctx, person)
}

// CallOffLeaving ends a leaving before it is over, and opens the account again, without the sessions and tokens
// that it had. What was replaced stays so.
func (s *Service) CallOffLeaving(ctx context.Context, actor people.Actor, person string) (Leaving, error) {
	o, err := s.people.OperatorNamed(ctx, s.store, person)
	if err != nil {
		return Leaving{}, err
	}
	if !o.Going() {
		return Leaving{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-leaving",
			Where:  []string{person},
			Detail: "nobody has begun the leaving of " + person,
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.OpenOperator(ctx, o.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "operator.stay", "operator", person, "", nil,
		))
	})
	if err != nil {
		return Leaving{}, err
	}
	return s.Leaving(ctx, person)
}
