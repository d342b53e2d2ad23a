package reentry

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/route"
	"plumlatch/internal/store"
)

// RestoreWanted says which login will be got back into, and how.
type RestoreWanted struct {
	Login string
	Route restore.Route
	// Key is the new key. Make has the service make it under that name; its private key
	// stays in the safe until the holder, who is the caller, takes it out.
	Key  string
	Make bool
	// Lost are the keys whose lines go once the new key is proved; nil means those that
	// nobody can use as far as the records tell, and an empty list none.
	Lost   []string
	Limits restore.Limits
	// Confirm is the instance's name, where the route stops it or puts another in its place.
	Confirm string
	Reason  string
	route.NewInstance
}

// Restore is a run that gets back into a login.
type Restore struct {
	record.Run
	Route restore.Route
	Login string
	Key   string
	Lost  []string
	// Removes are the keys whose lines go: the lost ones, and on a replacement the steward
	// key of the previous instance, which is in its image.
	Removes []string
	// Target is the instance that is logged in to: another one, where it is replaced.
	Target   string
	Closings []record.Closing
	// Left are the things that could not be done after the proof, Differs what is not as
	// it was after an undo.
	Left    []string
	Differs string
	// ProvedAt is when a login with the new key was completed; nil before.
	ProvedAt *time.Time
	// Undoable is whether it can be undone now.
	Undoable bool
	// Kept is whether the service keeps the new key's private key.
	Kept bool

	work *route.Work
}

// StartRestore begins to get back into a login.
func (s *Service) StartRestore(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, w RestoreWanted,
) (Restore, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return Restore{}, err
	}
	l, i, err := s.fleet.LoginNamed(ctx, w.Login)
	if err != nil {
		return Restore{}, err
	}
	if earlier, err := s.journal.Before(ctx, actor.ID, once); err != nil || earlier != "" {
		return s.earlierRestore(ctx, earlier, err)
	}
	k, encrypted, work, err := s.chosen(ctx, actor, w, l, i)
	if err != nil {
		return Restore{}, err
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     route.RunKind,
		Instance: i,
		By:       actor.Name,
		Reason:   w.Reason,
		Payload:  *work,
		At:       s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, run.ID.String())
		if err != nil || earlier != "" {
			run.ID, err = uuid.Parse(cmp.Or(earlier, run.ID.String()))
			return cmp.Or(err, journal.ErrOnlyAsked)
		}
		return s.addRestore(ctx, tx, actor, w, &run, work, k, encrypted)
	})
	var taken *store.TakenError
	switch {
	case errors.Is(err, journal.ErrOnlyAsked):
		return s.earlierRestore(ctx, run.ID.String(), nil)
	case errors.As(err, &taken) && taken.Constraint == "runs_one_live":
		return Restore{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "run-at-work",
			Where:  []string{i.Name},
			Detail: "another run is at work on " + i.Name,
			Remedy: "Wait for it: plumlatch run list -instance " + i.Name,
		}
	case err != nil:
		if errors.As(err, &taken) {
			err = nameTaken(k.Name)
		}
		return Restore{}, err
	}
	s.engine.Wake(ctx, run.ID)
	return s.Restore(ctx, run.ID)
}

// chosen judges the route that was chosen and returns the key that comes in, the private key that is kept of
// it, and what the run works on.
func (s *Service) chosen(
	ctx context.Context, actor people.Actor, w RestoreWanted, l record.Login, i record.Instance,
) (k record.Key, encrypted record.Secret, work *route.Work, err error) {
	f, routes, err := s.restoreFacts(ctx, l, i, w.Lost)
	if err != nil {
		return k, encrypted, nil, err
	}
	if err := s.judgeRoute(w, i, s.route.Ways.Rank(f, w.Limits)); err != nil {
		return k, encrypted, nil, err
	}
	if k, encrypted, err = s.restoreKey(ctx, actor, w); err != nil {
		return k, encrypted, nil, err
	}
	if err := s.keys.Grantable(k); err != nil {
		return k, encrypted, nil, err
	}
	if k.StewardOf != nil {
		return k, encrypted, nil, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "steward-key",
			Field:  "key",
			Where:  []string{k.Name},
			Detail: k.Name + " is a steward key, and nobody logs in with it",
			Remedy: "Choose another, or make one: plumlatch key new NAME",
		}
	}
	f.RSA = restore.No
	if k.Type == keypair.RSA {
		f.RSA = restore.Yes
	}
	if err := s.judgeRoute(w, i, s.route.Ways.Rank(f, w.Limits)); err != nil {
		return k, encrypted, nil, err
	}
	lost, err := s.lostOf(ctx, w, routes, k)
	if err != nil {
		return k, encrypted, nil, err
	}
	begun, err := s.newRestore(ctx, w, l, i, k, lost, f)
	begun.Kept = begun.Kept || encrypted.Encrypted != nil
	return k, encrypted, &begun, err
}

