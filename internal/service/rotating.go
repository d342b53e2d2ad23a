package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

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
	run     store.Run
	session *sshio.Session
	end     func()
	// signer is the new key's, once the safe was opened.
	signer ssh.Signer
	// about is what it works on, once that was read.
	about *rotated
	// counted is whether it is among the runs that are at work.
	counted bool
	// by is the login that was completed in this pass of a worker; nil before.
	by *rotation.Entered
}

// rotatePlan gives the steps that core ordered.
func (s *Service) rotatePlan(run store.Run) runs.Plan {
	e := &rotating{Service: s, run: run, end: func() {}}
	phase, kept := rotation.Phase(run.Facts["phase"]), run.Facts["kept"] != ""
	names, host := run.Facts["names"], run.Instance.Name
	means, by := "the steward key", "the steward key, after a login with the new key was reported,"
	switch run.Facts["means"] {
	case agentMeans:
		means, by = "the guest agent", "the new key, of which a login was reported,"
	case hereMeans:
		means, by = "the old private half, from the machine of "+run.Facts[workerFact], "the new key, from the machine of "+run.Facts[workerFact]
	}
	if kept {
		by = "the new key"
	}
	seeing, withBy := "See that the old key is refused and the new one still opens", "Complete a login to "+host+" with "+by+" so that the old line may go"
	removing := "Remove the old line by " + means + ": " + names
	if phase == rotation.Forced {
		removing += ", although nobody has logged in with the new key: " + run.Facts[overrideFact] + " has taken that on"
		seeing = "See that the old key is refused and the new one accepted"
	}
	steps := map[rotation.Step]runs.Step{
		rotation.Place:  {Name: "place", Title: "Place the new line", Intent: "Place the line beside the old on " + host + " by " + means + ": " + names, UndoIntent: "Remove the new line again", Do: e.place, Undo: e.takeBack},
		rotation.Enter:  {Name: "enter", Title: "Log in", Intent: withBy, Do: e.enter},
		rotation.Remove: {Name: "remove", Title: "Remove the old line", Intent: removing, UndoIntent: "Place the old line again", Do: e.remove, Undo: e.putBack},
		rotation.See:    {Name: "see", Title: "See who gets in", Intent: seeing, Do: e.see},
		rotation.TakeBack: {Name: "take-back", Title: "Remove the new line", Intent: "Remove the new line, so that all is as before", Do: func(ctx context.Context, p *runs.Progress) (string, error) {
			return "the new line is gone", e.takeBack(ctx, p)
		}},
	}
	plan := runs.Plan{Ended: e.ended, Close: func() {
		if e.counted {
			s.rotating.Add(-1)
		}
		e.end()
	}, After: func(ctx context.Context) error {
		id, err := uuid.Parse(run.Facts["rotation"])
		if err != nil {
			return err
		}
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
		step.Patience = sshPatience
		switch {
		case run.Facts[workerFact] != "":
			step = s.elsewhere(step, run)
		case phase == rotation.Forced: // what was taken on is not taken back by itself
			step.Undo, step.UndoIntent = nil, ""
		}
		plan.Steps = append(plan.Steps, step)
	}
	return plan
}

// steward returns the steward's session, which is kept for the later steps.
func (e *rotating) steward(ctx context.Context, r rotated) (*sshio.Session, error) {
	if e.session != nil {
		return e.session, nil
	}
	session, end, err := e.stewardSession(context.WithoutCancel(ctx), r.login)
	if err != nil {
		return nil, reaching(err)
	}
	e.session, e.end = session, end
	return session, nil
}

// editing is an edit with the steward's session. A session that broke is opened anew
// at the next try.
func (e *rotating) editing(ctx context.Context, r rotated, change fileChange) (seen, error) {
	if e.run.Facts["means"] == agentMeans {
		return e.editThroughAgent(ctx, r.login, change)
	}
	session, err := e.steward(ctx, r)
	if err != nil {
		return seen{}, err
	}
	files, err := session.EditKnowing(change)
	var stands seen
	if err == nil {
		stands.files, stands.folders, err = filesOf(session, files)
	}
	if err != nil {
		e.end()
		e.session, e.end = nil, func() {}
		return seen{}, reaching(err)
	}
	return stands, nil
}

func (e *rotating) record(ctx context.Context, r rotated, stands seen) (string, error) {
	method := stewardMethod
	if e.run.Facts["means"] == agentMeans {
		method = agentMethod
	}
	return e.recordTogether(ctx, look{login: r.login.Login, name: loginName(r.login.OSUser, r.login.Instance.Name), seen: stands, method: method, by: actorFor(e.run), at: e.now()})
}

// More facts of a run.
const (
	workerFact   = "worker"   // who works on it from their own machine
	overrideFact = "override" // who has the old line go without a login by the new key, and why
)

var errOldGone = errors.New("the old key does not stand there any more, so there is nothing to replace")

func (e *rotating) place(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	there := false
	stands, err := e.editing(ctx, r, func(all []authorizedkeys.File, _ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		for _, other := range all {
			if len(other.Find(r.new.Blob)) > 0 {
				there = true
				return f, nil // placed before a cut, or by somebody
			}
		}
		with, added, err := rotation.Beside(f, r.old.Blob, r.new.Blob, e.lineFor(r.new))
		if err != nil || !added {
			return f, err
		}
		there = true
		return with, p.SetFact(ctx, placedFact, "true")
	})
	if err != nil {
		return "", err
	}
	if !there {
		return "", errOldGone
	}
	if rotation.Phase(e.run.Facts["phase"]) == rotation.Whole {
		return "the new line stands beside the old", nil // the look after the removal is the one that is recorded
	}
	outcome, err := e.record(ctx, r, stands)
	if err != nil {
		return "", err
	}
	accepted, err := sshio.Accepts(ctx, targetOf(r.login.Instance, r.login.OSUser), r.new.Blob)
	if err != nil {
		return "", answering(err)
	}
	if !accepted {
		return "", fmt.Errorf("the line stands there, but the SSH server does not accept %s", r.new.Name)
	}
	return "the new line stands beside the old, and the SSH server accepts it; " + outcome, nil
}

// takeBack removes the new line if this rotation placed it.
func (e *rotating) takeBack(ctx context.Context, p *runs.Progress) error {
	if p.Fact(placedFact) == "" {
		return nil
	}
	r, err := e.begin(ctx)
	if err != nil {
		return err
	}
	stands, err := e.editing(ctx, r, func(all []authorizedkeys.File, _ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		old := false
		for _, other := range all {
			old = old || len(other.Find(r.old.Blob)) > 0
		}
		if !old {
			return nil, fmt.Errorf("the line of %s is gone, so that of %s stays", r.old.Name, r.new.Name)
		}
		return f.Remove(r.new.Blob), nil
	})
	if err != nil {
		return err
	}
	_, err = e.record(ctx, r, stands)
	return err
}

// keptSigner opens a key's private half in the safe.
func (s *Service) keptSigner(ctx context.Context, k store.Key) (ssh.Signer, error) {
	if s.Safe == nil {
		return nil, fmt.Errorf("the private half of %s cannot be used: the safe is switched off", k.Name)
	}
	half, err := s.store.KeptHalf(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	private, err := s.Safe.Open(half.Sealed, k.ID.String())
	if err != nil {
		return nil, fmt.Errorf("the private half of %s cannot be used: %w", k.Name, err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	clear(private)
	if err != nil {
		return nil, fmt.Errorf("the private half of %s cannot be used: it does not read as one", k.Name)
	}
	s.use("to log in", k.Name)
	return signer, nil
}

// entered completes a login in this run, and returns that it did: with the new key
// where the safe has its private half, else with the steward key, where the server
// accepts the new key and somebody has reported a login with it since it was placed.
// Where a guest agent edits, that reported login, which is of this rotation, is the one.
func (e *rotating) entered(ctx context.Context, r rotated) (rotation.Entered, error) {
	target := targetOf(r.login.Instance, r.login.OSUser)
	if e.run.Facts["kept"] == "" {
		accepted, err := sshio.Accepts(ctx, target, r.new.Blob)
		if err != nil {
			return rotation.Entered{}, answering(err)
		}
		if !accepted {
			return rotation.Entered{}, fmt.Errorf("the SSH server does not accept %s any more", r.new.Name)
		}
		if e.run.Facts["means"] == agentMeans {
			return rotation.EnteredWith(r.new.Blob), nil
		}
		if _, err := e.steward(ctx, r); err != nil {
			return rotation.Entered{}, err
		}
		return rotation.EnteredWith(r.login.Steward.Blob), nil
	}
	signer, err := e.newSigner(ctx, r)
	if err != nil {
		return rotation.Entered{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, sweepTimeout)
	defer cancel()
	session, err := sshio.Login(ctx, target, signer)
	if err != nil {
		return rotation.Entered{}, reaching(err)
	}
	session.Close()
	return rotation.EnteredWith(r.new.Blob), nil
}

// newSigner returns the new key's signer; the safe is opened once for it.
func (e *rotating) newSigner(ctx context.Context, r rotated) (ssh.Signer, error) {
	if e.signer == nil {
		signer, err := e.keptSigner(ctx, r.new)
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
	ctx, cancel := context.WithTimeout(ctx, sweepTimeout)
	defer cancel()
	session, old, err := sshio.LoginAndSee(ctx, targetOf(r.login.Instance, r.login.OSUser), signer, r.old.Blob)
	if err != nil {
		return false, reaching(err)
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
	e.by = &by
	switch {
	case e.run.Facts["kept"] != "":
	case e.run.Facts["means"] == agentMeans:
		return r.new.Name + " is accepted; a login with it was reported before", nil
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
	name := loginName(r.login.OSUser, r.login.Instance.Name)
	var leave rotation.Override
	forced := rotation.Phase(e.run.Facts["phase"]) == rotation.Forced
	if forced {
		if leave, err = rotation.OverrideFor(name, name, e.run.Facts[overrideFact], r.old.State == "lost"); err != nil {
			return "", err
		}
	}
	if e.by == nil && (!forced || e.run.Facts["kept"] != "") { // a login that can be completed is, also where it need not be
		by, err := e.entered(ctx, r)
		switch {
		case err == nil:
			e.by = &by
		case !forced:
			return "", err
		}
	}
	stands, err := e.editing(ctx, r, func(all []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		lines := linesOf(f, r.old.Blob)
		if len(lines) == 0 {
			return f, nil // removed before a cut, or in another file
		}
		if !slices.ContainsFunc(all, func(f authorizedkeys.File) bool { return len(f.Find(r.new.Blob)) > 0 }) {
			return nil, fmt.Errorf("the line of %s does not stand there any more, so that of %s stays", r.new.Name, r.old.Name)
		}
		old := [][]byte{r.old.Blob}
		var without authorizedkeys.File
		var err error
		if e.by != nil {
			without, err = rotation.Without(f, all, old, *e.by, e.now())
		} else {
			without, err = rotation.WithoutProof(f, all, old, name, r.new.Blob, leave, e.now())
		}
		if err != nil {
			return nil, err
		}
		return without, p.SetFact(ctx, removedFact+path, strings.Join(lines, "\n"))
	})
	if err != nil {
		return "", err
	}
	outcome, err := e.record(ctx, r, stands)
	if e.by == nil {
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
	stands, err := e.editing(ctx, r, func(_ []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		lines := p.Fact(removedFact + path)
		if lines == "" || len(f.Find(r.old.Blob)) > 0 {
			return f, nil
		}
		for line := range strings.SplitSeq(lines, "\n") {
			f = f.Add(line)
		}
		return f, nil
	})
	if err != nil {
		return err
	}
	_, err = e.record(ctx, r, stands)
	return err
}

// see finds that the old key is refused and the new one still opens.
func (e *rotating) see(ctx context.Context, _ *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	target := targetOf(r.login.Instance, r.login.OSUser)
	kept, forced := e.run.Facts["kept"] != "", rotation.Phase(e.run.Facts["phase"]) == rotation.Forced
	accepted := false
	if kept && !forced { // one connection shows both
		accepted, err = e.enteredSeeing(ctx, r)
	} else if accepted, err = sshio.Accepts(ctx, target, r.old.Blob); err != nil {
		err = answering(err)
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
		return "", answering(err)
	}
	if !accepted {
		return "", fmt.Errorf("the line of %s is gone, but the SSH server refuses %s as well; see why: plumlatch why %s", r.old.Name, r.new.Name, r.login.Instance.Name)
	}
	return r.old.Name + " is refused, and " + r.new.Name + " is accepted; nobody has logged in with it", nil
}

// ended moves the item on, and settles grants and records with what was done.
func (e *rotating) ended(ctx context.Context, tx *store.Store, state, reason string) error {
	item, err := uuid.Parse(e.run.Facts["item"])
	if err != nil {
		return err
	}
	r, err := e.subject(ctx)
	if err != nil {
		return errors.Join(tx.ChangeItem(ctx, item, map[string]any{"state": itemFailed, "detail": err.Error(), "ended_at": e.now()}))
	}
	phase, now := rotation.Phase(e.run.Facts["phase"]), e.now()
	name := loginName(r.login.OSUser, r.login.Instance.Name)
	note := func(outcome, sentence string, args ...any) error {
		n := onKeys(e.entry(actorFor(e.run), "rotation.login", "login", name, e.run.Reason, sentence, args...), r.old.Name, r.new.Name)
		n.Outcome = outcome
		return tx.Note(ctx, n)
	}
	if state != runs.Done {
		return errors.Join(tx.ChangeItem(ctx, item, map[string]any{"state": itemFailed, "detail": reason, "ended_at": now}), note(state, "%s was not replaced by %s in %s: %s.", r.old.Name, r.new.Name, name, reason))
	}
	grant := func(withdraw bool) error { // what was to end goes on to end
		return tx.ReplaceGrant(ctx, store.Grant{ID: newID(), KeyID: r.new.ID, LoginID: r.login.ID, GrantedAt: now, GrantedBy: e.run.RequestedBy, Reason: "follows " + r.old.Name}, r.old.ID, withdraw)
	}
	entry := func() error {
		if e.run.Facts["kept"] == "" || phase == rotation.Forced && e.by == nil {
			return nil
		}
		return tx.AddProof(ctx, store.Proof{ID: newID(), Kind: "entry", KeyID: r.new.ID, LoginID: &r.login.ID, At: now, Person: "service"})
	}
	switch phase {
	case rotation.In:
		entered, err := tx.LastEntered(ctx, r.login.ID, r.new.ID)
		if err != nil {
			return err
		}
		columns := map[string]any{"state": itemPlaced, "placed_at": now, "entered_before": entered}
		if e.run.Facts["kept"] != "" {
			columns = map[string]any{"state": itemProved, "placed_at": now, "proved_at": now}
		}
		return errors.Join(grant(false), entry(), tx.ChangeItem(ctx, item, columns), note("done", "%s stands beside %s in %s.", r.new.Name, r.old.Name, name))
	case rotation.Back:
		return errors.Join(tx.WithdrawGrant(ctx, r.login.ID, r.new.ID, now, e.run.RequestedBy), tx.ChangeItem(ctx, item, map[string]any{"state": itemUndone, "ended_at": now}), note("undone", "%s was taken out of %s again; %s opens it as before.", r.new.Name, name, r.old.Name))
	}
	if err := errors.Join(grant(true), entry(), tx.ChangeItem(ctx, item, map[string]any{"state": itemDone, "ended_at": now, "detail": "", "old_refused": true}),
		note("done", "%s is replaced by %s in %s; the old key is refused.", r.old.Name, r.new.Name, name)); err != nil {
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
	return tx.Note(ctx, e.entry(actorFor(e.run), "key.retire", "key", r.old.Name, e.run.Reason, "%s opens nothing any more and is retired.", r.old.Name))
}
