package charter

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// mostAtWork is how many runs of one settlement are at work at the same time.
const mostAtWork = 64

// carrySettlements has every live settlement continue as far as it can now.
func (s *Service) carrySettlements(ctx context.Context) error {
	ids, err := s.store.LiveSettlements(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, id := range ids { // one that fails holds up no other
		if err := s.carry(ctx, id); err != nil {
			failed = append(failed, fmt.Errorf("settlement %s: %w", id, err))
		}
	}
	return errors.Join(failed...)
}

// carry does what is next of a settlement. It looks at how things are each time, so that it may be cut off anywhere.
func (s *Service) carry(ctx context.Context, id uuid.UUID) error {
	ctx, release, ok, err := s.store.Lock(ctx, "settlement "+id.String())
	if err != nil || !ok {
		return err
	}
	defer release()
	for {
		t, err := s.store.Settlement(ctx, id)
		if err != nil || t.EndedAt != nil {
			return err
		}
		items, err := s.store.ItemsOf(ctx, id, false)
		if err != nil {
			return err
		}
		if len(items) == 0 {
			return s.end(ctx, t)
		}
		again, err := s.carryItems(ctx, t, items)
		if err != nil || !again {
			return err
		}
	}
}

// carryItems follows the runs of a settlement and does the items of the first kind that is not over. It reports whether
// there may be something next already.
func (s *Service) carryItems(
	ctx context.Context,
	t record.Settlement,
	items []record.SettlementItem,
) (again bool, err error) {
	atWork := 0
	for n := range items {
		i := &items[n]
		if i.State != record.ItemAtWork || i.RunID == nil {
			continue
		}
		over, err := s.follow(ctx, t, i)
		if err != nil {
			return false, err
		}
		if again = again || over; !over {
			atWork++
		}
	}
	if t.State != record.SettlementRunning {
		return again, nil
	}
	by, err := s.actorOf(ctx, t)
	if err != nil {
		return false, err
	}
	failed, err := s.store.FailedSubjects(ctx, t.ID)
	if err != nil {
		return false, err
	}
	stage := charter.Kind("")
	for n := range items {
		i := &items[n]
		if i.EndedAt != nil {
			continue
		}
		if stage == "" {
			stage = i.Change.Kind
		}
		if i.Change.Kind != stage { // what lets in is over before what keeps out begins
			break
		}
		if i.RunID != nil || atWork >= mostAtWork {
			continue
		}
		if slices.Contains(failed, i.Change.Login) && i.Change.Login != "" && charter.KeepsOut(i.Change.Kind) {
			i.State, i.Detail, i.EndedAt = record.ItemLeft, "another change of this login has failed", new(s.now())
		} else if err := s.start(ctx, t, by, i); err != nil {
			return false, err
		}
		if err := s.store.SetItem(ctx, *i); err != nil {
			return false, err
		}
		switch {
		case i.EndedAt != nil:
			again = true
		case i.RunID != nil:
			atWork++
		}
	}
	return again, nil
}

// actorOf is who has asked for a settlement, with what they may do now.
func (s *Service) actorOf(ctx context.Context, t record.Settlement) (people.Actor, error) {
	by := people.Actor{ID: t.OperatorID, Name: t.RequestedBy, Via: "service", Role: people.Viewer}
	o, err := s.store.OperatorNamed(ctx, t.RequestedBy)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return by, err
	}
	if err == nil && o.ID == t.OperatorID && o.ClosedAt == nil && len(o.Limits) == 0 {
		by.Role = people.Role(o.Role)
	}
	return by, nil
}

// follow sees whether the run of an item is over.
func (s *Service) follow(ctx context.Context, t record.Settlement, i *record.SettlementItem) (over bool, err error) {
	run, err := s.store.RunByID(ctx, *i.RunID)
	if err != nil || run.EndedAt == nil {
		return false, err
	}
	i.State, i.Detail, i.EndedAt = record.ItemDone, "", new(s.now())
	if runs.State(run.State) != runs.Done {
		i.State, i.Detail = record.ItemFailed, run.Error
	} else if i.Change.Kind == charter.LaunchOne {
		if err := s.store.OwnGrantsOf(ctx, i.Change.Instance, i.Change.Keys, t.CharterID, at(i.Change)); err != nil {
			return false, err
		}
	}
	return true, s.store.SetItem(ctx, *i)
}

// start begins an item, or does all of it. What a rule or a right forbids has failed; what cannot be now is tried
// again.
func (s *Service) start(ctx context.Context, t record.Settlement, by people.Actor, i *record.SettlementItem) error {
	if !by.Role.May(people.Operator) {
		i.State, i.Detail, i.EndedAt = record.ItemFailed, t.RequestedBy+" may not change anything any longer", new(s.now())
		return nil
	}
	if i.State == record.ItemWaiting {
		before, err := s.before(ctx, i.Change)
		if err != nil {
			return s.failed(i, err)
		}
		i.State, i.Before = record.ItemAtWork, before
		if err := s.store.SetItem(ctx, *i); err != nil {
			return err
		}
	}
	run, err := s.do(ctx, t, by, i)
	if err != nil {
		return s.failed(i, err)
	}
	if run == nil {
		i.State, i.EndedAt = record.ItemDone, new(s.now())
	} else {
		i.RunID = &run.ID
	}
	return nil
}

// failed has an item be failed where the error says that it will not do; it is begun again where another run is at
// work.
func (s *Service) failed(i *record.SettlementItem, err error) error {
	var p *problem.Problem
	if !errors.As(err, &p) {
		return err
	}
	if p.Code != "run-at-work" {
		i.State, i.Detail, i.EndedAt = record.ItemFailed, p.Detail, new(s.now())
	}
	return nil
}

// end ends a settlement. The charter is compared again soon.
func (s *Service) end(ctx context.Context, t record.Settlement) error {
	defer s.engine.Nudge(ctx, watchDuty)
	return s.store.InTx(ctx, func(tx *store.Store) error {
		now, err := tx.LockSettlement(ctx, t.ID)
		if err != nil || now.EndedAt != nil {
			return err
		}
		if err := tx.SetSettlement(ctx, t.ID, record.SettlementEnded, new(s.now())); err != nil {
			return err
		}
		if err := tx.ForgetCompared(ctx, t.CharterID); err != nil {
			return err
		}
		told := "charter.settled"
		if t.Undoes != nil {
			told = "charter.undone"
		}
		entry := s.journal.Entry(
			journal.By{Name: t.RequestedBy, Via: "service"}, told, "charter", t.Charter, t.Reason,
			journal.Facts{
				"version": t.Version, "done": t.Counts[record.ItemDone],
				"failed": t.Counts[record.ItemFailed] + t.Counts[record.ItemLeft],
			},
		)
		if t.Counts[record.ItemFailed] > 0 {
			journal.Instead(&entry, "failed", told+":partly")
		}
		return tx.Note(ctx, entry)
	})
}
