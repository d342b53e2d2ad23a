package access

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

const (
	// endGrantsEvery is how soon after its end a grant is withdrawn.
	endGrantsEvery = time.Minute
	// endsAtOnce is how many grants are ended in one turn.
	endsAtOnce = 200
	// liftAhead is how long before its end a line that would shut its login by it is changed.
	liftAhead = 30 * time.Minute
	// endAgain is how soon a withdrawal that failed is tried again.
	endAgain = 10 * time.Minute
)

// checkEnd returns by what the grant ends. It refuses an end that nobody could keep, and a repetition that
// would make a grant endless without saying so.
func (s *Service) checkEnd(ctx context.Context, g Granted, w GrantWanted) (grants.EndBy, error) {
	has, err := s.store.LiveGrant(ctx, g.Login.ID, g.Key.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	if err == nil {
		if err := grants.Repeat(has.Until, w.Until, w.Endless); err != nil {
			return "", &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "would-be-endless",
				Where:  []string{g.Name},
				Detail: err.Error(),
				Remedy: "Give an end with -until, or say that it has none from now on: -endless",
			}
		}
	}
	switch {
	case w.Until == nil:
		return grants.ByService, nil
	case w.EndBy == "":
		w.EndBy = grants.ByBoth
	}
	if !w.EndBy.NeedsService() {
		return w.EndBy, nil
	}
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{g.Login.ID})
	if err != nil || len(found) == 0 {
		return "", err
	}
	found[0].Instance.State = machines.Running // one that is stopped now may run then
	if p := s.NoMeans(found[0]); p != nil {
		return "", &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-means-to-end",
			Where:  []string{g.Name},
			Detail: "the service could not withdraw the grant at its end: " + p.Detail,
			Remedy: "Have the SSH server end it by an expiry-time in the line: -end-by line. Or let the service in: " +
				"plumlatch instance steward " + g.Instance.Name + " -with FILE",
		}
	}
	if !w.EndBy.InLine() {
		return w.EndBy, nil
	}
	// A line that ends by itself does not ask whether the login is shut by it.
	if _, only, err := s.without(ctx, g.Key, g.Login, grants.Keeps); err != nil || only {
		return grants.ByService, err
	}
	return w.EndBy, nil
}

// endGrants withdraws the grants whose time is over. One that may not end, or cannot be reached, stays,
// and is told of at once and each day. Where a line would shut its login by its own end, that is taken
// away before.
func (s *Service) endGrants(ctx context.Context) error {
	now := s.now()
	ending, err := s.store.GrantsEnding(ctx, now, now.Add(liftAhead), endsAtOnce)
	if err != nil {
		return err
	}
	for _, g := range ending {
		if err := s.liftEnd(ctx, g); err != nil {
			return err
		}
	}
	over, err := s.store.GrantsOver(ctx, now, endsAtOnce)
	if err != nil {
		return err
	}
	for _, g := range over {
		if g.EndBy.InLine() { // the service may not have run before it ended
			if err := s.liftEnd(ctx, g); err != nil {
				return err
			}
		}
		if err := s.endGrant(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// endGrant withdraws a grant whose time is over, or says why it stays.
func (s *Service) endGrant(ctx context.Context, g record.GrantOver) error {
	last, err := s.store.LastRun(ctx, withdrawKind, g.LoginID, g.KeyID, g.Until)
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return err
	case err == nil && last.EndedAt == nil:
		return nil // at work
	case err == nil:
		if err := s.tellOverdue(ctx, g, last.Error); err != nil || s.now().Sub(*last.EndedAt) < endAgain {
			return err
		}
	}
	_, err = s.WithdrawGrant(ctx, people.TheService, Withdrawal{
		Key: g.KeyName, Login: fleet.LoginName(g.OSUser, g.InstanceName), Reason: "its time is over", AtEnd: true,
	})
	var p *problem.Problem
	if !errors.As(err, &p) {
		return err
	}
	if p.Code == "run-at-work" {
		return nil
	}
	if g.EndBy.InLine() {
		if ended, err := s.endedByItself(ctx, g); ended || err != nil {
			return err
		}
	}
	return s.tellOverdue(ctx, g, p.Detail)
}

// endedByItself ends the grant where the SSH server refuses the key, whose line has expired.
func (s *Service) endedByItself(ctx context.Context, g record.GrantOver) (bool, error) {
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{g.LoginID})
	if err != nil || len(found) == 0 || found[0].Instance.State != machines.Running {
		return false, err
	}
	k, err := s.store.KeyByID(ctx, g.KeyID)
	if err != nil {
		return false, err
	}
	asking, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	accepted, err := sshio.Accepts(asking, s.fleet.Target(found[0].Instance, g.OSUser), k.Blob)
	if err != nil || accepted {
		return false, ctx.Err()
	}
	return true, s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.WithdrawGrant(ctx, g.LoginID, g.KeyID, s.now(), people.TheService.Name); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				people.TheService.By(), "grant.end:line", "login", fleet.LoginName(g.OSUser, g.InstanceName), "",
				journal.Facts{"key": g.KeyName},
			),
			g.KeyName,
		))
	})
}

// askTimeout is for how long a server may take to say whether it accepts a key.
const askTimeout = 15 * time.Second

// tellOverdue writes down why a grant is still in force though its time is over: at once, with each other
// reason, and each day.
func (s *Service) tellOverdue(ctx context.Context, g record.GrantOver, why string) error {
	if !grants.Tell(g.EndProblem, why, g.EndToldAt, s.now()) {
		return nil
	}
	e := journal.OnKeys(
		s.journal.Entry(
			people.TheService.By(), "grant.end", "login", fleet.LoginName(g.OSUser, g.InstanceName), "",
			journal.Facts{"key": g.KeyName, "reason": why},
		),
		g.KeyName,
	)
	e.Outcome = "refused"
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.NoteEndProblem(ctx, g.ID, why, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, e)
	})
}

// liftEnd takes a line's own end away where the login would be shut by it and the service can still
// withdraw the grant later.
func (s *Service) liftEnd(ctx context.Context, g record.GrantOver) error {
	k, err := s.store.KeyByID(ctx, g.KeyID)
	if err != nil {
		return err
	}
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{g.LoginID})
	if err != nil || len(found) == 0 || s.NoMeans(found[0]) != nil {
		return err
	}
	l := found[0]
	change, shut, err := s.without(ctx, k, l.Login, grants.KeepsOpening)
	if err != nil || !shut {
		return err
	}
	last, err := s.store.LastRun(ctx, grantKind, g.LoginID, g.KeyID, g.Until.Add(-liftAhead))
	if err == nil && (last.EndedAt == nil ||
		last.RequestedBy == people.TheService.Name && s.now().Sub(*last.EndedAt) < endAgain) {
		return nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	name := fleet.LoginName(g.OSUser, g.InstanceName)
	run := s.engine.NewRun(runs.Request{
		Kind:     grantKind,
		Instance: l.Instance,
		By:       people.TheService.Name,
		Reason:   fmt.Sprintf("without %s, %s would be %s", g.KeyName, name, change.After),
		Payload: grantWork{
			Key: g.KeyID, Login: g.LoginID, Until: &g.Until, EndBy: g.EndBy, Lifted: true, Limits: limitsOf(g.Limits),
		},
		At: s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				people.TheService.By(), "grant.end:lift", "login", name, "", journal.Facts{"key": g.KeyName},
			),
			g.KeyName,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) { // another run is at work there; the next turn tries again
		return nil
	}
	if err == nil {
		s.engine.Wake(ctx, run.ID)
	}
	return err
}
