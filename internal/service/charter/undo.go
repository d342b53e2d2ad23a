package charter

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Undo takes the last settlement of a charter back: what it placed is withdrawn, what it withdrew is put back as it
// was, and the version before counts again. Imported keys and instances that came to be stay. As with settling,
// nothing may leave a login shut.
func (s *Service) Undo(ctx context.Context, actor people.Actor, name, reason string) (record.Settlement, error) {
	none := record.Settlement{}
	if err := errors.Join(people.FleetWide(ctx, "a charter"), problem.CheckText("reason", reason)); err != nil {
		return none, err
	}
	c, err := s.named(ctx, name)
	if err != nil {
		return none, err
	}
	last, err := s.store.SettlementsOf(ctx, name, record.Page{Limit: 1})
	if err != nil {
		return none, err
	}
	if len(last.Items) == 0 || last.Items[0].Undoes != nil {
		return none, &problem.Problem{
			Kind: problem.Conflict, Code: "nothing-to-undo", Where: []string{name},
			Detail: "the last settlement of " + name + " was taken back already, or there is none",
			Remedy: "Settle the files as they were: plumlatch charter settle FILE",
		}
	}
	was := last.Items[0]
	if was.EndedAt == nil {
		return none, atWork(name)
	}
	done, err := s.store.ItemsOf(ctx, was.ID, true)
	if err != nil {
		return none, err
	}
	t := record.Settlement{
		ID: store.NewID(), CharterID: c.ID, Version: was.Was, Was: was.Version, Undoes: &was.ID,
		State: record.SettlementRunning, RequestedBy: actor.Name, OperatorID: actor.ID, Reason: reason, CreatedAt: s.now(),
	}
	items := inverse(t, done)
	if err := s.judge(ctx, items); err != nil {
		return none, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if _, err := tx.LockCharter(ctx, name); err != nil {
			return err
		}
		if len(items) == 0 {
			t.State, t.EndedAt = record.SettlementEnded, new(s.now())
		}
		if err := tx.SetCharterVersion(ctx, c.ID, was.Was, c.Note); err != nil {
			return err
		}
		if err := tx.AddSettlement(ctx, t, items); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "charter.undo", "charter", name, reason,
			journal.Facts{"version": was.Was, "changes": len(items)},
		))
	})
	if err != nil {
		var taken *store.TakenError
		if errors.As(err, &taken) {
			return none, atWork(name)
		}
		return none, err
	}
	s.engine.Nudge(ctx, settleDuty)
	return s.store.Settlement(ctx, t.ID)
}

// inverse are the items that take those back that were done, in the order in which they are done.
func inverse(t record.Settlement, done []record.SettlementItem) []record.SettlementItem {
	var out []record.SettlementItem
	for _, i := range done {
		if i.State != record.ItemDone || i.Before == nil {
			continue
		}
		back := record.SettlementItem{ID: store.NewID(), SettlementID: t.ID, Change: i.Change, State: record.ItemWaiting}
		back.Change.Why, back.Change.At = i.Before.Why, placeOf(i.Before.At)
		switch i.Change.Kind {
		case charter.PlaceLine, charter.Record:
			if back.Change.Kind = charter.Withdraw; i.Before.Granted {
				continue // a line that was missing stays
			}
		case charter.Loosen, charter.Limit:
			back.Change.Limits, back.Change.Limited = i.Change.Limited, i.Change.Limits
			if back.Change.Kind = charter.Loosen; i.Change.Kind == charter.Loosen {
				back.Change.Kind = charter.Limit
			}
		case charter.Own:
			back.Disowns = true
		case charter.ChangeEnd:
			back.Change.Until, back.Change.Was = i.Change.Was, i.Change.Until
		case charter.Withdraw:
			back.Change.Kind, back.PutsBack = charter.PlaceLine, i.RunID
			back.Change.Limits = i.Before.Limits
		case charter.Forget:
			back.Change.Kind, back.Change.Limits = charter.Record, i.Before.Limits
		case charter.DescribeKey, charter.LabelOne:
			back.Restores = i.Before
		default:
			continue
		}
		out = append(out, back)
	}
	slices.SortStableFunc(out, func(a, b record.SettlementItem) int { return charter.InOrder(a.Change, b.Change) })
	for n := range out {
		out[n].Seq = n + 1
	}
	return out
}

// placeOf reads a place in a charter's files as a grant has it.
func placeOf(at string) charter.Place {
	n := strings.LastIndexByte(at, ':')
	line, err := strconv.Atoi(at[n+1:])
	if n < 0 || err != nil {
		return charter.Place{}
	}
	return charter.Place{File: at[:n], Line: line, Column: 1}
}

// judge refuses items that would leave a login shut that is not.
func (s *Service) judge(ctx context.Context, items []record.SettlementItem) error {
	w, err := s.world(ctx, charter.Charter{})
	if err != nil {
		return err
	}
	changes := make([]charter.Change, len(items))
	for n, i := range items {
		changes[n] = i.Change
	}
	for _, r := range charter.Judge(w.World, changes) {
		if r.After == reach.Shut && worse(r) {
			return &problem.Problem{
				Kind: problem.Forbidden, Code: "would-be-shut", Where: []string{r.Login},
				Detail: r.Login + " would be shut by it", Remedy: "Give another holder access there first",
			}
		}
	}
	return nil
}
