package reentry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/route"
	"plumlatch/internal/store"
)

// RestoreWanted says which login is to be got back into, and how.
type RestoreWanted struct {
	Login string
	Route restore.Route
	// Key is the new key. Make has the service make it under that name; its private half
	// stays in the safe until the keeper, who is the caller, takes it out.
	Key  string
	Make bool
	// Lost are the keys whose lines go once the new key is proved; nil means those that
	// nobody can use any more as far as the records tell, and an empty list none.
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
	// key of the instance of before, which is in its image.
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
	// Kept is whether the service keeps the new key's private half.
	Kept bool

	work *route.Work
}

// StartRestore begins to get back into a login.
func (s *Service) StartRestore(
	ctx context.Context,
	actor people.Actor,
	once journal.IdempotencyKey,
	w RestoreWanted,
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
	f, routes, err := s.restoreFacts(ctx, l, i, w.Lost)
	if err == nil {
		err = s.judgeRoute(w, i, s.route.Ways.Rank(f, w.Limits))
	}
	if err != nil {
		return Restore{}, err
	}
	k, sealed, err := s.restoreKey(ctx, actor, w)
	if err == nil {
		err = s.keys.Grantable(k)
	}
	if err == nil && k.StewardOf != nil {
		err = &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "steward-key",
			Field:  "key",
			Where:  []string{k.Name},
			Detail: k.Name + " is a steward key, and nobody logs in with it",
			Remedy: "Choose another, or make one: plumlatch key new NAME",
		}
	}
	if err != nil {
		return Restore{}, err
	}
	f.RSA = restore.No
	if k.Type == "rsa" {
		f.RSA = restore.Yes
	}
	if err := s.judgeRoute(w, i, s.route.Ways.Rank(f, w.Limits)); err != nil {
		return Restore{}, err
	}
	lost, err := s.lostOf(ctx, w, routes, k)
	if err != nil {
		return Restore{}, err
	}
	work, err := s.newRestore(ctx, w, l, i, k, lost, f)
	if err != nil {
		return Restore{}, err
	}
	work.Kept = work.Kept || sealed.Sealed != nil
	run := s.engine.NewRun(runs.Request{
		Kind:     route.RunKind,
		Instance: i,
		By:       actor.Name,
		Reason:   w.Reason,
		Payload:  work,
		At:       s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, run.ID.String())
		if err != nil || earlier != "" {
			run.ID, err = uuid.Parse(cmp.Or(earlier, run.ID.String()))
			return cmp.Or(err, journal.ErrOnlyAsked)
		}
		if sealed.Sealed != nil {
			if err := keys.AddKept(ctx, tx, &k, sealed); err != nil {
				return err
			}
		}
		if !s.route.Route(w.Route).NoGrant {
			added, err := tx.AddOrKeepGrant(
				ctx,
				record.Grant{
					ID:        store.NewID(),
					KeyID:     k.ID,
					LoginID:   l.ID,
					GrantedAt: s.now(),
					GrantedBy: actor.Name,
					Reason:    cmp.Or(w.Reason, "restore"),
				},
			)
			if err != nil {
				return err
			}
			work.Added = added
			if run.Payload, err = runs.Encode(work); err != nil {
				return err
			}
		}
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			journal.OnKeys(
				s.journal.Entry(
					actor.By(),
					"restore.start",
					"login",
					routes.Name,
					w.Reason,
					"%s began to get back into %s by the route %s, with %s.",
					actor.Name,
					routes.Name,
					w.Route,
					k.Name,
				),
				k.Name,
			),
		)
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

func nameTaken(name string) error {
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "name-taken",
		Field:  "key",
		Where:  []string{name},
		Detail: fmt.Sprintf("there is a key named %s already", name),
		Remedy: "Choose another name, or use that key",
	}
}

