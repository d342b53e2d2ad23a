package rotate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/store"
)

// carryRotations has every live rotation continue as far as it can now.
func (s *Service) carryRotations(ctx context.Context) error {
	ids, err := s.store.LiveRotations(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, id := range ids { // one that fails holds up no other
		if err := s.advance(ctx, id); err != nil {
			failed = append(failed, fmt.Errorf("rotation %s: %w", id, err))
		}
	}
	return errors.Join(failed...)
}

// advance starts the runs of a rotation that may start now, and ends it when nothing
// is left. It is right to call it at any time and from several places at once.
func (s *Service) advance(ctx context.Context, id uuid.UUID) error {
	var started []uuid.UUID
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		started = nil
		r, err := tx.LockRotation(ctx, id)
		if err != nil || r.EndedAt != nil {
			return err
		}
		if err := tx.ProveEntered(ctx, r.ID); err != nil {
			return err
		}
		if r.State == rotation.Undoing { // what was at work when the undo was asked for
			if _, err := s.undoItems(ctx, tx, id, uuid.Nil); err != nil {
				return err
			}
		}
		counted, err := tx.RotationCounts(ctx, id)
		if err != nil {
			return err
		}
		counts := counted[id]
		busy := counts[rotation.ItemPlacing] + counts[rotation.ItemRemoving]
		// Read once: a run that ends meanwhile must not count for what may begin and not for the pause.
		group, err := firstGroup(ctx, tx, r)
		if err != nil {
			return err
		}
		if r.State == rotation.Running {
			if why := pauseWhy(r, counts, group); why != "" {
				if err := tx.ChangeRotation(ctx, id, record.RotationChange{State: rotation.Paused, PausedWhy: &why}); err != nil {
					return err
				}
				return tx.Note(ctx, s.journal.Entry(
					journal.ByService, "rotation.pause:itself", "rotation", id.String(), why,
					journal.Facts{"by": r.RequestedBy, "reason": why},
				))
			}
		}
		if busy == 0 &&
			rotation.Left(counts)+counts[rotation.ItemUndoing] == 0 {
			return s.endRotation(ctx, tx, r, counts)
		}
		budget := r.Settings.AtOnce - busy
		if r.Settings.AtOnce == rotation.MaxAtOnce &&
			r.Settings.StopAfter == 0 { // as many as there are workers, so that some may queue
			budget += queuedRuns
		}
		started, err = s.startDue(ctx, tx, r, group, budget, s.mayBegin, "")
		return err
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return nil // another run was faster on one of the instances; the next time
	}
	if len(started) > 0 {
		s.replace.Prepare(ctx, started)
	}
	for _, run := range started {
		s.engine.Wake(ctx, run)
	}
	return err
}

// firstGroup returns how many of the first group are in which state; nothing where there is none.
func firstGroup(ctx context.Context, tx *store.Store, r record.Rotation) (map[rotation.ItemState]int, error) {
	if r.Settings.First == 0 {
		return nil, nil
	}
	return tx.FirstGroup(ctx, r.ID, r.Settings.First)
}

// pauseWhy says why a rotation is to wait for a decision, "" if it is not.
func pauseWhy(r record.Rotation, counts, group map[rotation.ItemState]int) string {
	tally := rotation.Tally{
		Failed:      counts[rotation.ItemFailed],
		Left:        rotation.Left(counts),
		GroupFailed: group[rotation.ItemFailed],
		GroupUndone: group[rotation.ItemUndone],
		GroupDone:   group[rotation.ItemDone],
	}
	if !r.Settings.ThenGo {
		tally.Group = r.Settings.First
	}
	why, n := rotation.Pause(tally, r.Settings.StopAfter)
	switch why {
	case rotation.ManyFailed:
		return text.Counted(n, "login") + " failed"
	case rotation.GroupFailed:
		return text.Counted(n, "login") + " of the first group failed"
	case rotation.GroupUndone:
		return text.Counted(n, "login") + " of the first group taken back"
	case rotation.GroupDone:
		return fmt.Sprintf("the first group of %d is done, and the rest waits for your word", n)
	}
	return ""
}

