package replace

import (
	"context"
	"fmt"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/work"
	"plumlatch/internal/sshio"
)

// RunKind is the kind of the runs that replace one key in one login.
const RunKind = "rotate"

// rotating has the steps of the run that replaces one key on one login. The steward's
// session stays open from step to step.
type rotating struct {
	*Service
	run     record.Run
	work    *Work
	session *sshio.Session
	end     func()
	// signer is the new key's, once the safe was opened.
	signer ssh.Signer
	// about is what it works on, once that was read.
	about *subject
	// counted is whether it is among the runs that are at work.
	counted bool
	// by is the login that was completed in this pass of a worker; none before.
	by sshio.Entry
}

func WorkOf(run record.Run) (*Work, error) {
	return runs.PayloadOf(run, runs.NoEarlier[Work])
}

// plan gives the steps that core ordered.
func (s *Service) plan(run record.Run) (runs.Plan, error) {
	w, err := WorkOf(run)
	if err != nil {
		return runs.Plan{}, err
	}
	e := &rotating{Service: s, run: run, work: w, end: func() {}}
	phase, kept := w.Phase, w.Kept
	names, host := w.names(), run.Instance.Name
	hand := hands[w.Means]
	if hand.by == nil {
		return runs.Plan{}, fmt.Errorf("%w: there are no means %q", runs.ErrPayload, w.Means)
	}
	means, by := hand.by(w), hand.proof(w)
	if kept {
		by = "the new key"
	}
	seeing := "See that the old key is refused and the new one still opens"
	withBy := "Complete a login to " + host + " with " + by + " so that the old line may go"
	removing := "Remove the old line by " + means + ": " + names
	if phase == rotation.Forced {
		removing += ", although nobody has logged in with the new key: " + w.Override.String() + " has taken that on"
		seeing = "See that the old key is refused and the new one accepted"
	}
	steps := map[rotation.Step]runs.Step{
		rotation.Place: {
			Name:       "place",
			Title:      "Place the new line",
			Intent:     "Place the line beside the old on " + host + " by " + means + ": " + names,
			UndoIntent: "Remove the new line again",
			Do:         e.place,
			Undo:       e.takeBack,
		},
		rotation.Enter: {Name: "enter", Title: "Log in", Intent: withBy, Do: e.enter},
		rotation.Remove: {
			Name:       "remove",
			Title:      "Remove the old line",
			Intent:     removing,
			UndoIntent: "Place the old line again",
			Do:         e.remove,
			Undo:       e.putBack,
		},
		rotation.See: {Name: "see", Title: "See who gets in", Intent: seeing, Do: e.see},
		rotation.TakeBack: {
			Name:   "take-back",
			Title:  "Remove the new line",
			Intent: "Remove the new line, so that all is as before",
			Do: func(ctx context.Context, p *runs.Progress) (string, error) {
				return "the new line is gone", e.takeBack(ctx, p)
			},
		},
	}
	plan := runs.Plan{Payload: w, Ended: e.ended, Close: func() {
		if e.counted {
			s.busy.Add(-1)
		}
		e.end()
	}, After: func(ctx context.Context) error {
		return s.After(ctx, w.Rotation)
	}}
	for _, name := range rotation.Steps(phase, kept) {
		step := steps[name]
		step.Patience = fleet.SshPatience
		switch {
		case w.Worker != "":
			step = s.runs.Elsewhere(step, run, w.Worker, "plumlatch rotate retry "+w.Rotation.String())
		case phase == rotation.Forced: // what was taken on is not taken back by itself
			step.Undo, step.UndoIntent = nil, ""
		}
		plan.Steps = append(plan.Steps, step)
	}
	return plan, nil
}

// steward returns the steward's session, which is kept for the later steps.
func (e *rotating) steward(ctx context.Context, r subject) (*sshio.Session, error) {
	if e.session != nil {
		return e.session, nil
	}
	session, end, err := e.reading.StewardSession(context.WithoutCancel(ctx), r.login)
	if err != nil {
		return nil, reading.Reaching(err)
	}
	e.session, e.end = session, end
	return session, nil
}

// changing changes the files by the run's means.
func (e *rotating) changing(
	ctx context.Context, p *runs.Progress, r subject, change func(*means.Door) (means.Seen, error),
) (means.Seen, error) {
	return hands[e.work.Means].change(ctx, e, p, r, change)
}

func (e *rotating) record(ctx context.Context, r subject, read means.Seen) (string, error) {
	return e.recordTogether(ctx, reading.Look{
		Login:  r.login.Login,
		Name:   fleet.LoginName(r.login.OSUser, r.login.Instance.Name),
		Seen:   reading.SeenBy(read),
		Method: hands[e.work.Means].method,
		By:     journal.ForRun(e.run),
		At:     e.now(),
	})
}