// restoreKey returns the new key; where the service makes it, with its sealed private half.
func (s *Service) restoreKey(
	ctx context.Context,
	actor people.Actor,
	w RestoreWanted,
) (record.Key, record.Secret, error) {
	var none record.Secret
	if !w.Make {
		k, err := s.keys.Key(ctx, w.Key)
		return k, none, err
	}
	if err := problem.CheckName("key", w.Key); err != nil {
		return record.Key{}, none, err
	}
	if _, err := s.store.KeyNamed(ctx, w.Key); err == nil {
		return record.Key{}, none, nameTaken(w.Key)
	} else if !errors.Is(err, store.ErrNotFound) {
		return record.Key{}, none, err
	}
	spec := s.route.Route(w.Route).Key
	k, sealed, err := s.keys.NewKept(ctx, s.store, actor, keys.NewKey{Name: w.Key, Purpose: "restore"}, spec, w.Key)
	if err != nil {
		return k, none, err
	}
	own, err := s.store.KeeperOf(ctx, actor.ID)
	if err == nil {
		k.KeeperID = &own.ID
	} else if errors.Is(err, store.ErrNotFound) {
		err = nil // no keeper of their own: an admin takes it out of the safe
	}
	return k, sealed, err
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

// judgeRoute refuses a route that is not possible, not within the limits, or not confirmed.
func (s *Service) judgeRoute(w RestoreWanted, i record.Instance, ranked []restore.Option) error {
	at := slices.IndexFunc(ranked, func(o restore.Option) bool { return o.Route == w.Route })
	if at < 0 {
		var names []string
		for _, o := range ranked {
			names = append(names, string(o.Route))
		}
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-route",
			Field:  "route",
			Detail: fmt.Sprintf("there is no route %q into %s", w.Route, i.Name),
			Remedy: "There are: " + strings.Join(names, ", "),
		}
	}
	o := ranked[at]
	see := "See all: plumlatch restore routes " + i.Name
	switch {
	case !o.Possible():
		var what []string
		for _, m := range o.Missing {
			what = append(what, m.What)
		}
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "route-not-possible",
			Field:  "route",
			Where:  []string{i.Name},
			Detail: fmt.Sprintf("the route %s is not possible: %s", o.Route, strings.Join(what, "; ")),
			Remedy: cmp.Or(o.Missing[0].Remedy, see),
		}
	case len(o.Outside) > 0:
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "outside-limits",
			Field:  "route",
			Where:  []string{i.Name},
			Detail: fmt.Sprintf("the route %s is outside your limits: %s", o.Route, strings.Join(o.Outside, "; ")),
			Remedy: see,
		}
	case (o.Stops || o.NewIdentity) && w.Confirm != i.Name:
		return &problem.Problem{
			Kind:  problem.Conflict,
			Code:  "not-confirmed",
			Field: "confirm",
			Where: []string{i.Name},
			Detail: fmt.Sprintf(
				"the route %s %s. Changes: %s. Loses: %s",
				o.Route,
				stopWords(o),
				route.OrNone(strings.Join(o.Changes, "; ")),
				route.OrNone(strings.Join(o.Loses, "; ")),
			),
			Remedy: "Confirm it with the name of the instance: -confirm " + i.Name,
		}
	case !s.route.Route(w.Route).Replaces && (w.StopFirst || len(w.Ports) > 0 || w.NewName != ""):
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "not-for-this-route",
			Field:  "route",
			Detail: "to stop it first, to check ports and to give a name are for the route replacement alone",
		}
	}
	for _, port := range w.Ports {
		if port < 1 || port > 65535 {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-port",
				Field:  "ports",
				Detail: fmt.Sprintf("%d is no port", port),
				Remedy: "Give one from 1 to 65535",
			}
		}
	}
	return nil
}

func stopWords(o restore.Option) string {
	if o.NewIdentity {
		return "puts another instance in its place"
	}
	return "stops it for about " + restore.Words(o.Downtime)
}

// lostOf returns the keys whose lines are to go.
func (s *Service) lostOf(ctx context.Context, w RestoreWanted, routes Routes, fresh record.Key) ([]record.Key, error) {
	names := w.Lost
	if names == nil {
		for _, k := range routes.Lost {
			if k.ID != fresh.ID {
				names = append(names, k.Name)
			}
		}
	}
	var out []record.Key
	for _, name := range names {
		k, err := s.keys.Key(ctx, name)
		if err != nil {
			return nil, err
		}
		bad := func(detail, remedy string) error {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-lost",
				Field:  "lost",
				Where:  []string{name},
				Detail: detail,
				Remedy: remedy,
			}
		}
		switch {
		case k.ID == fresh.ID:
			return nil, bad(name+" cannot be the new key and a lost one", "Choose another key")
		case k.StewardOf != nil:
			return nil, bad(
				name+" is a steward key, whose private half is in the safe",
				"Withdraw it, if it is to go: plumlatch grant withdraw "+name,
			)
		}
		if !slices.ContainsFunc(out, func(other record.Key) bool { return other.ID == k.ID }) {
			out = append(out, k)
		}
	}
	return out, nil
}

