package replace

import (
	"context"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// ended moves the item on, and settles grants and records with what was done.
func (e *rotating) ended(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
	item := e.work.Item
	r, err := e.subjectIn(ctx, tx)
	if err != nil {
		return tx.ChangeItem(
			ctx, item, record.ItemChange{State: rotation.ItemFailed, Detail: new(err.Error()), EndedAt: new(e.now())},
		)
	}
	phase, now := e.work.Phase, e.now()
	name := fleet.LoginName(r.login.OSUser, r.login.Instance.Name)
	note := func(outcome, sentence string, args ...any) error {
		n := journal.OnKeys(
			e.journal.Entry(journal.ForRun(e.run), "rotation.login", "login", name, e.run.Reason, sentence, args...),
			r.old.Name, r.New.Name,
		)
		n.Outcome = outcome
		return tx.Note(ctx, n)
	}
	if state != runs.Done {
		if err := tx.ChangeItem(
			ctx, item, record.ItemChange{State: rotation.ItemFailed, Detail: &reason, EndedAt: &now},
		); err != nil {
			return err
		}
		return note(string(state), "%s was not replaced by %s in %s: %s.", r.old.Name, r.New.Name, name, reason)
	}
	grant := func(withdraw bool) error { // what was to end goes on to end
		return tx.ReplaceGrant(
			ctx,
			record.Grant{
				ID:        store.NewID(),
				KeyID:     r.New.ID,
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
			record.Proof{ID: store.NewID(), Kind: "entry", KeyID: r.New.ID, LoginID: &r.login.ID, At: now, Person: "service"},
		)
	}
	switch phase {
	case rotation.In:
		entered, err := tx.LastEntered(ctx, r.login.ID, r.New.ID)
		if err != nil {
			return err
		}
		in := record.ItemChange{State: rotation.ItemPlaced, PlacedAt: &now, EnteredBefore: entered}
		if e.work.Kept {
			in = record.ItemChange{State: rotation.ItemProved, PlacedAt: &now, ProvedAt: &now}
		}
		if err := grant(false); err != nil {
			return err
		}
		if err := entry(); err != nil {
			return err
		}
		if err := tx.ChangeItem(ctx, item, in); err != nil {
			return err
		}
		return note("done", "%s stands beside %s in %s.", r.New.Name, r.old.Name, name)
	case rotation.Back:
		if err := tx.WithdrawGrant(ctx, r.login.ID, r.New.ID, now, e.run.RequestedBy); err != nil {
			return err
		}
		if err := tx.ChangeItem(ctx, item, record.ItemChange{State: rotation.ItemUndone, EndedAt: &now}); err != nil {
			return err
		}
		return note("undone", "%s was taken out of %s again; %s opens it as before.", r.New.Name, name, r.old.Name)
	}
	if err := grant(true); err != nil {
		return err
	}
	if err := entry(); err != nil {
		return err
	}
	done := record.ItemChange{State: rotation.ItemDone, EndedAt: &now, Detail: new(""), OldRefused: new(true)}
	if err := tx.ChangeItem(ctx, item, done); err != nil {
		return err
	}
	if err := note(
		"done",
		"%s is replaced by %s in %s; the old key is refused.", r.old.Name, r.New.Name, name,
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
	return tx.Note(ctx, e.journal.Entry(
		journal.ForRun(e.run), "key.retire", "key", r.old.Name, e.run.Reason,
		"%s opens nothing any more and is retired.", r.old.Name,
	))
}
