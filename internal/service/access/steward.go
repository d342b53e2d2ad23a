package access

import (
	"context"
	"errors"
	"time"

	"plumlatch/internal/core/grants"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Granted is a grant and what is being done about it.
type Granted struct {
	Key   record.Key
	Login record.Login
	// Name is the login's, user@instance.
	Name     string
	Line     string
	Instance record.Instance
	// Until is when the grant ends, by what EndBy says.
	Until *time.Time
	EndBy grants.EndBy
	// Run places or removes the line; nil where the caller does that.
	Run *record.Run
}

// AddSteward makes a steward key for an instance that has none and grants it the
// instance's own login. The caller places the line from their own machine, in a run.
func (s *Service) AddSteward(ctx context.Context, actor people.Actor, instance string) (Granted, error) {
	l, i, err := s.fleet.LoginNamed(ctx, instance)
	if err != nil {
		return Granted{}, err
	}
	out := Granted{Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i}
	var run record.Run
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if out.Key, err = s.fleet.NewSteward(ctx, tx, actor, i); err != nil {
			return err
		}
		grant := record.Grant{
			ID:        store.NewID(),
			KeyID:     out.Key.ID,
			LoginID:   l.ID,
			GrantedAt: s.now(),
			GrantedBy: actor.Name,
			Reason:    "steward key",
		}
		if err := tx.AddGrants(ctx, []record.Grant{grant}); err != nil {
			return err
		}
		run = s.engine.NewRun(runs.Request{
			Kind:     grantKind,
			Instance: i,
			By:       actor.Name,
			Reason:   "steward key",
			Payload:  grantWork{Key: out.Key.ID, Login: l.ID, Added: true, Worker: actor.Name},
			At:       s.now(),
		})
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "steward.add", "instance", i.Name, "", nil,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) && taken.Constraint != "runs_one_live" {
		return Granted{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "steward-there",
			Where:  []string{i.Name},
			Detail: i.Name + " has a steward key already",
			Remedy: "See it: plumlatch openers " + i.Name,
		}
	}
	out.Line = s.keys.LineFor(out.Key)
	return s.startGranted(ctx, out, run, err)
}
