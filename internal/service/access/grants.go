package access

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// The kinds of runs that place and remove the lines of a grant.
const (
	grantKind    = "grant"
	withdrawKind = "withdraw"
)

// GrantWanted says which login a key is to open.
type GrantWanted struct {
	Key, Login string
	Until      *time.Time
	// EndBy is what ends it at Until; ByBoth unless given.
	EndBy grants.EndBy
	// Endless is whether a grant that has an end may lose it.
	Endless bool
	// Limits are options that the line has (sshd(8)); nil for those that it has now, if it is granted already.
	Limits *string
	// Judged is whether somebody has judged together with other changes what limits keep out; only a login that would be
	// shut is still refused.
	Judged bool
	Reason string
	// FromHere is whether the caller places the line.
	FromHere bool
	// Back is a run that withdrew the key there, whose lines are put back as they were; nil to place a new line.
	Back *uuid.UUID
}

// AddGrant records that the key should open the login, and has a run place its
// line unless the caller does.
func (s *Service) AddGrant(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, w GrantWanted,
) (Granted, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return Granted{}, err
	}
	if w.Until != nil && !w.Until.After(s.now()) {
		return Granted{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-until",
			Field:  "until",
			Detail: "the grant would have ended already",
			Remedy: "Give a time to come",
		}
	}
	k, err := s.keys.Key(ctx, w.Key)
	if err != nil {
		return Granted{}, err
	}
	if err := s.keys.Grantable(k); err != nil {
		return Granted{}, err
	}
	l, i, err := s.fleet.LoginNamed(ctx, w.Login)
	if err != nil {
		return Granted{}, err
	}
	out := Granted{
		Key: k, Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i, Line: s.keys.LineFor(k), Until: w.Until,
	}
	if w.EndBy, err = s.checkEnd(ctx, out, w); err != nil {
		return Granted{}, err
	}
	out.EndBy = w.EndBy
	if out.Limits, err = s.checkLimits(ctx, out, w); err != nil {
		return Granted{}, err
	}
	work := grantWork{Key: k.ID, Login: l.ID, Until: w.Until, EndBy: w.EndBy, Limits: out.Limits}
	if w.FromHere {
		work.Worker = actor.Name
	}
	if w.Back != nil {
		if work.Journal, err = s.withdrawnBy(ctx, *w.Back, work); err != nil {
			return Granted{}, err
		}
		work.Back = len(work.Journal.Removed) > 0
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     grantKind,
		Instance: i,
		By:       actor.Name,
		Reason:   w.Reason,
		Payload:  work,
		At:       s.now(),
	})
	if !w.FromHere {
		if err := s.checkMeans(ctx, l); err != nil {
			return Granted{}, err
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, run.ID.String())
		if err != nil {
			return err
		}
		if earlier != "" {
			run.ID, err = uuid.Parse(earlier)
			return err
		}
		added, err := tx.AddOrKeepGrant(ctx, record.Grant{
			ID:        store.NewID(),
			KeyID:     k.ID,
			LoginID:   l.ID,
			GrantedAt: s.now(),
			GrantedBy: actor.Name,
			Until:     w.Until,
			EndBy:     w.EndBy,
			Reason:    w.Reason,
			Limits:    given(out.Limits),
			Forced:    !authorizedkeys.OpensWith(given(out.Limits)),
		})
		if err != nil {
			return err
		}
		work.Added = added
		if run.Payload, err = runs.Encode(work); err != nil {
			return err
		}
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "grant.add", "login", out.Name, w.Reason,
				journal.Facts{"key": k.Name, "until": untilFact(w.Until), "limits": given(out.Limits)},
			),
			k.Name,
		))
	})
	return s.startGranted(ctx, out, run, err)
}

// limitsOf are the limits that a grant has; nil for none, so that those of lines that are there stay.
func limitsOf(limits string) *string {
	if limits == "" {
		return nil
	}
	return &limits
}

