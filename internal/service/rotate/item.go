package rotate

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// RunKind is the kind of the runs that replace one key in one login.
const RunKind = "rotate"

const (
	rotationDuty = "rotations"
	// rotateEvery is how soon a rotation whose wake was lost goes on.
	rotateEvery = time.Second
	// queuedRuns is how many runs may wait for a worker.
	queuedRuns = 3 * maxAtOnce
)

// rotating has the steps of the run that replaces one key on one login. The steward's
// session stays open from step to step.
type rotating struct {
	*Service
	run     record.Run
	work    *rotateWork
	session *sshio.Session
	end     func()
	// signer is the new key's, once the safe was opened.
	signer ssh.Signer
	// about is what it works on, once that was read.
	about *rotated
	// counted is whether it is among the runs that are at work.
	counted bool
	// by is the login that was completed in this pass of a worker; none before.
	by sshio.Entry
}

func rotateWorkOf(run record.Run) (*rotateWork, error) {
	return runs.PayloadOf(run, runs.NoEarlier[rotateWork])
}

// rotatePlan gives the steps that core ordered.
func (s *Service) rotatePlan(run record.Run) (runs.Plan, error) {
	w, err := rotateWorkOf(run)
	if err != nil {
		return runs.Plan{}, err
	}
	e := &rotating{Service: s, run: run, work: w, end: func() {}}
	phase, kept := w.Phase, w.Kept
	names, host := w.names(), run.Instance.Name
	means, by := "the steward key", "the steward key, after a login with the new key was reported,"
	switch w.Means {
	case agentMeans:
		means, by = "the guest agent", "the new key, of which a signed login was reported,"
	case hereMeans:
		means, by = "the old private half, from the machine of "+w.Worker, "the new key, from the machine of "+w.Worker
	}
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
			s.rotating.Add(-1)
		}
		e.end()
	}, After: func(ctx context.Context) error {
		id := w.Rotation
		if !s.advancing.TryLock() { // whoever has it is at this, and else the next second is
			return nil
		}
		defer s.advancing.Unlock()
		if busy, err := s.store.BusyItems(ctx, id, maxAtOnce); err != nil || busy >= maxAtOnce {
			return err // enough are queued
		}
		return s.advance(ctx, id)
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
func (e *rotating) steward(ctx context.Context, r rotated) (*sshio.Session, error) {
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

// changing changes the files by the run's means. A session that broke is opened anew
// at the next try.
func (e *rotating) changing(
	ctx context.Context,
	p *runs.Progress,
	r rotated,
	change func(*means.Door) (means.Seen, error),
) (means.Seen, error) {
	if e.work.Means == agentMeans {
		if err := e.reading.AgentReady(ctx, r.login); err != nil {
			return means.Seen{}, err
		}
		read, err := change(e.reading.DoorBy(e.reading.AgentOf(r.login), p, &e.work.Journal))
		return read, reading.ReachingOrNil(err)
	}
	session, err := e.steward(ctx, r)
	if err != nil {
		return means.Seen{}, err
	}
	read, err := change(e.reading.DoorBy(means.Over(session), p, &e.work.Journal))
	if err != nil {
		e.end()
		e.session, e.end = nil, func() {}
		return means.Seen{}, reading.Reaching(err)
	}
	return read, nil
}

func (e *rotating) record(ctx context.Context, r rotated, read means.Seen) (string, error) {
	method := reading.StewardMethod
	if e.work.Means == agentMeans {
		method = reading.AgentMethod
	}
	return e.recordTogether(
		ctx,
		reading.Look{
			Login:  r.login.Login,
			Name:   fleet.LoginName(r.login.OSUser, r.login.Instance.Name),
			Seen:   reading.SeenBy(read),
			Method: method,
			By:     journal.ForRun(e.run),
			At:     e.now(),
		},
	)
}

func (e *rotating) place(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	read, err := e.changing(ctx, p, r, func(d *means.Door) (means.Seen, error) {
		return d.PlaceBeside(ctx, e.reading.MeansKey(r.old), e.reading.MeansKey(r.new))
	})
	if err != nil {
		return "", err
	}
	if e.work.Phase == rotation.Whole {
		return "the new line stands beside the old", nil // the look after the removal is the one that is recorded
	}
	outcome, err := e.record(ctx, r, read)
	if err != nil {
		return "", err
	}
	accepted, err := sshio.Accepts(ctx, fleet.TargetOf(r.login.Instance, r.login.OSUser), r.new.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		return "", fmt.Errorf("the line stands there, but the SSH server does not accept %s", r.new.Name)
	}
	return "the new line stands beside the old, and the SSH server accepts it; " + outcome, nil
}

// errNewProved is why the new line stays: it was shown to open the login.
func errNewProved(r rotated) error {
	return fmt.Errorf(
		"%s was shown to open the login, and that %s still does was not; so both lines stay",
		r.new.Name,
		r.old.Name,
	)
}

// takeBack removes the new line if this rotation placed it. One that was shown to open the login
// stays, unless a login with the old key is completed now; and always where that is lost.
func (e *rotating) takeBack(ctx context.Context, p *runs.Progress) error {
	r, err := e.begin(ctx)
	if err != nil {
		return err
	}
	if !e.work.Journal.HasPlaced(r.new.Blob) {
		return nil
	}
	if r.old.State == "lost" {
		return fmt.Errorf("%s is lost, so the line of %s stays", r.old.Name, r.new.Name)
	}
	old, fresh := e.reading.MeansKey(r.old), e.reading.MeansKey(r.new)
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

// newProved reports whether the new key was shown to open the login: by this run, or before it.
func (e *rotating) newProved(ctx context.Context, r rotated) (bool, error) {
	if e.work.Phase != rotation.Back {
		return false, nil // its own steps undo themselves: the old line is put back before
	}
	if e.work.Proved {
		return true, nil
	}
	entered, err := e.store.LastEntered(ctx, r.login.ID, r.new.ID)
	return entered != nil, err
}

// enteredWithOld completes a login with the old key, where the service has its private half.
func (e *rotating) enteredWithOld(ctx context.Context, r rotated) (sshio.Entry, error) {
	kept, err := e.store.KeptAmong(ctx, []uuid.UUID{r.old.ID})
	if err != nil {
		return sshio.Entry{}, err
	}
	if !kept[r.old.ID] {
		proof, err := e.store.LastSignedEntry(ctx, r.login.ID, r.old.ID)
		if errors.Is(err, store.ErrNotFound) || err == nil && proof.At.Before(e.run.CreatedAt.Add(-oldProvedWithin)) {
			return sshio.Entry{}, errNewProved(r)
		}
		if err != nil {
			return sshio.Entry{}, err
		}
		return access.EntryIn(proof, r.old, r.login.Instance, r.login.OSUser)
	}
	signer, err := e.keys.KeptSigner(ctx, r.old)
	if err != nil {
		return sshio.Entry{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, err := sshio.Login(ctx, fleet.TargetOf(r.login.Instance, r.login.OSUser), signer)
	if err != nil {
		return sshio.Entry{}, reading.Reaching(err)
	}
	defer session.Close()
	return session.Entry(), nil
}

// entered completes a login in this run, and returns it: with the new key where the safe has its
// private half; else with the steward key, where the server accepts the new key and somebody has
// reported a login with it since it was placed. Where a guest agent edits, it is that
// reported login, which is signed with the new key.
func (e *rotating) entered(ctx context.Context, r rotated) (sshio.Entry, error) {
	target := fleet.TargetOf(r.login.Instance, r.login.OSUser)
	if !e.work.Kept {
		accepted, err := sshio.Accepts(ctx, target, r.new.Blob)
		if err != nil {
			return sshio.Entry{}, fleet.Answering(err)
		}
		if !accepted {
			return sshio.Entry{}, fmt.Errorf("the SSH server does not accept %s any more", r.new.Name)
		}
		if e.work.Means == agentMeans {
			return e.reportedEntry(ctx, r)
		}
		session, err := e.steward(ctx, r)
		if err != nil {
			return sshio.Entry{}, err
		}
		return session.Entry(), nil
	}
	signer, err := e.newSigner(ctx, r)
	if err != nil {
		return sshio.Entry{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, err := sshio.Login(ctx, target, signer)
	if err != nil {
		return sshio.Entry{}, reading.Reaching(err)
	}
	defer session.Close()
	return session.Entry(), nil
}

// reportedEntry is the login with the new key that was reported since its line was placed,
// signed with the key and of a host key that is pinned.
func (e *rotating) reportedEntry(ctx context.Context, r rotated) (sshio.Entry, error) {
	item, err := e.store.ItemByID(ctx, e.work.Item)
	if err != nil {
		return sshio.Entry{}, err
	}
	proof, err := e.store.LastSignedEntry(ctx, r.login.ID, r.new.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (item.PlacedAt == nil || proof.At.Before(*item.PlacedAt)) {
		return sshio.Entry{}, fmt.Errorf("no login with %s was reported and signed since its line was placed", r.new.Name)
	}
	if err != nil {
		return sshio.Entry{}, err
	}
	return access.EntryIn(proof, r.new, r.login.Instance, r.login.OSUser)
}

// newSigner returns the new key's signer; the safe is opened once for it.
func (e *rotating) newSigner(ctx context.Context, r rotated) (ssh.Signer, error) {
	if e.signer == nil {
		signer, err := e.keys.KeptSigner(ctx, r.new)
		if err != nil {
			return nil, err
		}
		e.signer = signer
	}
	return e.signer, nil
}

// enteredSeeing completes a login with the kept new key, and reports whether the
// server accepts the old one.
func (e *rotating) enteredSeeing(ctx context.Context, r rotated) (old bool, err error) {
	signer, err := e.newSigner(ctx, r)
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, old, err := sshio.LoginAndSee(ctx, fleet.TargetOf(r.login.Instance, r.login.OSUser), signer, r.old.Blob)
	if err != nil {
		return false, reading.Reaching(err)
	}
	if !old {
		session.Close()
	}
	return old, nil
}

func (e *rotating) enter(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	by, err := e.entered(ctx, r)
	if err != nil {
		return "", err
	}
	e.by = by
	switch {
	case e.work.Kept:
	case e.work.Means == agentMeans:
		return r.new.Name + " is accepted; a login with it was reported before, signed with it", nil
	default:
		return "the steward key gets in, and " + r.new.Name + " is accepted; a login with it was reported before", nil
	}
	return "a login with " + r.new.Name + " was completed", nil
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
		if leave, err = rotation.OverrideFor(name, name, e.work.Override.Reason, r.old.State == "lost"); err != nil {
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
	old, fresh := e.reading.MeansKey(r.old), e.reading.MeansKey(r.new)
	read, err := e.changing(ctx, p, r, func(d *means.Door) (means.Seen, error) {
		before, err := d.Read(ctx)
		if err == nil && before.Here(old.Blob) && !before.Here(fresh.Blob) {
			err = fmt.Errorf("the line of %s does not stand there any more, so that of %s stays", r.new.Name, r.old.Name)
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

// see finds that the old key is refused and the new one still opens.
func (e *rotating) see(ctx context.Context, _ *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	target := fleet.TargetOf(r.login.Instance, r.login.OSUser)
	kept, forced := e.work.Kept, e.work.Phase == rotation.Forced
	accepted := false
	if kept && !forced { // one connection shows both
		accepted, err = e.enteredSeeing(ctx, r)
	} else if accepted, err = sshio.Accepts(ctx, target, r.old.Blob); err != nil {
		err = fleet.Answering(err)
	}
	if err != nil {
		return "", err
	}
	if accepted {
		return "", fmt.Errorf("the SSH server still accepts %s", r.old.Name)
	}
	if !forced {
		if !kept {
			if _, err := e.entered(ctx, r); err != nil {
				return "", err
			}
		}
		return r.old.Name + " is refused, and " + r.new.Name + " opens", nil
	}
	if accepted, err = sshio.Accepts(ctx, target, r.new.Blob); err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		return "", fmt.Errorf(
			"the line of %s is gone, but the SSH server refuses %s as well; see why: plumlatch why %s",
			r.old.Name,
			r.new.Name,
			r.login.Instance.Name,
		)
	}
	return r.old.Name + " is refused, and " + r.new.Name + " is accepted; nobody has logged in with it", nil
}

// ended moves the item on, and settles grants and records with what was done.
func (e *rotating) ended(ctx context.Context, tx *store.Store, state, reason string) error {
	item := e.work.Item
	r, err := e.subjectIn(ctx, tx)
	if err != nil {
		return tx.ChangeItem(
			ctx,
			item,
			map[string]any{"state": rotation.ItemFailed, "detail": err.Error(), "ended_at": e.now()},
		)
	}
	phase, now := e.work.Phase, e.now()
	name := fleet.LoginName(r.login.OSUser, r.login.Instance.Name)
	note := func(outcome, sentence string, args ...any) error {
		n := journal.OnKeys(
			e.journal.Entry(journal.ForRun(e.run), "rotation.login", "login", name, e.run.Reason, sentence, args...),
			r.old.Name,
			r.new.Name,
		)
		n.Outcome = outcome
		return tx.Note(ctx, n)
	}
	if state != runs.Done {
		if err := tx.ChangeItem(
			ctx,
			item,
			map[string]any{"state": rotation.ItemFailed, "detail": reason, "ended_at": now},
		); err != nil {
			return err
		}
		return note(state, "%s was not replaced by %s in %s: %s.", r.old.Name, r.new.Name, name, reason)
	}
	grant := func(withdraw bool) error { // what was to end goes on to end
		return tx.ReplaceGrant(
			ctx,
			record.Grant{
				ID:        store.NewID(),
				KeyID:     r.new.ID,
				LoginID:   r.login.ID,
				GrantedAt: now,
				GrantedBy: e.run.RequestedBy,
				Reason:    "follows " + r.old.Name,
			},
			r.old.ID,
			withdraw,
		)
	}
	entry := func() error {
		if !e.work.Kept || phase == rotation.Forced && e.by.Key() == nil {
			return nil
		}
		return tx.AddProof(
			ctx,
			record.Proof{ID: store.NewID(), Kind: "entry", KeyID: r.new.ID, LoginID: &r.login.ID, At: now, Person: "service"},
		)
	}
	switch phase {
	case rotation.In:
		entered, err := tx.LastEntered(ctx, r.login.ID, r.new.ID)
		if err != nil {
			return err
		}
		columns := map[string]any{"state": rotation.ItemPlaced, "placed_at": now, "entered_before": entered}
		if e.work.Kept {
			columns = map[string]any{"state": rotation.ItemProved, "placed_at": now, "proved_at": now}
		}
		if err := grant(false); err != nil {
			return err
		}
		if err := entry(); err != nil {
			return err
		}
		if err := tx.ChangeItem(ctx, item, columns); err != nil {
			return err
		}
		return note("done", "%s stands beside %s in %s.", r.new.Name, r.old.Name, name)
	case rotation.Back:
		if err := tx.WithdrawGrant(ctx, r.login.ID, r.new.ID, now, e.run.RequestedBy); err != nil {
			return err
		}
		if err := tx.ChangeItem(ctx, item, map[string]any{"state": rotation.ItemUndone, "ended_at": now}); err != nil {
			return err
		}
		return note("undone", "%s was taken out of %s again; %s opens it as before.", r.new.Name, name, r.old.Name)
	}
	if err := grant(true); err != nil {
		return err
	}
	if err := entry(); err != nil {
		return err
	}
	done := map[string]any{"state": rotation.ItemDone, "ended_at": now, "detail": "", "old_refused": true}
	if err := tx.ChangeItem(ctx, item, done); err != nil {
		return err
	}
	if err := note(
		"done",
		"%s is replaced by %s in %s; the old key is refused.",
		r.old.Name,
		r.new.Name,
		name,
	); err != nil {
		return err
	}
	// Whether it stands elsewhere is of no matter while it is at work on.
	more, err := tx.MoreToReplace(ctx, r.old.ID)
	if err != nil || more {
		return err
	}
	retired, err := tx.RetireUnused(ctx, r.old.ID)
	if err != nil || !retired {
		return err
	}
	return tx.Note(
		ctx,
		e.journal.Entry(
			journal.ForRun(e.run),
			"key.retire",
			"key",
			r.old.Name,
			e.run.Reason,
			"%s opens nothing any more and is retired.",
			r.old.Name,
		),
	)
}

// rotateWork is the payload of the run that replaces one key in one login.
type rotateWork struct {
	Rotation uuid.UUID      `json:"rotation"`
	Item     uuid.UUID      `json:"item"`
	Login    uuid.UUID      `json:"login"`
	Old      uuid.UUID      `json:"old"`
	New      uuid.UUID      `json:"new"`
	OldName  string         `json:"old_name"`
	NewName  string         `json:"new_name"`
	Phase    rotation.Phase `json:"phase"`
	// Means is by what the files are changed.
	Means rotationMeans `json:"means"`
	// Kept is whether the service has the new key's private half.
	Kept bool `json:"kept,omitempty"`
	// Worker is who changes the lines from their own machine; "" for the service.
	Worker string `json:"worker,omitempty"`
	// Override has the old line go without a login by the new key.
	Override *override `json:"override,omitempty"`
	// Proved is whether the new key was shown to open the login before this run.
	Proved  bool          `json:"proved,omitempty"`
	Journal means.Journal `json:"journal"`
}

// override is who has taken on that a line goes without a login, and why.
type override struct {
	By     string `json:"by"`
	Reason string `json:"reason"`
}

func (o *override) String() string { return o.By + ": " + o.Reason }

func (w *rotateWork) names() string { return w.OldName + " by " + w.NewName }
