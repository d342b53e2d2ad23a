package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/text"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

const (
	// nextWithin is for how long a report waits until the next step is written down.
	nextWithin  = 10 * time.Second
	nextPause   = 300 * time.Millisecond
	takenAtOnce = 8
)

// elsewhere turns a step into one that rests until it is reported by whoever works
// on it. What they did stays as it is where they are not heard of any more: the old
// key still opens the login, or the new one was shown to. again is the command that goes on then.
func (s *Service) elsewhere(step runs.Step, run store.Run, worker, again string) runs.Step {
	step.Undo, step.UndoIntent, step.Patience = nil, "", 0
	title := step.Title
	step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
		r, err := p.Report(ctx, step.Name)
		if err != nil {
			return "", err
		}
		if r != nil && r.Error != "" {
			return "", errors.New(r.Error)
		}
		if r != nil {
			return r.Outcome, nil
		}
		heard := run.CreatedAt
		for _, r := range p.Run().Reports {
			if r.At.After(heard) {
				heard = r.At
			}
		}
		if s.now().Sub(heard) > s.ReportWithin {
			return "", fmt.Errorf(
				"nothing was heard from the machine of %s for %s; what it did stands, and it is safe to try again: %s",
				worker,
				s.ReportWithin,
				again,
			)
		}
		return "", runs.WaitFor(store.Waits{Who: worker, What: "to do this from their machine: " + title})
	}
	return step
}

// workerOf returns who works on a run from their own machine; "" for nobody.
func workerOf(run store.Run) (string, error) {
	switch run.Kind {
	case rotateKind:
		w, err := rotateWorkOf(run)
		if err != nil {
			return "", err
		}
		return w.Worker, nil
	case grantKind, withdrawKind:
		w, err := grantWorkOf(run)
		if err != nil {
			return "", err
		}
		return w.Worker, nil
	}
	return "", nil
}

// TakenItem is an item of a rotation that somebody works on from their own machine.
type TakenItem struct {
	Run      uuid.UUID
	Login    string
	Phase    rotation.Phase
	Old, New store.Key
	// The lines are those of the keys as they stand in a file.
	OldLine, NewLine string
}

// TakeRotationItems gives the actor items to work on from their own machine: those
// whose old key is one of the keys, and, where the old line is to go, whose new key is.
func (s *Service) TakeRotationItems(
	ctx context.Context,
	actor Actor,
	id uuid.UUID,
	keys []string,
	limit int,
) ([]TakenItem, error) {
	limit = cmp.Or(limit, takenAtOnce)
	if limit < 1 || limit > maxAtOnce {
		return nil, &Problem{
			Kind:   Invalid,
			Code:   "bad-limit",
			Field:  "limit",
			Detail: fmt.Sprintf("%d at once are not possible; 1 to %d are", limit, maxAtOnce),
		}
	}
	if _, err := s.Rotation(ctx, id); err != nil {
		return nil, err
	}
	may := func(i store.RotationItem, phase rotation.Phase) bool {
		if phase == rotation.Out {
			return slices.Contains(keys, i.NewName)
		}
		return slices.Contains(keys, i.OldName)
	}
	var ids []uuid.UUID
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		ids = nil
		r, err := tx.LockRotation(ctx, id)
		if err != nil || r.EndedAt != nil {
			return err
		}
		if err := s.noteEntered(ctx, tx, r); err != nil {
			return err
		}
		counts, err := tx.RotationCounts(ctx, id)
		if err != nil {
			return err
		}
		busy := counts[id][itemPlacing] + counts[id][itemRemoving]
		ids, err = s.startDue(ctx, tx, r, min(limit, r.Settings.AtOnce-busy), may, actor.Name)
		return err
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return nil, nil // another run was faster on one of the instances; the next time
	}
	if err != nil {
		return nil, err
	}
	var out []TakenItem
	for _, run := range ids {
		item, err := s.takenItem(ctx, run)
		if err != nil {
			return nil, err
		}
		if err := s.awaitStep(ctx, run, ""); err != nil {
			return nil, err
		}
		out = append(out, item)
	}
	return out, nil
}

