package access

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/work"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// The kinds of runs that place and remove the lines of a grant.
const (
	grantKind    = "grant"
	withdrawKind = "withdraw"
)

// endGrantsEvery is how soon after its end a grant is withdrawn.
const endGrantsEvery = time.Minute

// GrantWanted says which login a key is to open.
type GrantWanted struct {
	Key, Login string
	Until      *time.Time
	Reason     string
	// FromHere is whether the caller places the line.
	FromHere bool
}

// AddGrant records that the key should open the login, and has a run place its
// line unless the caller does.
func (s *Service) AddGrant(
	ctx context.Context,
	actor people.Actor,
	once journal.IdempotencyKey,
	w GrantWanted,
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
	out := Granted{Key: k, Login: l, Name: fleet.LoginName(l.OSUser, i.Name), Instance: i, Line: s.keys.LineFor(k)}
	work := grantWork{Key: k.ID, Login: l.ID}
	if w.FromHere {
		work.Worker = actor.Name
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
		added, err := tx.AddOrKeepGrant(
			ctx,
			record.Grant{
				ID:        store.NewID(),
				KeyID:     k.ID,
				LoginID:   l.ID,
				GrantedAt: s.now(),
				GrantedBy: actor.Name,
				Until:     w.Until,
				Reason:    w.Reason,
			},
		)
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
		return tx.Note(
			ctx,
			journal.OnKeys(
				s.journal.Entry(
					actor.By(),
					"grant.add",
					"login",
					out.Name,
					w.Reason,
					"%s granted %s to the key %s%s.",
					actor.Name,
					out.Name,
					k.Name,
					untilWords(w.Until),
				),
				k.Name,
			),
		)
	})
	return s.startGranted(ctx, out, run, err)
}

func untilWords(at *time.Time) string {
	if at == nil {
		return ""
	}
	return " until " + at.UTC().Format("2 Jan 2006 15:04 UTC")
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
		if w, err := grantWorkOf(run); err == nil && w.Worker != "" { // who goes on once the first step is begun
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
	case i.State != "running":
		p.Detail, p.Remedy = fmt.Sprintf("%s is %s", i.Name, i.State), "Start it first: plumlatch instance start "+i.Name
	case l.Steward == nil:
		p.Detail = "there is no steward key on " + i.Name + ", so the service cannot change its files"
	case s.Safe == nil:
		return problem.NoSafe()
	case l.OSUser != i.LoginUser:
		p.Detail = fmt.Sprintf("the steward key of %s is that of %s", i.Name, i.LoginUser)
	default:
		return nil
	}
	return p
}

// Withdrawal says which grant is to end.
type Withdrawal struct {
	Key, Login, Reason string
	// Anyway is whether to go on where the login would be left shut or thin.
	Anyway   bool
	FromHere bool
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
			Detail: "to go on anyway needs a reason, for the daybook",
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
			Remedy: "Do it from your machine with a key that opens it: add -with FILE or -agent",
		}
	}
	if err := s.checkLeft(ctx, k, l, i, w.Anyway); err != nil {
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
		// The grant ends when its line is gone, and a steward key's private half with it.
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			journal.OnKeys(
				s.journal.Entry(
					actor.By(),
					"grant.withdraw",
					"login",
					out.Name,
					w.Reason,
					"%s asked to withdraw %s from the key %s.",
					actor.Name,
					out.Name,
					k.Name,
				),
				k.Name,
			),
		)
	})
	return s.startGranted(ctx, out, run, err)
}

// checkLeft refuses a withdrawal that leaves the login shut or thin, unless
// told to go on. The steward key and one that is lost anyway may always go.
func (s *Service) checkLeft(ctx context.Context, k record.Key, l record.Login, i record.Instance, anyway bool) error {
	if anyway || k.StewardOf != nil || k.State == "lost" {
		return nil
	}
	w, err := s.World(ctx, record.ReachFilter{Instance: i.ID})
	if err != nil {
		return err
	}
	place, key := w.LoginPlace(l.ID), w.KeyPlace(k.ID)
	if place < 0 || key < 0 {
		return nil
	}
	for _, change := range reach.Loss(w.Input, key) {
		if change.Login == place && (change.After == reach.Shut || change.After == reach.Thin) &&
			reach.Rank(change.After) < reach.Rank(change.Before) {
			return &problem.Problem{
				Kind:  problem.Conflict,
				Code:  "would-be-" + string(change.After),
				Where: []string{fleet.LoginName(l.OSUser, i.Name)},
				Detail: fmt.Sprintf(
					"without %s, %s would be %s; it is %s now",
					k.Name,
					fleet.LoginName(l.OSUser, i.Name),
					change.After,
					change.Before,
				),
				Remedy: "Grant it to another keeper's key first, or go on with -anyway and -reason TEXT",
			}
		}
	}
	return nil
}

// Grants returns one page of grants.
func (s *Service) Grants(
	ctx context.Context,
	f record.GrantFilter,
	p record.Page,
) (record.List[record.GrantRecord], error) {
	l, err := s.store.Grants(ctx, f, p)
	return l, problem.FromPage(err)
}

