package reentry

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/runs"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

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
		if err := s.store.Note(ctx, s.journal.Entry(
			actor.By(), "restore.undo", "login", r.Login, reason, nil,
		)); err != nil {
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
		Kind: problem.Forbidden,
		Code: "restore-proved",
		Detail: fmt.Sprintf(
			"a login with %s was completed, so that %s is open again and there is nothing to undo", r.Key, r.Login,
		),
		Remedy: "Let the last steps end: plumlatch restore watch " + r.Login,
	}
}

func overRemedy(r Restore) string {
	if r.State == runs.Done && r.Target != r.Instance.Name {
		return fmt.Sprintf("The previous instance is stopped, not deleted: plumlatch instance start %s", r.Instance.Name)
	}
	return "To take the new key away: plumlatch grant withdraw " + r.Key + " " + r.Login
}
