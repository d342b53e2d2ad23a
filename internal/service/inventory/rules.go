package inventory

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// RuleWanted is a rule about instances with a label in their cloud: whether they are recorded by themselves, or left
// alone.
type RuleWanted struct {
	Cloud                string // "" for all
	LabelName, LabelText string
	LeaveAlone           bool
	Reason               string
}

// PutRule keeps a rule, in the place of one for the same label, and has the clouds that it is for read by it.
func (s *Service) PutRule(ctx context.Context, actor people.Actor, w RuleWanted) (record.RecordRule, error) {
	r := record.RecordRule{
		ID: store.NewID(), LabelName: w.LabelName, LabelText: w.LabelText, LeaveAlone: w.LeaveAlone, AddedAt: s.now(),
		AddedBy: actor.Name, CloudName: w.Cloud,
	}
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return r, err
	}
	if w.LabelName == "" {
		return r, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-label", Field: "label",
			Detail: "a rule is for a label that instances have in their cloud",
			Remedy: "Give -label NAME=VALUE",
		}
	}
	if err := errors.Join(problem.CheckText("label", w.LabelName), problem.CheckText("label", w.LabelText)); err != nil {
		return r, err
	}
	if w.Cloud != "" {
		c, err := s.clouds.Cloud(ctx, w.Cloud)
		if err != nil {
			return r, err
		}
		r.Cloud = &c.ID
	}
	told := "record-rule.put"
	if w.LeaveAlone {
		told = "record-rule.put:alone"
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddRecordRule(ctx, r); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), told, "record-rule", w.LabelName+"="+w.LabelText, w.Reason, journal.Facts{
				"for": r.For(),
			}),
		)
	})
	return r, err
}

// Rules returns all rules.
func (s *Service) Rules(ctx context.Context) ([]record.RecordRule, error) {
	return s.store.RecordRules(ctx)
}

// RemoveRule ends a rule. What it had recorded stays.
func (s *Service) RemoveRule(ctx context.Context, actor people.Actor, id uuid.UUID, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		r, err := tx.RecordRule(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return &problem.Problem{
				Kind: problem.NotFound, Code: "no-such-rule", Detail: "there is no rule with this id",
				Remedy: "See those that there are: plumlatch record-rule list",
			}
		}
		if err != nil {
			return err
		}
		if err := tx.DeleteRecordRule(ctx, id); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "record-rule.remove", "record-rule", r.LabelName+"="+r.LabelText, reason, journal.Facts{"for": r.For()},
		))
	})
}

// forgetAlone is how long after its end an instance that was left alone is forgotten.
const forgetAlone = 24 * time.Hour

// recordByRules records what the rules say of what a cloud was just read to have, and forgets what was left alone and
// is gone. One that cannot be recorded, since its cloud tells no host key, stays not recorded.
func (s *Service) recordByRules(ctx context.Context, c record.Cloud) error {
	rules, err := s.store.RecordRules(ctx)
	if err != nil || len(rules) == 0 {
		return err
	}
	if err := s.store.ForgetAlone(ctx, c.ID, s.now().Add(-forgetAlone)); err != nil {
		return err
	}
	found, err := s.store.ToRecord(ctx, c.ID)
	if err != nil {
		return err
	}
	by := people.Actor{Name: "service", Via: "service", Role: people.Admin}
	for n := 0; n < len(found); n += MostBroughtIn {
		part := found[n:min(n+MostBroughtIn, len(found))]
		w := Wanted{Cloud: c.Name, Reason: "by a rule for its label"}
		for _, id := range part {
			w.Instances = append(w.Instances, WantedInstance{Is: id})
		}
		done, err := s.BringIn(ctx, by, w)
		if err != nil {
			return fmt.Errorf("record by the rules: %w", err)
		}
		for _, one := range done {
			if one.Problem != nil {
				s.log.Info("not recorded by a rule", "cloud", c.Name, "instance", one.CloudID, "why", one.Problem.Detail)
			}
		}
	}
	return nil
}
