package access

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/steward"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
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
	// Limits are the options that its line has; nil for those that lines of the key have there.
	Limits *string
	// Run places or removes the line; nil where the caller does that.
	Run *record.Run
}

// AddSteward makes a steward key for an instance that has none and grants it the
// instance's own login, or that of an account of its own, "" for none. The caller makes the account and places the line
// from their own machine, in a run.
func (s *Service) AddSteward(ctx context.Context, actor people.Actor, instance, account string) (Granted, error) {
	l, i, err := s.fleet.LoginNamed(ctx, instance)
	if err != nil {
		return Granted{}, err
	}
	if account != "" {
		if l, err = s.accountLogin(ctx, i, account); err != nil {
			return Granted{}, err
		}
	}
	out := Granted{Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i}
	var run record.Run
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if out.Key, err = s.fleet.NewSteward(ctx, tx, actor, i, account); err != nil {
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
		note := s.journal.Entry(actor.By(), "steward.add", "instance", i.Name, "", nil)
		if account != "" {
			note = s.journal.Entry(
				actor.By(), "steward.add:account", "instance", i.Name, "", journal.Facts{"user": account},
			)
		}
		return tx.Note(ctx, note)
	})
	var taken *store.TakenError
	if errors.As(err, &taken) && taken.Constraint != "runs_one_live" {
		return Granted{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "steward-there",
			Where:  []string{i.Name},
			Detail: i.Name + " has a steward key already",
			Remedy: "See who gets in: plumlatch openers " + i.Name +
				". To change as whom it logs in, withdraw it first: plumlatch instance steward " + i.Name + " -withdraw -with FILE",
		}
	}
	out.Line = s.keys.LineFor(out.Key)
	return s.startGranted(ctx, out, run, err)
}

// accountLogin returns the login of an account of the service's own, which is recorded as one that was found: nobody
// but the service has to get in to it.
func (s *Service) accountLogin(ctx context.Context, i record.Instance, account string) (record.Login, error) {
	a := steward.Account{User: account, Changes: []string{i.LoginUser}, Server: steward.DefaultServer}
	if err := a.Check(); err != nil {
		return record.Login{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-account",
			Field:  "account",
			Detail: err.Error(),
			Remedy: "Name a user that is not there yet, such as " + steward.DefaultUser,
		}
	}
	all, err := s.store.FindLogins(ctx, i.ID, []string{account}, s.now())
	return all[account], err
}

// Steward is the steward key of an instance.
type Steward struct {
	Key record.Key
	// Login is the one that it opens, user@instance; Own is whether its user is an account of the service's own.
	Login string
	Own   bool
	// Changes are the users whose files it may change by sudo, as it last read the machine.
	Changes []string
}

// StewardOf returns the steward key of an instance.
func (s *Service) StewardOf(ctx context.Context, instance string) (Steward, error) {
	l, i, err := s.fleet.LoginNamed(ctx, instance)
	if err != nil {
		return Steward{}, err
	}
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return Steward{}, err
	}
	if len(found) == 0 || found[0].Steward == nil {
		return Steward{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-steward",
			Where:  []string{i.Name},
			Detail: "there is no steward key on " + i.Name,
			Remedy: "Place one: plumlatch instance steward " + i.Name + " -with FILE",
		}
	}
	return stewardOf(found[0]), nil
}

func stewardOf(l record.LoginToSweep) Steward {
	return Steward{
		Key:     *l.Steward,
		Login:   fleet.LoginName(l.StewardUser(), l.Instance.Name),
		Own:     l.Steward.StewardUser != "",
		Changes: l.Changes,
	}
}

// EntryBeside returns the completed login by which lines may be removed from l: that of the steward key where it opens
// l itself. Where it acts there from another user's, it shows nothing of l, and then it is one with another key than
// those that go, on record and signed with it, of a key that is freshly proved and that the server accepts now.
func (s *Service) EntryBeside(
	ctx context.Context, l record.LoginToSweep, by sshio.Entry, going ...means.Key,
) (sshio.Entry, error) {
	if by.Key() != nil {
		return by, nil
	}
	proofs, err := s.store.SignedEntries(ctx, l.ID, s.now().Add(-s.Fresh), mostEntries)
	if err != nil {
		return sshio.Entry{}, err
	}
	for _, p := range proofs {
		k, err := s.store.KeyByID(ctx, p.KeyID)
		if err != nil {
			return sshio.Entry{}, err
		}
		if slices.ContainsFunc(going, func(g means.Key) bool { return bytes.Equal(g.Blob, k.Blob) }) ||
			k.State != custody.Active {
			continue
		}
		entry, err := EntryIn(p, k, l.Instance, l.OSUser)
		if err != nil {
			continue
		}
		accepted, err := sshio.Accepts(ctx, s.fleet.Target(l.Instance, l.OSUser), k.Blob)
		if err != nil {
			return sshio.Entry{}, reading.Reaching(err)
		}
		if accepted {
			return entry, nil
		}
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	return sshio.Entry{}, fmt.Errorf(
		"the steward key logs in as %s, which does not show that another key opens %s, and nobody has shown it within %s; "+
			"log in and say so first: plumlatch prove %s -with FILE",
		l.StewardUser(), name, text.Counted(int(s.Fresh/(24*time.Hour)), "day"), name,
	)
}

// mostEntries is how many reported logins are looked through for one whose key is still accepted.
const mostEntries = 50