func (s *Service) takenItem(ctx context.Context, id uuid.UUID) (TakenItem, error) {
	run, err := s.store.RunByID(ctx, id)
	if err != nil {
		return TakenItem{}, err
	}
	w, err := rotateWorkOf(run)
	if err != nil {
		return TakenItem{}, err
	}
	r, err := (&rotating{Service: s, run: run, work: w}).subject(ctx)
	if err != nil {
		return TakenItem{}, err
	}
	return TakenItem{
		Run:     id,
		Login:   loginName(r.login.OSUser, r.login.Instance.Name),
		Phase:   w.Phase,
		Old:     r.old,
		New:     r.new,
		OldLine: lineOf(r.old),
		NewLine: s.lineFor(r.new),
	}, nil
}

// ReportStep records what came of a step that the actor took from their own machine,
// and returns once the next one, if there is one, is written down as begun.
func (s *Service) ReportStep(
	ctx context.Context,
	actor Actor,
	id uuid.UUID,
	step, outcome, failure string,
) (store.Run, error) {
	if err := errors.Join(checkText("outcome", outcome), checkText("error", failure)); err != nil {
		return store.Run{}, err
	}
	run, err := s.Run(ctx, id)
	if err != nil {
		return run, err
	}
	refuse := func(code, detail string) error {
		return &Problem{Kind: Conflict, Code: code, Detail: detail, Remedy: "See it: plumlatch run watch " + id.String()}
	}
	at := slices.IndexFunc(run.Steps, func(st store.RunStep) bool { return st.State == runs.StepRunning })
	worker, err := workerOf(run)
	switch {
	case err != nil || worker == "" || worker != actor.Name:
		return run, refuse("not-yours", "this run is not at work on your machine")
	case run.EndedAt != nil || at < 0:
		return run, refuse("run-ended", "the run has ended meanwhile")
	case run.Steps[at].Name != step:
		return run, refuse("another-step", fmt.Sprintf("the run is at the step %q, not at %q", run.Steps[at].Name, step))
	}
	report := store.Report{By: actor.Name, At: s.now(), Outcome: cmp.Or(outcome, "done"), Error: failure}
	if failure == "" && (step == string(rotation.See) || step == "ask") {
		if report.Outcome, err = s.seeFromHere(ctx, run, worker, report.Outcome); err != nil {
			report.Error = text.Line(err.Error(), text.MaxMessage)
		}
	}
	if err := s.store.AddReport(ctx, id, step, report); err != nil {
		return run, err
	}
	if err := s.awaitStep(ctx, id, step); err != nil {
		return run, err
	}
	return s.Run(ctx, id)
}

// seeFromHere asks the SSH server itself whether the key that was to go is refused, and the one
// that was to come accepted, which takes no secret; and says who saw it where it cannot be
// reached from the service.
func (s *Service) seeFromHere(ctx context.Context, run store.Run, worker, said string) (string, error) {
	var login store.LoginToSweep
	var key store.Key
	accept := false
	switch run.Kind {
	case rotateKind:
		w, err := rotateWorkOf(run)
		if err != nil {
			return "", err
		}
		r, err := (&rotating{Service: s, run: run, work: w}).subject(ctx)
		if err != nil {
			return "", err
		}
		login, key = r.login, r.old
	default:
		w, err := grantWorkOf(run)
		if err != nil {
			return "", err
		}
		if key, login, err = (&edit{s, run, w}).subject(ctx); err != nil {
			return "", err
		}
		accept = run.Kind == grantKind
	}
	ctx, cancel := context.WithTimeout(ctx, sweepTimeout)
	defer cancel()
	accepted, err := sshio.Accepts(ctx, targetOf(login.Instance, login.OSUser), key.Blob)
	switch {
	case err != nil:
		return said + "; seen from the machine of " + worker + " alone", nil
	case accepted && !accept:
		return "", fmt.Errorf("the SSH server still accepts %s", key.Name)
	case !accepted && accept:
		return "", fmt.Errorf(
			"the line stands there, but the SSH server does not accept %s; see why: plumlatch why %s",
			key.Name,
			login.Instance.Name,
		)
	case accept:
		return key.Name + " is accepted, as the service sees too", nil
	}
	return key.Name + " is refused, as the service sees too", nil
}