func (s *Service) endRotation(
	ctx context.Context, tx *store.Store, r record.Rotation, counts map[rotation.ItemState]int,
) error {
	state := rotation.Ended
	if r.State == rotation.Undoing {
		state = rotation.Undone
	}
	if err := tx.ChangeRotation(
		ctx, r.ID, record.RotationChange{State: state, EndedAt: new(s.now()), PausedWhy: new("")},
	); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		journal.By{Name: r.RequestedBy, Via: "service"}, "rotation."+string(state), "rotation", r.ID.String(),
		r.Reason,
		journal.Facts{
			"by":       r.RequestedBy,
			"replaced": counts[rotation.ItemDone],
			"failed":   counts[rotation.ItemFailed],
			"undone":   counts[rotation.ItemUndone],
		},
	))
}

// begun is an item whose run is to start.
type begun struct {
	record.RotationItem
	phase rotation.Phase     // "" is In, or Whole where that can be
	state rotation.ItemState // that of the item meanwhile
	// override has the old line go without a login by the new key.
	override *replace.Override
}

func itemsOf(list []begun) []uuid.UUID {
	ids := make([]uuid.UUID, len(list))
	for n, i := range list {
		ids[n] = i.ID
	}
	return ids
}

// mayBegin reports whether the service itself may work on an item in a phase.
func (s *Service) mayBegin(i record.RotationItem, _ rotation.Phase) bool {
	return !replace.IsHere(i.Means)
}

// startDue starts runs for at most so many items that may be begun: first those to be
// undone, then those whose grace is over, then new ones. worker is who works on them
// from their own machine, "" for the service.
func (s *Service) startDue(
	ctx context.Context, tx *store.Store, r record.Rotation, group map[rotation.ItemState]int, budget int,
	mayBegin func(record.RotationItem, rotation.Phase) bool, worker string,
) (started []uuid.UUID, err error) {
	if budget <= 0 {
		return nil, nil
	}
	var may []begun
	add := func(items []record.RotationItem, phase rotation.Phase, state rotation.ItemState) {
		for _, i := range items {
			if mayBegin(i, phase) {
				may = append(may, begun{i, phase, state, nil})
			}
		}
	}
	back, err := tx.ItemsIn(ctx, r.ID, rotation.ItemUndoing, worker != "", 0, budget*2)
	if err != nil {
		return nil, err
	}
	add(back, rotation.Back, rotation.ItemUndoing)
	if r.State == rotation.Running && s.withinHours(r) {
		proved, err := tx.ItemsIn(ctx, r.ID, rotation.ItemProved, worker != "", 0, mostRotated)
		if err != nil {
			return nil, err
		}
		grace := time.Duration(r.Settings.GraceSeconds) * time.Second
		due := func(i record.RotationItem) bool { return s.now().Before(i.ProvedAt.Add(grace)) }
		add(slices.DeleteFunc(proved, due), rotation.Out, rotation.ItemRemoving)
		waiting, err := tx.ItemsIn(
			ctx, r.ID, rotation.ItemWaiting, worker != "", rotation.Beyond(r.Settings.First, group), budget*2,
		)
		if err != nil {
			return nil, err
		}
		add(waiting, "", rotation.ItemPlacing)
	}
	instances := make([]string, len(may))
	for n, i := range may {
		instances[n] = i.InstanceName
	}
	var list []begun
	for _, n := range rotation.Choose(instances, budget) {
		list = append(list, may[n])
	}
	return s.startRotating(ctx, tx, r, list, worker)
}

func (s *Service) withinHours(r record.Rotation) bool {
	zone, err := time.LoadLocation(r.Settings.Zone)
	return err == nil && r.Settings.Within(s.now().In(zone))
}

// journalsOf returns what earlier runs of items have done to lines, by run.
func journalsOf(ctx context.Context, tx *store.Store, list []uuid.UUID) (map[uuid.UUID]means.Journal, error) {
	earlier, err := tx.RunsByID(ctx, list)
	if err != nil {
		return nil, err
	}
	of := map[uuid.UUID]means.Journal{}
	for _, run := range earlier {
		if w, err := replace.WorkOf(run); err == nil { // else it is an earlier one, and what it placed is not known
			of[run.ID] = w.Journal
		}
	}
	return of, nil
}