// newRestore makes what the steps of a restore go by.
func (s *Service) newRestore(
	ctx context.Context,
	w RestoreWanted,
	l record.Login,
	i record.Instance,
	k record.Key,
	lost []record.Key,
	f restore.Facts,
) (route.Work, error) {
	kept, err := s.store.KeptAmong(ctx, []uuid.UUID{k.ID})
	if err != nil {
		return route.Work{}, err
	}
	work := route.Work{
		Route:     w.Route,
		Login:     l.ID,
		LoginName: fleet.LoginName(l.OSUser, i.Name),
		Key:       k.ID,
		KeyName:   k.Name,
		Kept:      kept[k.ID] && s.Safe != nil,
	}
	for _, h := range f.Holders {
		work.Holders = append(work.Holders, h.Keeper)
	}
	for _, old := range lost {
		work.Lost = append(work.Lost, route.NamedKey{ID: old.ID, Name: old.Name})
	}
	work.Removes = slices.Clone(work.Lost)
	begins := &route.Beginning{Wanted: w.NewInstance, Login: l, Instance: i, Facts: f, Work: &work}
	if err := s.route.Prepare(ctx, begins); err != nil {
		return work, err
	}
	if s.route.Route(w.Route).Replaces {
		return work, nil // the new login was never entered
	}
	work.EnteredBefore, err = s.store.LastEntered(ctx, l.ID, k.ID)
	return work, err
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
func (s *Service) Restores(ctx context.Context, instance string, p record.Page) (record.List[Restore], error) {
	l, err := s.store.Runs(ctx, record.RunFilter{Kind: route.RunKind, Instance: instance}, p)
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

// UndoRestore has a restore that is at work undone.
func (s *Service) UndoRestore(ctx context.Context, actor people.Actor, id uuid.UUID, reason string) (Restore, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return Restore{}, err
	}
	r, err := s.Restore(ctx, id)
	if err != nil {
		return Restore{}, err
	}
	why := actor.Name + " asked for its undo"
	if reason != "" {
		why += ": " + reason
	}
	won, err := s.engine.AskUndo(ctx, id, why)
	if err != nil {
		return Restore{}, err
	}
	if won {
		if err := s.store.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"restore.undo",
				"login",
				r.Login,
				reason,
				"%s asked to undo the restore of %s.",
				actor.Name,
				r.Login,
			),
		); err != nil {
			return Restore{}, err
		}
		return s.Restore(ctx, id)
	}
	if r, err = s.Restore(ctx, id); err != nil { // as it is now
		return Restore{}, err
	}
	switch {
	case r.State == runs.Undoing || r.UndoAskedAt != nil && r.EndedAt == nil:
		return r, nil
	case r.EndedAt != nil:
		return Restore{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "restore-over",
			Detail: "this restore is over",
			Remedy: overRemedy(r),
		}
	}
	return Restore{}, &problem.Problem{
		Kind: problem.Conflict,
		Code: "restore-proved",
		Detail: fmt.Sprintf(
			"a login with %s was completed, so that %s is open again and there is nothing to undo",
			r.Key,
			r.Login,
		),
		Remedy: "Let the last steps end: plumlatch restore watch " + id.String(),
	}
}

func overRemedy(r Restore) string {
	if r.State == runs.Done && r.Target != r.Instance.Name {
		return fmt.Sprintf("The instance of before is stopped, not ended: plumlatch instance start %s", r.Instance.Name)
	}
	return "To take the new key away: plumlatch grant withdraw " + r.Key + " " + r.Login
}

// WakeRestore has a worker look at the restore that is at work on an instance, if one is.
func (s *Service) WakeRestore(ctx context.Context, instance uuid.UUID) {
	if id, err := s.store.LiveRestoreOf(ctx, instance); err == nil {
		s.engine.Wake(ctx, id)
	}
}