func given(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// checkLimits returns the limits that the line is to have; nil for those that lines of the key have there. It refuses
// those by which the login would be left shut or thin.
func (s *Service) checkLimits(ctx context.Context, g Granted, w GrantWanted) (*string, error) {
	has, err := s.store.LiveGrant(ctx, g.Login.ID, g.Key.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if w.Limits == nil {
		return limitsOf(has.Limits), nil
	}
	limits, failed := authorizedkeys.ReadLimits(*w.Limits)
	if failed != nil {
		return nil, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-limits", Field: "limits", Detail: failed.Error(),
			Remedy: `Write them as sshd(8) does before a key: from="192.0.2.0/24",no-pty`,
		}
	}
	if authorizedkeys.OpensWith(limits) {
		return &limits, nil
	}
	i := g.Instance
	return &limits, s.checkLeft(ctx, g.Key, g.Login, i, Withdrawal{AtEnd: w.Judged})
}

// withdrawnBy returns which lines a run has removed of the key and the login that w is about.
func (s *Service) withdrawnBy(ctx context.Context, run uuid.UUID, w grantWork) (means.Journal, error) {
	earlier, err := s.store.RunByID(ctx, run)
	if errors.Is(err, store.ErrNotFound) {
		return means.Journal{}, nil
	}
	if err != nil || earlier.Kind != withdrawKind {
		return means.Journal{}, err
	}
	was, err := grantWorkOf(earlier)
	if err != nil || was.Key != w.Key || was.Login != w.Login {
		return means.Journal{}, err
	}
	return means.Journal{Removed: was.Journal.Removed}, nil
}

// untilFact is a grant's end as the daybook keeps it, "" for none.
func untilFact(at *time.Time) string {
	if at == nil {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}

func (s *Service) startGranted(ctx context.Context, out Granted, run record.Run, err error) (Granted, error) {
	var taken *store.TakenError
	if errors.As(err, &taken) && taken.Constraint == "runs_one_live" {
		return Granted{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "run-at-work",
			Where:  []string{out.Instance.Name},
			Detail: "another run is at work on " + out.Instance.Name,
			Remedy: "Wait for it: plumlatch run list -instance " + out.Instance.Name,
		}
	}
	if err != nil {
		return out, err
	}
	if run, err = s.store.RunByID(ctx, run.ID); err != nil {
		return out, err
	}
	if run.EndedAt == nil {
		s.engine.Wake(ctx, run.ID)
		if w, err := grantWorkOf(run); err == nil && w.Worker != "" { // who continues once the first step is begun
			if err := s.runs.AwaitStep(ctx, run.ID, ""); err != nil {
				return out, err
			}
			if run, err = s.store.RunByID(ctx, run.ID); err != nil {
				return out, err
			}
		}
	}
	out.Run = &run
	return out, nil
}

// WhyNoMeans says why the service cannot change the files of a login by itself; "" if it can.
func (s *Service) WhyNoMeans(ctx context.Context, l record.ReachLogin) (string, error) {
	err := s.checkMeans(ctx, record.Login{ID: l.ID})
	var p *problem.Problem
	if errors.As(err, &p) {
		return p.Detail, nil
	}
	return "", err
}

// checkMeans refuses a change that the service has no way to make.
func (s *Service) checkMeans(ctx context.Context, l record.Login) error {
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{l.ID})
	if err != nil {
		return err
	}
	if p := s.NoMeans(found[0]); p != nil {
		return p
	}
	return nil
}

// NoMeans says why the service cannot change the files of a login; nil if it can.
func (s *Service) NoMeans(l record.LoginToSweep) *problem.Problem {
	i := l.Instance
	p := &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "no-means",
		Where:  []string{fleet.LoginName(l.OSUser, i.Name)},
		Remedy: "Do it from your machine with a key that opens it: add -with FILE or -agent",
	}
	switch {
	case i.State != machines.Running:
		p.Detail, p.Remedy = fmt.Sprintf("%s is %s", i.Name, i.State), "Start it first: plumlatch instance start "+i.Name
	case l.Steward == nil:
		p.Detail = "there is no steward key on " + i.Name + ", so the service cannot change its files"
	case s.Safe == nil:
		return problem.NoSafe()
	case !l.StewardChanges():
		p.Detail = reading.NotOf(l)
	default:
		return nil
	}
	return p
}

// Withdrawal says which grant is to end.
type Withdrawal struct {
	Key, Login, Reason string
	// Anyway is whether to continue where the login would be left shut or thin.
	Anyway   bool
	FromHere bool
	// AtEnd is whether the grant's time is over: then only a login that would be shut keeps it.
	AtEnd bool
}