// startRotating adds the runs of items, in a few statements whatever their number.
func (s *Service) startRotating(
	ctx context.Context, tx *store.Store, r record.Rotation, list []begun, worker string,
) ([]uuid.UUID, error) {
	if len(list) == 0 {
		return nil, nil
	}
	var logins, keys, before []uuid.UUID
	for _, i := range list {
		logins = append(logins, i.LoginID)
		if i.NewKeyID != nil {
			keys = append(keys, *i.NewKeyID)
		}
		if i.RunID != nil {
			before = append(before, *i.RunID)
		}
	}
	instances, err := tx.InstancesOfLogins(ctx, logins)
	if err != nil {
		return nil, err
	}
	kept, err := tx.KeptAmong(ctx, keys)
	if err != nil {
		return nil, err
	}
	journals, err := journalsOf(ctx, tx, before)
	if err != nil {
		return nil, err
	}
	granted, err := tx.GrantedAmong(ctx, itemsOf(list))
	if err != nil {
		return nil, err
	}
	var started []record.Run
	var ids []uuid.UUID
	var turns []store.ItemTurn
	for _, i := range list {
		if i.NewKeyID == nil || i.OldKeyID == nil {
			turns = append(turns, store.ItemTurn{
				ID: i.ID, State: rotation.ItemFailed, Detail: "the record of its key is gone", EndedAt: new(s.now()),
			})
			continue
		}
		if i.phase == "" && !granted[i.ID] { // withdrawn or replaced since the plan
			turns = append(turns, store.ItemTurn{
				ID: i.ID, State: rotation.ItemUndone, EndedAt: new(s.now()),
				Detail: i.OldName + " is no longer granted there; nothing to replace",
			})
			continue
		}
		run := s.engine.NewRun(runs.Request{
			Kind:     replace.RunKind,
			Instance: instances[i.LoginID],
			By:       r.RequestedBy,
			Reason:   r.Reason,
			Payload:  s.workOn(r, i, worker, kept[*i.NewKeyID], journals),
			At:       s.now(),
		})
		started, ids = append(started, run), append(ids, run.ID)
		turns = append(turns, store.ItemTurn{ID: i.ID, State: i.state, Run: &run.ID})
	}
	if err := tx.AddRuns(ctx, started); err != nil {
		return nil, err
	}
	if err := tx.TurnItems(ctx, turns); err != nil {
		return nil, err
	}
	return ids, nil
}

// workOn is the work of the run that replaces, or goes on replacing, one key in one login. kept is whether the
// service has the new private key.
func (s *Service) workOn(
	r record.Rotation, i begun, worker string, kept bool, journals map[uuid.UUID]means.Journal,
) replace.Work {
	work := replace.Work{
		Rotation: r.ID,
		Item:     i.ID,
		Login:    i.LoginID,
		Old:      *i.OldKeyID,
		New:      *i.NewKeyID,
		OldName:  i.OldName,
		NewName:  i.NewName,
		Phase:    i.phase,
		Means:    replace.Means(i.Means),
		Worker:   worker,
		Proved:   i.ProvedAt != nil,
		Override: i.override,
		Kept:     kept && s.Safe != nil && worker == "", // from elsewhere, whoever is there logs in
	}
	switch {
	case work.Phase == "" && work.Kept && r.Settings.GraceSeconds == 0:
		work.Phase = rotation.Whole
	case work.Phase == "":
		work.Phase = rotation.In
	case i.RunID != nil: // what an earlier run placed must be known to this
		work.Journal = journals[*i.RunID]
		work.Journal.Removed = nil
	}
	return work
}

// carryOn begins what is due of a rotation of which a run has ended.
func (s *Service) carryOn(ctx context.Context, id uuid.UUID) error {
	if !s.advancing.TryLock() { // whoever has it is at this, and else the next second is
		return nil
	}
	defer s.advancing.Unlock()
	if busy, err := s.store.BusyItems(ctx, id, rotation.MaxAtOnce); err != nil || busy >= rotation.MaxAtOnce {
		return err // enough are queued
	}
	return s.advance(ctx, id)
}
