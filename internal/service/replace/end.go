package replace

import (
	"context"
	"time"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// ended moves the item on, and settles grants and records with what was done.
func (e *rotating) ended(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
	item, now := e.work.Item, e.now()
	r, err := e.subjectIn(ctx, tx)
	if err != nil {
		return tx.ChangeItem(
			ctx, item, record.ItemChange{State: rotation.ItemFailed, Detail: new(err.Error()), EndedAt: &now},
		)
	}
	end := ending{e, tx, r, now, fleet.LoginName(r.login.OSUser, r.login.Instance.Name)}
	if state != runs.Done {
		failed := record.ItemChange{State: rotation.ItemFailed, Detail: &reason, EndedAt: &now}
		if err := tx.ChangeItem(ctx, item, failed); err != nil {
			return err
		}
		return end.note(ctx, string(state), "rotation.login:not", reason)
	}
	switch e.work.Phase {
	case rotation.In:
		return end.in(ctx)
	case rotation.Back:
		return end.back(ctx)
	}
	return end.out(ctx)
}

// ending is the end of a run that has come to its end: what it worked on, and when.
type ending struct {
	*rotating
	tx   *store.Store
	of   subject
	at   time.Time
	name string // of the login
}

// in is the end of the new key's coming in beside the old one.
func (e ending) in(ctx context.Context) error {
	entered, err := e.tx.LastEntered(ctx, e.of.login.ID, e.of.New.ID)
	if err != nil {
		return err
	}
	change := record.ItemChange{State: rotation.ItemPlaced, PlacedAt: &e.at, EnteredBefore: entered}
	if e.work.Kept {
		change = record.ItemChange{State: rotation.ItemProved, PlacedAt: &e.at, ProvedAt: &e.at}
	}
	if err := e.grant(ctx, false); err != nil {
		return err
	}
	if err := e.entry(ctx); err != nil {
		return err
	}
	if err := e.tx.ChangeItem(ctx, e.work.Item, change); err != nil {
		return err
	}
	return e.note(ctx, "done", "rotation.login:placed", "")
}

// back is the end of the new key's being taken out again.
func (e ending) back(ctx context.Context) error {
	if err := e.tx.WithdrawGrant(ctx, e.of.login.ID, e.of.New.ID, e.at, e.run.RequestedBy); err != nil {
		return err
	}
	undone := record.ItemChange{State: rotation.ItemUndone, EndedAt: &e.at}
	if err := e.tx.ChangeItem(ctx, e.work.Item, undone); err != nil {
		return err
	}
	return e.note(ctx, "undone", "rotation.login:back", "")
}

// out is the end of the old key's going.
func (e ending) out(ctx context.Context) error {
	if err := e.grant(ctx, true); err != nil {
		return err
	}
	if err := e.entry(ctx); err != nil {
		return err
	}
	done := record.ItemChange{State: rotation.ItemDone, EndedAt: &e.at, Detail: new(""), OldRefused: new(true)}
	if err := e.tx.ChangeItem(ctx, e.work.Item, done); err != nil {
		return err
	}
	if err := e.note(ctx, "done", "rotation.login", ""); err != nil {
		return err
	}
	return e.retire(ctx)
}

// retire retires the old key where it no longer opens anything. Whether it is in place elsewhere is of no
// matter while it is at work on.
func (e ending) retire(ctx context.Context) error {
	old := e.of.old
	more, err := e.tx.MoreToReplace(ctx, old.ID)
	if err != nil || more {
		return err
	}
	retired, err := e.tx.RetireUnused(ctx, old.ID)
	if err != nil || !retired {
		return err
	}
	return e.tx.Note(ctx, e.journal.Entry(
		journal.ForRun(e.run), "key.retire", "key", old.Name, e.run.Reason, nil,
	))
}

// grant grants the login to the new key in the place of the old one's grant, which ends where withdraw says
// so. What was to end continues to end.
func (e ending) grant(ctx context.Context, withdraw bool) error {
	return e.tx.ReplaceGrant(
		ctx,
		record.Grant{
			ID:        store.NewID(),
			KeyID:     e.of.New.ID,
			LoginID:   e.of.login.ID,
			GrantedAt: e.at,
			GrantedBy: e.run.RequestedBy,
			Reason:    "follows " + e.of.old.Name,
		},
		e.of.old.ID,
		withdraw,
	)
}

// entry records the service's own login with the new key, if there was one.
func (e ending) entry(ctx context.Context) error {
	if !e.work.Kept || e.work.Phase == rotation.Forced && e.by.Key() == nil {
		return nil
	}
	return e.tx.AddProof(ctx, record.Proof{
		ID: store.NewID(), Kind: "entry", KeyID: e.of.New.ID, LoginID: &e.of.login.ID, At: e.at, Person: "service",
	})
}

func (e ending) note(ctx context.Context, outcome, told, reason string) error {
	n := journal.OnKeys(
		e.journal.Entry(
			journal.ForRun(e.run), told, "login", e.name, e.run.Reason,
			journal.Facts{"old_key": e.of.old.Name, "key": e.of.New.Name, "reason": reason},
		),
		e.of.old.Name, e.of.New.Name,
	)
	n.Outcome = outcome
	return e.tx.Note(ctx, n)
}