func (e *rotating) place(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	read, err := e.changing(ctx, p, r, func(d *means.Door) (means.Seen, error) {
		return d.PlaceBeside(ctx, e.reading.MeansKey(r.old), e.reading.MeansKey(r.New))
	})
	if err != nil {
		return "", err
	}
	if e.work.Phase == rotation.Whole {
		return "the new line is in place beside the old one", nil // the look after the removal is the one that is recorded
	}
	outcome, err := e.record(ctx, r, read)
	if err != nil {
		return "", err
	}
	accepted, err := sshio.Accepts(ctx, e.jumps.Target(r.login.Instance, r.login.OSUser), r.New.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		return "", fmt.Errorf("the line is in place there, but the SSH server does not accept %s", r.New.Name)
	}
	return "the new line is in place beside the old one, and the SSH server accepts it; " + outcome, nil
}

// takeBack removes the new line if this rotation placed it. One that was shown to open the login
// stays, unless a login with the old key is completed now; and always where that is lost.
func (e *rotating) takeBack(ctx context.Context, p *runs.Progress) error {
	r, err := e.begin(ctx)
	if err != nil {
		return err
	}
	if !e.work.Journal.HasPlaced(r.New.Blob) {
		return nil
	}
	if r.old.State == custody.Lost {
		return fmt.Errorf("%s is lost, so the line of %s stays", r.old.Name, r.New.Name)
	}
	old, fresh := e.reading.MeansKey(r.old), e.reading.MeansKey(r.New)
	take := func(d *means.Door) (means.Seen, error) { return d.TakeBack(ctx, false, []means.Key{old}, fresh) }
	proved, err := e.newProved(ctx, r)
	if err != nil {
		return err
	}
	if proved {
		by, err := e.enteredWithOld(ctx, r)
		if err != nil {
			return err
		}
		take = func(d *means.Door) (means.Seen, error) { return d.Remove(ctx, by, fresh) }
	}
	read, err := e.changing(ctx, p, r, take)
	if err != nil {
		return err
	}
	_, err = e.record(ctx, r, read)
	return err
}

// remove takes the old lines out. Where a worker takes the run up here, the login
// that allows it is completed again.
func (e *rotating) remove(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	name := fleet.LoginName(r.login.OSUser, r.login.Instance.Name)
	var leave rotation.Override
	forced := e.work.Phase == rotation.Forced
	if forced {
		if leave, err = rotation.OverrideFor(name, name, e.work.Override.Reason, r.old.State == custody.Lost); err != nil {
			return "", err
		}
	}
	if e.by.Key() == nil && (!forced || e.work.Kept) { // a login that can be completed is, also where it need not be
		by, err := e.entered(ctx, r)
		switch {
		case err == nil:
			e.by = by
		case !forced:
			return "", err
		}
	}
	old, fresh := e.reading.MeansKey(r.old), e.reading.MeansKey(r.New)
	read, err := e.changing(ctx, p, r, func(d *means.Door) (means.Seen, error) {
		before, err := d.Read(ctx)
		if err == nil && before.Here(old.Blob) && !before.Here(fresh.Blob) {
			err = fmt.Errorf("the line of %s no longer is in place there, so that of %s stays", r.New.Name, r.old.Name)
		}
		switch {
		case err != nil:
			return before, err
		case e.by.Key() != nil:
			return d.Remove(ctx, e.by, old)
		}
		return d.RemoveForced(ctx, name, leave, fresh, old)
	})
	if err != nil {
		return "", err
	}
	outcome, err := e.record(ctx, r, read)
	if e.by.Key() == nil {
		outcome = "no login was completed with another key; " + outcome
	}
	return "the old line is gone; " + outcome, err
}

// putBack places again what this run removed, with the options that it had.
func (e *rotating) putBack(ctx context.Context, p *runs.Progress) error {
	r, err := e.begin(ctx)
	if err != nil {
		return err
	}
	read, err := e.changing(ctx, p, r, func(d *means.Door) (means.Seen, error) { return d.PutBack(ctx) })
	if err != nil {
		return err
	}
	_, err = e.record(ctx, r, read)
	return err
}

// Job says how the steps of a rotation are taken from somebody's own machine.
func (s *Service) job() work.Job {
	return work.Job{
		Worker: func(run record.Run) (string, error) {
			w, err := WorkOf(run)
			if err != nil {
				return "", err
			}
			return w.Worker, nil
		},
		Seeing: string(rotation.See),
		Subject: func(ctx context.Context, run record.Run) (work.SubjectOfJob, error) {
			w, err := WorkOf(run)
			if err != nil {
				return work.SubjectOfJob{}, err
			}
			r, err := (&rotating{Service: s, run: run, work: w}).subject(ctx)
			return work.SubjectOfJob{Login: r.login, Key: r.old}, err
		},
	}
}
