package access

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/work"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

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
			steps[n] = s.runs.Elsewhere(step, run, w.Worker, "plumlatch run watch "+run.Instance.Name)
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
	ctx context.Context, p *runs.Progress,
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
	also := ""
	outcome, err := e.changing(
		ctx,
		p,
		func(d *means.Door, _ sshio.Entry, k means.Key) (means.Seen, error) {
			if e.work.Back {
				if seen, err := d.PutBack(ctx); err != nil {
					return seen, err
				}
			}
			seen, err := d.PlaceAs(ctx, means.As{End: e.work.lineEnd(), Limits: e.work.Limits}, k)
			if errors.Is(err, means.ErrNoEnds) && e.work.EndBy == grants.ByBoth {
				also = "without an end of its own: " + err.Error() + "; "
				return d.PlaceAs(ctx, means.As{Limits: e.work.Limits}, k)
			}
			return seen, err
		},
	)
	if err != nil {
		return "", err
	}
	return "the line is in place there; " + also + outcome, nil
}

// takeBack removes the line if this run placed it. One that stood there before
// is not this run's to remove.
func (e *edit) takeBack(ctx context.Context, p *runs.Progress) error {
	_, err := e.changing(ctx, p, func(d *means.Door, _ sshio.Entry, k means.Key) (means.Seen, error) {
		if e.work.Back { // what was there once is no line that this run placed
			return d.Read(ctx)
		}
		if len(d.Journal.Ends) > 0 {
			return d.PutBackEnds(ctx, k)
		}
		return d.TakeBack(ctx, false, nil, k)
	})
	return err
}

// remove takes the key's lines out. The login with the steward key shows that another key opens it.
func (e *edit) remove(ctx context.Context, p *runs.Progress) (string, error) {
	outcome, err := e.changing(
		ctx,
		p,
		func(d *means.Door, by sshio.Entry, k means.Key) (means.Seen, error) {
			_, l, err := e.subject(ctx, e.store)
			if err == nil {
				by, err = e.EntryBeside(ctx, l, by, k)
			}
			if err != nil {
				return means.Seen{}, err
			}
			return d.Remove(ctx, by, k)
		},
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
		accepted, err := sshio.Accepts(ctx, e.fleet.Target(l.Instance, l.OSUser), k.Blob)
		switch {
		case err != nil:
			return "", fleet.Answering(err)
		case accepted && !want:
			return "", fmt.Errorf("the SSH server still accepts %s", k.Name)
		case !accepted && want && strings.Contains(given(e.work.Limits), "from="):
			return "it does not accept " + k.Name + " from here, where its line may not let it in: " +
				authorizedkeys.LimitsTold(*e.work.Limits), nil
		case !accepted && want:
			return "", fmt.Errorf(
				"the line is in place there, but the SSH server does not accept %s; see why: plumlatch why %s", k.Name,
				l.Instance.Name,
			)
		case want:
			return "it accepts " + k.Name, nil
		}
		return "it refuses " + k.Name, nil
	}
}

// ended settles the grant with what was done: a new one whose line could not be
// placed ends, and one whose withdrawal was asked for ends where its line is gone.
func (e *edit) ended(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
	k, l, err := e.subject(ctx, tx)
	if err != nil {
		return err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	withdrawing, done := e.run.Kind == withdrawKind, state == runs.Done
	note := journal.OnKeys(
		e.journal.Entry(
			journal.ForRun(e.run), "grant.placed", "login", name, e.run.Reason,
			journal.Facts{"key": k.Name, "reason": reason},
		),
		k.Name,
	)
	switch {
	case withdrawing && done:
		journal.Instead(&note, "done", "grant.removed")
	case withdrawing:
		journal.Instead(&note, string(state), "grant.removed:not")
	case !done:
		journal.Instead(&note, string(state), "grant.placed:not")
	}
	if !withdrawing && done && e.work.Lifted {
		if err := tx.SetEndBy(ctx, l.ID, k.ID, grants.ByService); err != nil {
			return err
		}
	}
	if withdrawing == done && (withdrawing || e.work.Added) {
		if err := tx.WithdrawGrant(ctx, l.ID, k.ID, e.now(), e.run.RequestedBy); err != nil {
			return err
		}
	}
	if k.StewardOf != nil &&
		(withdrawing && done || !withdrawing && !done && e.work.Added) { // its private key is of no use from now on
		if err := tx.RetireSteward(ctx, *k.StewardOf); err != nil {
			return err
		}
		if k.StewardUser != "" && !withdrawing { // the account never was
			if err := tx.ForgetAccount(ctx, l.ID); err != nil {
				return err
			}
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
	// Until is when the grant ends, by what EndBy says.
	Until *time.Time   `json:"until,omitempty"`
	EndBy grants.EndBy `json:"end_by,omitempty"`
	// Limits are the options that the line has; nil for those that it has now.
	Limits *string `json:"limits,omitempty"`
	// Lifted is whether the line's own end is taken away, since the login would be shut by it.
	Lifted bool `json:"lifted,omitempty"`
	// Back is whether lines are put back that an earlier run removed, which the journal has.
	Back bool `json:"back,omitempty"`
	// Worker is who changes the lines from their own machine; "" for the service.
	Worker  string        `json:"worker,omitempty"`
	Journal means.Journal `json:"journal"`
}

// lineEnd is the end that the line itself has; zero for none.
func (w *grantWork) lineEnd() time.Time {
	if w.Until == nil || !w.EndBy.InLine() || w.Lifted {
		return time.Time{}
	}
	return *w.Until
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
