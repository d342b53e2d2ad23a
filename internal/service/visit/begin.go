package visit

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/text"
	"plumlatch/internal/core/visit"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// Wanted says what somebody wants to visit, and by what it authenticates.
type Wanted struct {
	Login string
	Way   visit.Way
	// Key is the name of the key; of a visit's own key, PublicKey is the one that the page has made.
	Key, PublicKey string
	Reason         string
	// Address is where the page is.
	Address string
}

// Begin asks for a visit, which the page opens within the next seconds. It places the line of a visit's own key.
func (s *Service) Begin(ctx context.Context, actor people.Actor, w Wanted) (record.VisitRecord, error) {
	none := record.VisitRecord{}
	if err := s.mayBegin(ctx, actor, w); err != nil {
		return none, err
	}
	l, i, err := s.Fleet.LoginNamed(ctx, w.Login)
	if err != nil {
		return none, err
	}
	if i.State != machines.Running {
		return none, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-running",
			Where:  []string{i.Name},
			Detail: fmt.Sprintf("%s is %s", i.Name, i.State),
			Remedy: "Start it first: plumlatch instance start " + i.Name,
		}
	}
	v := record.Visit{
		ID:         store.NewID(),
		LoginID:    l.ID,
		OperatorID: actor.ID,
		SessionID:  actor.Session,
		Person:     actor.Name,
		Way:        w.Way,
		Reason:     w.Reason,
		Address:    w.Address,
		State:      visit.Asked,
		CreatedAt:  s.Now().Truncate(time.Microsecond),
		SeenAt:     s.Now(),
	}
	if err := s.Store.InTx(ctx, func(tx *store.Store) error { return s.room(ctx, tx, actor) }); err != nil {
		return none, err // before the record of a key is made for it
	}
	k, err := s.keyFor(ctx, actor, w, v.ID)
	if err != nil {
		return none, err
	}
	v.KeyID, v.Placed = &k.ID, w.Way == visit.VisitKey
	if v.Recorded, err = s.Store.Recorded(ctx, i.ID); err != nil {
		return none, err
	}
	name := fleet.LoginName(l.OSUser, i.Name)
	err = s.Store.InTx(ctx, func(tx *store.Store) error {
		if err := s.room(ctx, tx, actor); err != nil {
			return err
		}
		var recording *record.Secret
		if v.Recorded {
			if recording, err = s.newRecording(ctx, tx, v.ID); err != nil {
				return err
			}
		}
		if err := tx.AddVisit(ctx, v, recording); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(s.Journal.Entry(actor.By(), "visit.begin", "login", name, w.Reason, journal.Facts{
			"key": k.Name, "way": string(w.Way), "address": w.Address, "recorded": v.Recorded,
		}), k.Name))
	})
	if err != nil && w.Way == visit.VisitKey {
		if left := s.Keys.DeleteKey(ctx, actor, k.Name); left != nil {
			s.Log.Error("delete the key of a visit that was not begun", "key", k.Name, "err", left)
		}
	}
	if err != nil {
		return none, err
	}
	if w.Way == visit.VisitKey {
		if err := s.place(ctx, actor, v, k, i, l, name); err != nil {
			return none, err
		}
	}
	return s.Store.VisitByID(ctx, v.ID)
}

// mayBegin refuses what no login has to be known for.
func (s *Service) mayBegin(ctx context.Context, actor people.Actor, w Wanted) error {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return err
	}
	switch {
	case s.Off:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "visits-off",
			Detail: "this service opens no terminals",
			Remedy: "Log in from your machine: plumlatch connect " + w.Login,
		}
	case actor.Session == uuid.Nil:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "session-needed",
			Detail: "a visit is bound to a session of the console, and this call was made with a token",
			Remedy: "Log in from your machine: plumlatch connect " + w.Login,
		}
	case !w.Way.Known():
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-way",
			Field:  "way",
			Detail: fmt.Sprintf("%q is no way to authenticate; own-key, visit-key and kept-key are", w.Way),
		}
	}
	return nil
}

// room refuses one visit more than there may be.
func (s *Service) room(ctx context.Context, tx *store.Store, actor people.Actor) error {
	own, all, err := tx.CountVisits(ctx, actor.ID)
	if err != nil {
		return err
	}
	if s.Limits.Each > 0 && own >= s.Limits.Each || s.Limits.All > 0 && all >= s.Limits.All {
		return &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "too-many-visits",
			After:  10,
			Detail: fmt.Sprintf("you have %d visits open, and there are %d in all", own, all),
			Remedy: "End one: plumlatch visit list",
		}
	}
	return nil
}

// keyFor is the key that a visit authenticates with; a visit's own one is recorded.
func (s *Service) keyFor(ctx context.Context, actor people.Actor, w Wanted, id uuid.UUID) (record.Key, error) {
	if w.Way == visit.VisitKey {
		text := id.String()
		return s.Keys.ImportKey(ctx, actor, journal.IdempotencyKey{}, keys.ImportedKey{
			NewKey: keys.NewKey{
				Name: "visit-" + text[len(text)-12:], Purpose: "a visit of " + actor.Name + " to " + w.Login,
			},
			PublicKey: w.PublicKey,
			// Its private key is gone with the page, so that a login that nobody else gets in to stays told as shut, and the
			// line may go though it is the only one.
			NoHolder: true,
		})
	}
	k, err := s.Keys.Key(ctx, w.Key)
	if err != nil {
		return k, err
	}
	switch {
	case k.StewardOf != nil:
		return k, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "steward-key",
			Where:  []string{k.Name},
			Detail: k.Name + " is a steward key, which is for the service alone",
			Remedy: "Use a key of your own, or one that is made for the visit",
		}
	case k.State == custody.Lost:
		return k, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "key-lost",
			Where:  []string{k.Name},
			Detail: k.Name + " is marked as lost",
			Remedy: "Use another key; if it was found: plumlatch key found " + k.Name,
		}
	case w.Way == visit.KeptKey:
		return k, s.Keys.MayUse(ctx, actor, k, w.Reason)
	}
	return k, nil
}

// place has the line of a visit's own key placed. It ends by itself, at the latest when the longest visit would.
func (s *Service) place(
	ctx context.Context, actor people.Actor, v record.Visit, k record.Key, i record.Instance, l record.Login, name string,
) error {
	limits := ""
	if from := sshio.LocalAddress(ctx, s.Fleet.Target(i, l.OSUser)); from.IsValid() {
		limits = fmt.Sprintf("from=%q", from)
	}
	until := s.Now().Add(cmp.Or(s.Limits.Longest, visit.Usual.Longest)).Truncate(time.Second)
	granted, err := s.Access.AddGrant(ctx, actor, journal.IdempotencyKey{}, access.GrantWanted{
		Key: k.Name, Login: name, Until: &until, EndBy: grants.ByBoth, Limits: &limits, Reason: "a visit through the console",
	})
	if err == nil && granted.Run != nil {
		_, err = s.Store.ChangeVisit(ctx, v.ID, []visit.State{visit.Asked}, map[string]any{"run_id": granted.Run.ID})
	}
	if err == nil {
		return nil
	}
	over, found := s.Store.VisitByID(ctx, v.ID)
	if found == nil {
		found = s.ended(ctx, over, visit.Failed, text.Line(err.Error(), text.MaxLine), "")
	}
	if found != nil {
		s.Log.Error("end a visit whose key was not placed", "visit", v.ID, "err", found)
	}
	return err
}
