package rotate

import (
	"cmp"
	"context"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// ChangeRotation pauses a rotation, continues with it, tries again what failed, or
// undoes what is not taken out yet. login "" means all of it.
func (s *Service) ChangeRotation(
	ctx context.Context, actor people.Actor, id uuid.UUID, change, login, reason string,
) (RotationState, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return RotationState{}, err
	}
	if _, err := s.Rotation(ctx, id); err != nil {
		return RotationState{}, err
	}
	var of uuid.UUID
	if login != "" {
		l, _, err := s.fleet.LoginNamed(ctx, login)
		if err != nil {
			return RotationState{}, err
		}
		of = l.ID
	}
	if change == "override" {
		return s.overrideItem(ctx, actor, id, login, of, reason)
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		r, err := tx.LockRotation(ctx, id)
		if err != nil {
			return err
		}
		next, affected, err := s.nextOf(ctx, tx, r, change, of, cmp.Or(reason, "paused by "+actor.Name))
		if err != nil {
			return err
		}
		if affected == 0 {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "nothing-to-change",
				Detail: "there is nothing to " + change + " there",
				Remedy: "See it: plumlatch rotate show " + id.String(),
			}
		}
		if err := tx.ChangeRotation(ctx, id, next); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "rotation."+change, "rotation", id.String(), reason, journal.Facts{"login": login},
		))
	})
	if err != nil {
		return RotationState{}, err
	}
	s.engine.Nudge(ctx, rotationDuty)
	return s.Rotation(ctx, id)
}

// nextOf does what a change of the rotation r does to its items, and returns what becomes of the rotation
// itself and how many items it concerned, -1 where it is about none. of is one login, the zero one means all.
func (s *Service) nextOf(
	ctx context.Context, tx *store.Store, r record.Rotation, change string, of uuid.UUID, why string,
) (next record.RotationChange, affected int, err error) {
	affected = -1
	switch live := r.State == rotation.Running || r.State == rotation.Paused; {
	case change == "pause" && r.State == rotation.Running:
		return record.RotationChange{State: rotation.Paused, PausedWhy: &why}, affected, nil
	case change == "resume" && r.State == rotation.Paused:
		// Whoever continues has decided about what failed so far.
		settings, err := resumed(ctx, tx, r)
		return record.RotationChange{State: rotation.Running, PausedWhy: new(""), Settings: &settings}, affected, err
	case change == "retry" && (live || r.State == rotation.Ended):
		if affected, err = tx.RetryItems(ctx, r.ID, of); err != nil {
			return next, affected, err
		}
		return record.RotationChange{State: rotation.Running, PausedWhy: new("")}, affected, tx.ReopenRotation(ctx, r.ID)
	case change == "undo" && r.EndedAt == nil:
		oneLogin := of != uuid.Nil
		undone, err := s.undoItems(ctx, tx, r.ID, of)
		if err != nil {
			return next, affected, err
		}
		if oneLogin {
			return next, undone.affected, undone.refused(oneLogin)
		}
		return record.RotationChange{State: rotation.Undoing, PausedWhy: new("")}, affected, undone.refused(oneLogin)
	}
	return next, affected, &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "wrong-state",
		Detail: fmt.Sprintf("the rotation is %s, so it cannot be changed by %s", r.State, change),
		Remedy: "See it: plumlatch rotate show " + r.ID.String(),
	}
}

// resumed returns the settings of a rotation that continues after a pause.
func resumed(ctx context.Context, tx *store.Store, r record.Rotation) (rotation.Settings, error) {
	counts, err := tx.RotationCounts(ctx, r.ID)
	if err != nil {
		return r.Settings, err
	}
	group := map[rotation.ItemState]int{}
	if r.Settings.First > 0 {
		if group, err = tx.FirstGroup(ctx, r.ID, r.Settings.First); err != nil {
			return r.Settings, err
		}
	}
	lost := group[rotation.ItemFailed] + group[rotation.ItemUndone]
	return r.Settings.Resumed(counts[r.ID][rotation.ItemFailed], lost, group[rotation.ItemDone]), nil
}
