package rotate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/store"
)

// takenAtOnce is how many items somebody is given at once unless they ask for another number.
const takenAtOnce = 8

// TakenItem is an item of a rotation that somebody works on from their own machine.
type TakenItem struct {
	Run      uuid.UUID
	Login    string
	Phase    rotation.Phase
	Old, New record.Key
	// The lines are those of the keys as they are in a file.
	OldLine, NewLine string
}

// TakeRotationItems gives the actor items to work on from their own machine: those
// whose old key is one of the keys, and, where the old line is to go, whose new key is.
func (s *Service) TakeRotationItems(
	ctx context.Context, actor people.Actor, id uuid.UUID, keys []string, limit int,
) ([]TakenItem, error) {
	limit = cmp.Or(limit, takenAtOnce)
	if limit < 1 || limit > rotation.MaxAtOnce {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-limit",
			Field:  "limit",
			Detail: fmt.Sprintf("%d at once are not possible; 1 to %d are", limit, rotation.MaxAtOnce),
		}
	}
	if _, err := s.Rotation(ctx, id); err != nil {
		return nil, err
	}
	may := func(i record.RotationItem, phase rotation.Phase) bool {
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
		if err := tx.ProveEntered(ctx, r.ID); err != nil {
			return err
		}
		counts, err := tx.RotationCounts(ctx, id)
		if err != nil {
			return err
		}
		group, err := firstGroup(ctx, tx, r)
		if err != nil || r.State == rotation.Running && pauseWhy(r, counts[id], group) != "" {
			return err // it pauses in a moment
		}
		busy := counts[id][rotation.ItemPlacing] + counts[id][rotation.ItemRemoving]
		ids, err = s.startDue(ctx, tx, r, group, min(limit, r.Settings.AtOnce-busy), may, actor.Name)
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
		if err := s.runs.AwaitStep(ctx, run, ""); err != nil {
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
	r, err := s.replace.Taken(ctx, run)
	if err != nil {
		return TakenItem{}, err
	}
	return TakenItem{
		Run:     id,
		Login:   fleet.LoginName(r.Login.OSUser, r.Login.Instance.Name),
		Phase:   r.Phase,
		Old:     r.Old,
		New:     r.New,
		OldLine: keys.LineOf(r.Old),
		NewLine: s.keys.LineFor(r.New),
	}, nil
}

// overrideItem has the old line of one login go although nobody has logged in with
// the new key: for a lost key, by the login's name, with a reason.
func (s *Service) overrideItem(
	ctx context.Context, actor people.Actor, id uuid.UUID, name string, login uuid.UUID, reason string,
) (RotationState, error) {
	var started []uuid.UUID
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		r, err := tx.LockRotation(ctx, id)
		if err != nil {
			return err
		}
		refuse := func(err error) error {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "no-override",
				Field:  "login",
				Detail: err.Error(),
				Remedy: "Name it: plumlatch rotate override " + id.String() + " -login USER@INSTANCE -reason TEXT",
			}
		}
		if login == uuid.Nil {
			return refuse(rotation.ErrNotNamed)
		}
		i, err := tx.ItemOf(
			ctx, id, login, []rotation.ItemState{rotation.ItemPlaced, rotation.ItemProved, rotation.ItemFailed},
		)
		if errors.Is(err, store.ErrNotFound) ||
			err == nil && (i.NewKeyID == nil || i.OldKeyID == nil || replace.IsHere(i.Means)) {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "nothing-to-override",
				Where:  []string{name},
				Detail: "no new line awaits a login in " + name + " that the service could continue without",
				Remedy: "See it: plumlatch rotate show " + name,
			}
		}
		if err != nil {
			return err
		}
		k, err := tx.KeyByID(ctx, *i.OldKeyID)
		if err != nil {
			return err
		}
		if _, err := rotation.OverrideFor(
			fleet.LoginName(i.OSUser, i.InstanceName), name, reason, k.State == custody.Lost,
		); err != nil {
			return refuse(err)
		}
		why := &replace.Override{By: actor.Name, Reason: reason}
		if started, err = s.startRotating(
			ctx, tx, r, []begun{{i, rotation.Forced, rotation.ItemRemoving, why}}, "",
		); err != nil {
			return err
		}
		if err := tx.ForceItem(ctx, i.ID, actor.Name, reason); err != nil {
			return err
		}
		if err := tx.ReopenRotation(ctx, id); err != nil {
			return err
		}
		if err := tx.ChangeRotation(ctx, id, record.RotationChange{State: keepOn(r)}); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "rotation.override", "login", name, reason,
				journal.Facts{"old_key": i.OldName, "key": i.NewName},
			),
			i.OldName,
			i.NewName,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return RotationState{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "run-at-work",
			Where:  []string{name},
			Detail: "another run is at work there",
			Remedy: "Wait for it to finish, then retry",
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
func keepOn(r record.Rotation) rotation.State {
	if r.EndedAt != nil {
		return rotation.Running
	}
	return r.State
}