// awaitStep wakes a run until a step other than the one is written down as begun, or
// the run has ended.
func (s *Service) awaitStep(ctx context.Context, id uuid.UUID, step string) error {
	changed, stop := s.engine.Follow(id)
	defer stop()
	for until := time.Now().Add(nextWithin); ; {
		run, err := s.store.RunByID(ctx, id)
		if err != nil {
			return err
		}
		if run.EndedAt != nil ||
			slices.ContainsFunc(
				run.Steps,
				func(st store.RunStep) bool { return st.State == runs.StepRunning && st.Name != step },
			) {
			return nil
		}
		if time.Now().After(until) {
			return &Problem{
				Kind:   Unavailable,
				Code:   "service-busy",
				Detail: "the report is recorded, but the run was not gone on with yet",
				Remedy: "See it: plumlatch run watch " + id.String(),
			}
		}
		s.engine.Wake(ctx, id)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		case <-time.After(nextPause):
		}
	}
}

// overrideItem has the old line of one login go although nobody has logged in with
// the new key: for a lost key, by the login's name, with a reason.
func (s *Service) overrideItem(
	ctx context.Context,
	actor Actor,
	id uuid.UUID,
	name string,
	login uuid.UUID,
	reason string,
) (RotationState, error) {
	var started []uuid.UUID
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		r, err := tx.LockRotation(ctx, id)
		if err != nil {
			return err
		}
		refuse := func(err error) error {
			return &Problem{
				Kind:   Invalid,
				Code:   "no-override",
				Field:  "login",
				Detail: err.Error(),
				Remedy: "plumlatch rotate override " + id.String() + " -login USER@INSTANCE -reason TEXT",
			}
		}
		if login == uuid.Nil {
			return refuse(rotation.ErrNotNamed)
		}
		i, err := tx.ItemOf(ctx, id, login, []string{itemPlaced, itemProved, itemFailed})
		if errors.Is(err, store.ErrNotFound) ||
			err == nil && (i.NewKeyID == nil || i.OldKeyID == nil || rotationMeans(i.Means) == hereMeans) {
			return &Problem{
				Kind:   Conflict,
				Code:   "nothing-to-override",
				Where:  []string{name},
				Detail: "no new line awaits a login in " + name + " that the service could go on without",
				Remedy: "See it: plumlatch rotate show " + id.String(),
			}
		}
		if err != nil {
			return err
		}
		k, err := tx.KeyByID(ctx, *i.OldKeyID)
		if err != nil {
			return err
		}
		if _, err := rotation.OverrideFor(loginName(i.OSUser, i.InstanceName), name, reason, k.State == "lost"); err != nil {
			return refuse(err)
		}
		why := &override{By: actor.Name, Reason: reason}
		if started, err = s.startRotating(ctx, tx, r, []begun{{i, rotation.Forced, itemRemoving, why}}, ""); err != nil {
			return err
		}
		if err := tx.ChangeItem(
			ctx,
			i.ID,
			map[string]any{"override_by": actor.Name, "override_why": reason, "ended_at": nil},
		); err != nil {
			return err
		}
		if err := tx.ChangeRotation(ctx, id, map[string]any{"ended_at": nil, "state": keepOn(r)}); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			onKeys(
				s.entry(
					actor,
					"rotation.override",
					"login",
					name,
					reason,
					"%s has the lost key %s removed from %s, although nobody has logged in with %s.",
					actor.Name,
					i.OldName,
					name,
					i.NewName,
				),
				i.OldName,
				i.NewName,
			),
		)
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return RotationState{}, &Problem{
			Kind:   Conflict,
			Code:   "run-at-work",
			Where:  []string{name},
			Detail: "another run is at work there",
			Remedy: "Wait for it, and say it again",
		}
	}
	if err != nil {
		return RotationState{}, err
	}
	for _, run := range started {
		s.engine.Wake(ctx, run)
	}
	return s.Rotation(ctx, id)
}

// keepOn is the state of a rotation that is taken up again for one login.
func keepOn(r store.Rotation) string {
	if r.EndedAt != nil {
		return rotationRunning
	}
	return r.State
}