// endGrants withdraws the grants whose time is over. One that may not go, or
// cannot be reached, stays, and the daybook says why, once.
func (s *Service) endGrants(ctx context.Context) error {
	over, err := s.store.GrantsOver(ctx, s.now(), 200)
	if err != nil {
		return err
	}
	for _, g := range over {
		actor := people.TheService
		_, err := s.WithdrawGrant(
			ctx,
			actor,
			Withdrawal{Key: g.KeyName, Login: fleet.LoginName(g.OSUser, g.InstanceName), Reason: "its time is over"},
		)
		var p *problem.Problem
		if !errors.As(err, &p) {
			if err != nil {
				return err
			}
			continue
		}
		if p.Code == "run-at-work" || g.EndRefused {
			continue
		}
		e := journal.OnKeys(
			s.journal.Entry(
				actor.By(),
				"grant.end",
				"login",
				fleet.LoginName(g.OSUser, g.InstanceName),
				"",
				"The grant of %s to %s is over, but was not withdrawn: %s.",
				fleet.LoginName(g.OSUser, g.InstanceName),
				g.KeyName,
				p.Detail,
			),
			g.KeyName,
		)
		e.Outcome = "refused"
		if err := s.store.InTx(ctx, func(tx *store.Store) error {
			if err := tx.NoteEndRefused(ctx, g.ID); err != nil {
				return err
			}
			return tx.Note(ctx, e)
		}); err != nil {
			return err
		}
	}
	return nil
}

// edit has the steps of the runs that place or remove the lines of one key.
type edit struct {
	*Service
	run  record.Run
	work *grantWork
}

func grantWorkOf(run record.Run) (*grantWork, error) {
	return runs.PayloadOf(run, runs.NoEarlier[grantWork])
}

func (s *Service) grantPlan(run record.Run) (runs.Plan, error) {
	w, err := grantWorkOf(run)
	if err != nil {
		return runs.Plan{}, err
	}
	e := &edit{s, run, w}
	by := "with the steward key"
	if w.Worker != "" {
		by = "from the machine of " + w.Worker
	}
	host := run.Instance.Name
	steps := []runs.Step{
		{
			Name:       "place",
			Title:      "Place the line",
			Intent:     "Log in to " + host + " " + by + " and place the key's line",
			UndoIntent: "Remove the line again",
			Do:         e.place,
			Undo:       e.takeBack,
			Patience:   fleet.SshPatience,
		},
		{
			Name:     "ask",
			Title:    "Ask the SSH server",
			Intent:   "See that the SSH server accepts the key",
			Do:       e.ask(true),
			Patience: fleet.SshPatience,
		},
	}
	if run.Kind == withdrawKind {
		steps = []runs.Step{
			{
				Name:       "remove",
				Title:      "Remove the line",
				Intent:     "Log in to " + host + " " + by + " and remove the key's line",
				UndoIntent: "Place the line again",
				Do:         e.remove,
				Undo:       e.putBack,
				Patience:   fleet.SshPatience,
			},
			{
				Name:     "ask",
				Title:    "Ask the SSH server",
				Intent:   "See that the SSH server refuses the key",
				Do:       e.ask(false),
				Patience: fleet.SshPatience,
			},
		}
	}
	if w.Worker != "" {
		for n, step := range steps {
			steps[n] = s.runs.Elsewhere(step, run, w.Worker, "plumlatch run watch "+run.ID.String())
		}
	}
	return runs.Plan{Payload: w, Ended: e.ended, Steps: steps}, nil
}

// subject returns the key and the login of the run.
func (e *edit) subject(ctx context.Context, from *store.Store) (record.Key, record.LoginToSweep, error) {
	k, err := from.KeyByID(ctx, e.work.Key)
	if err != nil {
		return k, record.LoginToSweep{}, err
	}
	found, err := from.LoginsToSweep(ctx, []uuid.UUID{e.work.Login})
	if err != nil || len(found) == 0 {
		return k, record.LoginToSweep{}, cmp.Or(err, store.ErrNotFound)
	}
	return k, found[0], nil
}

// changing changes the files of the run's login with the steward key, and records what they hold
// afterwards.
func (e *edit) changing(
	ctx context.Context,
	p *runs.Progress,
	change func(d *means.Door, by sshio.Entry, k means.Key) (means.Seen, error),
) (outcome string, err error) {
	k, l, err := e.subject(ctx, e.store)
	if err != nil {
		return "", err
	}
	d, by, end, err := e.reading.StewardDoor(ctx, p, l, &e.work.Journal)
	if err != nil {
		return "", err
	}
	defer end()
	read, err := change(d, by, e.reading.MeansKey(k))
	if err != nil {
		return "", reading.Reaching(err)
	}
	return e.reading.RecordSeen(ctx, l, e.run.RequestedBy, read)
}