// addRestore records the run of a restore, the key that was made for it, and the key's grant.
func (s *Service) addRestore(
	ctx context.Context, tx *store.Store, actor people.Actor, w RestoreWanted, run *record.Run, work *route.Work,
	k record.Key, encrypted record.Secret,
) error {
	if encrypted.Encrypted != nil {
		if err := keys.AddKept(ctx, tx, &k, encrypted); err != nil {
			return err
		}
	}
	if !s.route.Route(w.Route).NoGrant {
		added, err := tx.AddOrKeepGrant(ctx, record.Grant{
			ID:        store.NewID(),
			KeyID:     k.ID,
			LoginID:   work.Login,
			GrantedAt: s.now(),
			GrantedBy: actor.Name,
			Reason:    cmp.Or(w.Reason, "restore"),
		})
		if err != nil {
			return err
		}
		work.Added = added
		if run.Payload, err = runs.Encode(*work); err != nil {
			return err
		}
	}
	if err := tx.AddRun(ctx, *run); err != nil {
		return err
	}
	return tx.Note(ctx, journal.OnKeys(
		s.journal.Entry(
			actor.By(), "restore.start", "login", work.LoginName, w.Reason,
			journal.Facts{"route": string(w.Route), "key": k.Name},
		),
		k.Name,
	))
}

func (s *Service) earlierRestore(ctx context.Context, id string, err error) (Restore, error) {
	if err != nil {
		return Restore{}, err
	}
	run, err := uuid.Parse(id)
	if err != nil {
		return Restore{}, err
	}
	return s.Restore(ctx, run)
}

// Restore returns a restore with how far it is.
func (s *Service) Restore(ctx context.Context, id uuid.UUID) (Restore, error) {
	run, err := s.store.RunByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && run.Kind != route.RunKind {
		return Restore{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-restore",
			Detail: "there is no restore with this id",
			Remedy: "See what there is: plumlatch restore list",
		}
	}
	if err != nil {
		return Restore{}, err
	}
	closings, err := s.store.ClosingsOf(ctx, run.ID)
	if err != nil {
		return Restore{}, err
	}
	return restoreOf(run, closings)
}

// differsOf says in words what is not as it was before a restore that was undone.
func differsOf(w *route.Work) string {
	var all []string
	if w.LineLeft != "" {
		all = append(all, w.LineLeft)
	}
	return strings.Join(append(all, w.Differs...), "; ")
}

// restoreOf reads a restore out of its run and what runs have opened.
func restoreOf(run record.Run, closings []record.Closing) (Restore, error) {
	w, err := route.WorkOf(run)
	if err != nil {
		return Restore{}, err
	}
	out := Restore{
		Run:     run,
		Route:   w.Route,
		Login:   w.LoginName,
		Key:     w.KeyName,
		Target:  run.Instance.Name,
		Differs: differsOf(w),
		Kept:    w.Kept,
		Lost:    route.NamesOf(w.Lost), Removes: route.NamesOf(w.Removes), ProvedAt: w.ProvedAt, work: w,
	}
	if w.NewName != "" { // another instance takes its place
		out.Target = w.NewName
	}
	for _, step := range run.Steps {
		if step.State == runs.StepLeft {
			out.Left = append(out.Left, step.Title+": "+step.Outcome)
		}
	}
	out.Undoable = run.EndedAt == nil && run.CommittedAt == nil && run.UndoAskedAt == nil && run.State != runs.Undoing
	for _, c := range closings {
		if c.RunID == run.ID {
			out.Closings = append(out.Closings, c)
		}
	}
	return out, nil
}

// Restores returns one page of restores, newest first.
func (s *Service) Restores(
	ctx context.Context, f record.RunFilter, p record.Page,
) (record.List[Restore], error) {
	f.Kind = route.RunKind
	l, err := s.store.Runs(ctx, f, p)
	if err != nil {
		return record.List[Restore]{}, problem.FromPage(err)
	}
	ids := make([]uuid.UUID, len(l.Items))
	for n, run := range l.Items {
		ids[n] = run.ID
	}
	closings, err := s.store.ClosingsOf(ctx, ids...)
	out := record.List[Restore]{Next: l.Next, Total: l.Total}
	if err != nil {
		return out, err
	}
	for _, run := range l.Items {
		r, err := restoreOf(run, closings)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, r)
	}
	return out, nil
}

// WakeRestore has a worker look at the restore that is at work on an instance, if one is.
func (s *Service) WakeRestore(ctx context.Context, instance uuid.UUID) {
	if id, err := s.store.LiveRestoreOf(ctx, instance); err == nil {
		s.engine.Wake(ctx, id)
	}
}