// WithdrawGrant ends a grant, and has a run remove its line unless the caller does.
func (s *Service) WithdrawGrant(ctx context.Context, actor people.Actor, w Withdrawal) (Granted, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return Granted{}, err
	}
	if w.Anyway && w.Reason == "" {
		return Granted{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "to continue anyway needs a reason, for the daybook",
			Remedy: "Say why: -reason TEXT",
		}
	}
	k, err := s.keys.Key(ctx, w.Key)
	if err != nil {
		return Granted{}, err
	}
	l, i, err := s.fleet.LoginNamed(ctx, w.Login)
	if err != nil {
		return Granted{}, err
	}
	out := Granted{Key: k, Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i, Line: s.keys.LineFor(k)}
	if !w.FromHere {
		if err := s.checkMeans(ctx, l); err != nil {
			return Granted{}, err
		}
	}
	if k.StewardOf != nil && !w.FromHere {
		// The steward would take its own line out, and nobody would have shown that another key opens the login.
		return Granted{}, &problem.Problem{
			Kind:  problem.Conflict,
			Code:  "steward-from-here",
			Where: []string{out.Name},
			Detail: "the steward key does not take itself away, " +
				"since nothing would show that another key still opens " + out.Name,
			Remedy: "Do it from your machine: plumlatch instance steward " + i.Name + " -withdraw -with FILE",
		}
	}
	if err := s.checkLeft(ctx, k, l, i, w); err != nil {
		return Granted{}, err
	}
	work := grantWork{Key: k.ID, Login: l.ID}
	if w.FromHere {
		work.Worker = actor.Name
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     withdrawKind,
		Instance: i,
		By:       actor.Name,
		Reason:   w.Reason,
		Payload:  work,
		At:       s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		// The grant ends when its line is gone, and a steward key's private key with it.
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "grant.withdraw", "login", out.Name, w.Reason,
				journal.Facts{"key": k.Name},
			),
			k.Name,
		))
	})
	return s.startGranted(ctx, out, run, err)
}

// checkLeft refuses a withdrawal that leaves the login shut or thin, unless
// told to continue. The steward key and one that is lost anyway may always go.
func (s *Service) checkLeft(ctx context.Context, k record.Key, l record.Login, i record.Instance, by Withdrawal) error {
	if by.Anyway || k.StewardOf != nil || k.State == custody.Lost {
		return nil
	}
	judge := reach.Worse
	if by.AtEnd {
		judge = grants.Keeps
	}
	change, worse, err := s.without(ctx, k, l, judge)
	if err != nil || !worse {
		return err
	}
	name := fleet.LoginName(l.OSUser, i.Name)
	return &problem.Problem{
		Kind:   problem.Forbidden,
		Code:   "would-be-" + string(change.After),
		Where:  []string{name},
		Detail: fmt.Sprintf("without %s, %s would be %s; it is %s now", k.Name, name, change.After, change.Before),
		Remedy: "Grant it to another holder's key first, or continue with -anyway and -reason TEXT",
	}
}

// without judges how a login would be without a key.
func (s *Service) without(
	ctx context.Context, k record.Key, l record.Login, judge func(reach.Input, int, int) (reach.Change, bool),
) (change reach.Change, worse bool, err error) {
	w, err := s.World(ctx, record.ReachFilter{Instance: l.InstanceID})
	if err != nil {
		return change, false, err
	}
	if place, key := w.LoginPlace(l.ID), w.KeyPlace(k.ID); place >= 0 && key >= 0 {
		change, worse = judge(w.Input, key, place)
	}
	return change, worse, nil
}

// Overdue reports whether the grant is in force though its time is over.
func (s *Service) Overdue(g record.GrantRecord) bool {
	return g.WithdrawnAt == nil && grants.Overdue(g.Until, g.EndProblem, s.now())
}

// Grants returns one page of grants.
func (s *Service) Grants(
	ctx context.Context, f record.GrantFilter, p record.Page,
) (record.List[record.GrantRecord], error) {
	f.At = s.now()
	l, err := s.store.Grants(ctx, f, p)
	return l, problem.FromPage(err)
}