func (e *edit) place(ctx context.Context, p *runs.Progress) (string, error) {
	outcome, err := e.changing(
		ctx,
		p,
		func(d *means.Door, _ sshio.Entry, k means.Key) (means.Seen, error) { return d.Place(ctx, k) },
	)
	if err != nil {
		return "", err
	}
	return "the line stands there; " + outcome, nil
}

// takeBack removes the line if this run placed it. One that stood there before
// is not this run's to remove.
func (e *edit) takeBack(ctx context.Context, p *runs.Progress) error {
	_, err := e.changing(ctx, p, func(d *means.Door, _ sshio.Entry, k means.Key) (means.Seen, error) {
		return d.TakeBack(ctx, false, nil, k)
	})
	return err
}

// remove takes the key's lines out. The login with the steward key shows that another key opens it.
func (e *edit) remove(ctx context.Context, p *runs.Progress) (string, error) {
	outcome, err := e.changing(
		ctx,
		p,
		func(d *means.Door, by sshio.Entry, k means.Key) (means.Seen, error) { return d.Remove(ctx, by, k) },
	)
	if err != nil {
		return "", err
	}
	return "the line is gone; " + outcome, nil
}

// putBack places again what this run removed, with the options that it had.
func (e *edit) putBack(ctx context.Context, p *runs.Progress) error {
	_, err := e.changing(
		ctx,
		p,
		func(d *means.Door, _ sshio.Entry, _ means.Key) (means.Seen, error) { return d.PutBack(ctx) },
	)
	return err
}

// ask sees whether the SSH server accepts the key, as it should or should not.
func (e *edit) ask(want bool) func(context.Context, *runs.Progress) (string, error) {
	return func(ctx context.Context, _ *runs.Progress) (string, error) {
		k, l, err := e.subject(ctx, e.store)
		if err != nil {
			return "", err
		}
		accepted, err := sshio.Accepts(ctx, fleet.TargetOf(l.Instance, l.OSUser), k.Blob)
		switch {
		case err != nil:
			return "", fleet.Answering(err)
		case accepted && !want:
			return "", fmt.Errorf("the SSH server still accepts %s", k.Name)
		case !accepted && want:
			return "", fmt.Errorf(
				"the line stands there, but the SSH server does not accept %s; see why: plumlatch why %s",
				k.Name,
				l.Instance.Name,
			)
		case want:
			return "it accepts " + k.Name, nil
		}
		return "it refuses " + k.Name, nil
	}
}

// ended settles the grant with what was done: a new one whose line could not be
// placed ends, and one that was to be withdrawn ends where its line is gone.
func (e *edit) ended(ctx context.Context, tx *store.Store, state, reason string) error {
	k, l, err := e.subject(ctx, tx)
	if err != nil {
		return err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	withdrawing, done := e.run.Kind == withdrawKind, state == runs.Done
	note := journal.OnKeys(
		e.journal.Entry(
			journal.ForRun(e.run),
			"grant.placed",
			"login",
			name,
			e.run.Reason,
			"The line of %s stands in %s.",
			k.Name,
			name,
		),
		k.Name,
	)
	if withdrawing {
		note.Action, note.Sentence = "grant.removed", fmt.Sprintf("The line of %s is gone from %s.", k.Name, name)
	}
	if !done {
		note.Outcome, note.Sentence = state, fmt.Sprintf("The change of %s for %s was not done: %s.", name, k.Name, reason)
	}
	if withdrawing == done && (withdrawing || e.work.Added) {
		if err := tx.WithdrawGrant(ctx, l.ID, k.ID, e.now(), e.run.RequestedBy); err != nil {
			return err
		}
	}
	if k.StewardOf != nil &&
		(withdrawing && done || !withdrawing && !done && e.work.Added) { // its private half is of no use from now on
		if err := tx.RetireSteward(ctx, *k.StewardOf); err != nil {
			return err
		}
	}
	return tx.Note(ctx, note)
}

// grantWork is the payload of the runs that place or remove the lines of one key in one login.
type grantWork struct {
	Key   uuid.UUID `json:"key"`
	Login uuid.UUID `json:"login"`
	// Added is whether the grant was made for this, so that it ends where this fails.
	Added bool `json:"added,omitempty"`
	// Worker is who changes the lines from their own machine; "" for the service.
	Worker  string        `json:"worker,omitempty"`
	Journal means.Journal `json:"journal"`
}

// grantJob says how the steps of a grant or a withdrawal are taken from somebody's own machine.
func (s *Service) grantJob() work.Job {
	return work.Job{
		Worker: func(run record.Run) (string, error) {
			w, err := grantWorkOf(run)
			if err != nil {
				return "", err
			}
			return w.Worker, nil
		},
		Seeing: "ask",
		Subject: func(ctx context.Context, run record.Run) (work.SubjectOfJob, error) {
			w, err := grantWorkOf(run)
			if err != nil {
				return work.SubjectOfJob{}, err
			}
			k, l, err := (&edit{s, run, w}).subject(ctx, s.store)
			return work.SubjectOfJob{Login: l, Key: k, Accept: run.Kind == grantKind}, err
		},
	}
}
