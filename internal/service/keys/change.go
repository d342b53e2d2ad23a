package keys

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Change says what of a key's record is to become something else; what is empty stays.
type Change struct {
	Name         string
	Purpose      *string
	SetLabels    map[string]string
	RemoveLabels []string
	Reason       string
}

// ChangeKey changes the name, the purpose or the labels of a key's record: by its holder, or an admin. The key
// itself, its holder and where it is granted stay as they are.
func (s *Service) ChangeKey(ctx context.Context, actor people.Actor, name string, c Change) (record.Key, error) {
	if err := c.check(); err != nil {
		return record.Key{}, err
	}
	after := name
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.LockKey(ctx, tx, name, func(k record.Key) error { return s.mayChange(ctx, tx, actor, k) })
		if err != nil {
			return err
		}
		change, facts := c.of(k)
		if len(facts) == 0 {
			return nil
		}
		var taken *store.TakenError
		err = tx.ChangeKey(ctx, k.ID, change)
		if errors.As(err, &taken) {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "name-taken",
				Field:  "name",
				Detail: fmt.Sprintf("there is a key named %s already", c.Name),
				Remedy: "Choose another name, or see it: plumlatch key show " + c.Name,
			}
		}
		if err != nil {
			return err
		}
		if change.Name != "" {
			after = change.Name
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "key.change", "key", name, c.Reason, facts,
			),
			name, after,
		))
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.Key(ctx, after)
}

func (c Change) check() error {
	if c.Name != "" {
		if err := problem.CheckName("name", c.Name); err != nil {
			return err
		}
	}
	if c.Purpose != nil {
		if err := problem.CheckText("purpose", *c.Purpose); err != nil {
			return err
		}
	}
	if err := problem.CheckText("reason", c.Reason); err != nil {
		return err
	}
	return problem.CheckLabels(c.SetLabels)
}

// of returns the change of a key's record, and what of it changes, for the daybook.
func (c Change) of(k record.Key) (change record.KeyChange, facts journal.Facts) {
	facts = journal.Facts{}
	if c.Name != "" && c.Name != k.Name {
		change.Name = c.Name
		facts["name"] = c.Name
	}
	if c.Purpose != nil && *c.Purpose != k.Purpose {
		change.Purpose = c.Purpose
		facts["purpose"], facts["no_purpose"] = *c.Purpose, *c.Purpose == ""
	}
	labels := maps.Clone(k.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	for _, l := range c.RemoveLabels {
		delete(labels, l)
	}
	maps.Copy(labels, c.SetLabels)
	if !maps.Equal(labels, k.Labels) {
		change.Labels = &labels
		var words []string
		for _, l := range slices.Sorted(maps.Keys(labels)) {
			words = append(words, l+"="+labels[l])
		}
		facts["labels"], facts["no_labels"] = words, len(words) == 0
	}
	return change, facts
}

// mayChange refuses an actor who may not change the record of the key.
func (s *Service) mayChange(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) error {
	if err := s.Beyond(ctx, tx, k); err != nil {
		return err
	}
	own, err := s.Holds(ctx, tx, actor, k)
	switch {
	case err != nil:
		return err
	case k.StewardOf != nil:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "steward-key",
			Where:  []string{k.Name},
			Detail: k.Name + " is a steward key, the service's own",
		}
	case !own && actor.Role != people.Admin:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "not-the-holder",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("only the holder of %s or an admin changes its record", k.Name),
			Remedy: "Ask them",
		}
	}
	return nil
}
