package access

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/core/name"
	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// mostShown is how many logins of an instance are told of at once.
const mostShown = 100

// InstanceAccess is who gets in to an instance.
type InstanceAccess struct {
	Instance string
	Logins   []Login
	Total    int
	// Machine is what was read of all its users; nil where nobody has.
	Machine *record.MachineReading
	// Steward is its steward key; nil where it has none.
	Steward *Steward
}

// Whole reports whether all that gets in is known: every login and all users were read.
func (a InstanceAccess) Whole() bool {
	if a.Machine == nil || a.Machine.Machine.Unknown() > 0 || a.Total > len(a.Logins) {
		return false
	}
	for _, l := range a.Logins {
		if l.SweptAt == nil || l.SweepError != "" || l.Server == nil || l.Server.Server.Unread != "" {
			return false
		}
	}
	return true
}

// Beyond counts what is not as granted on the whole machine.
func (a InstanceAccess) Beyond() (c seen.Counts) {
	for _, l := range a.Logins {
		c.Missing += l.Beyond.Missing
		c.Ungranted += l.Beyond.Ungranted
		c.Strangers += l.Beyond.Strangers
		c.OtherWays += l.Beyond.OtherWays
		c.Unread += l.Beyond.Unread
		if l.SweepError != "" {
			c.Unread++
		}
	}
	c.Unread += a.Total - len(a.Logins)
	if a.Machine == nil {
		c.Unread++
		return c
	}
	c.Unread += a.Machine.Machine.Unknown()
	return c
}

// InstanceAccess returns who gets in to an instance.
func (s *Service) InstanceAccess(ctx context.Context, instance string) (InstanceAccess, error) {
	i, err := s.fleet.Instance(ctx, instance)
	if err != nil {
		return InstanceAccess{}, err
	}
	out := InstanceAccess{Instance: i.Name}
	all, err := s.store.LoginsOnInstance(ctx, i.ID, MaxOpeners)
	if err != nil {
		return out, err
	}
	out.Total = len(all)
	for _, l := range all[:min(len(all), mostShown)] {
		login, err := s.Login(ctx, fleet.LoginName(l.OSUser, i.Name))
		if err != nil {
			return out, err
		}
		out.Logins = append(out.Logins, login)
	}
	if len(all) > 0 {
		to, err := s.store.LoginsToSweep(ctx, []uuid.UUID{all[0].ID})
		if err != nil {
			return out, err
		}
		if to[0].Steward != nil {
			out.Steward = new(stewardOf(to[0]))
		}
	}
	m, err := s.store.MachineOf(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	out.Machine = &m
	return out, err
}

// AddLogin records a login of a user whom the instance has already.
func (s *Service) AddLogin(ctx context.Context, actor people.Actor, login string) (Login, error) {
	user, instance := fleet.CutLogin(login)
	if name.CheckUser(user) != nil {
		return Login{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-login",
			Field:  "login",
			Detail: fmt.Sprintf("%q is not a login", login),
			Remedy: "Write it user@instance",
		}
	}
	i, err := s.fleet.Instance(ctx, instance)
	if err != nil {
		return Login{}, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		added, err := tx.AskForLogin(ctx, i.ID, user)
		if err != nil || !added {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "login.add", "login", fleet.LoginName(user, i.Name), "", journal.Facts{},
		))
	})
	if err != nil {
		return Login{}, err
	}
	return s.Login(ctx, fleet.LoginName(user, i.Name))
}

// ForgetLogin deletes the record of a login that nobody is granted and that has no history. A reading that
// finds somebody who gets in records it again.
func (s *Service) ForgetLogin(ctx context.Context, actor people.Actor, login string) error {
	l, i, err := s.fleet.LoginNamed(ctx, login)
	if err != nil {
		return err
	}
	called := fleet.LoginName(l.OSUser, i.Name)
	refuse := func(code, detail, remedy string) error {
		return &problem.Problem{
			Kind: problem.Conflict, Code: code, Where: []string{called}, Detail: detail, Remedy: remedy,
		}
	}
	if l.OSUser == i.LoginUser {
		return refuse(
			"main-login", called+" is the instance's own login", "Release the instance: plumlatch instance release "+i.Name,
		)
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		history, err := tx.HasHistory(ctx, l.ID)
		if err != nil {
			return err
		}
		if history {
			return refuse("has-history", called+" is or was granted, or somebody proved a key there, which is kept", "")
		}
		if err := tx.ForgetLogin(ctx, l.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "login.forget", "login", called, "", nil))
	})
}
