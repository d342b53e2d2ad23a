package rules

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/store"
)

const (
	ruleDuty = "rotation-rules"
	// rulesEvery is how often it is looked at what is due, which takes a plan for each rule.
	rulesEvery = 10 * time.Minute
	// ruleRests is the least time between two rotations that a rule begins, so that
	// what failed or was taken back is not tried again at once.
	ruleRests = 24 * time.Hour
	// maxDueAhead is how far ahead it is told what is due, in days.
	maxDueAhead = 366
)

// RuleWanted is a rotation rule that somebody wants.
type RuleWanted struct {
	Name     string
	Wanted   rotate.RotationWanted
	Make     string
	Settings rotation.Settings
	Reason   string
}

// Rule is a rotation rule.
type Rule struct {
	record.RotationRule
	Wanted rotate.RotationWanted
	// NextAt is before when it begins nothing; nil where it may now.
	NextAt *time.Time
}

func ruleOf(r record.RotationRule, now time.Time) (Rule, error) {
	out := Rule{RotationRule: r}
	var err error
	if out.Wanted, err = readRule(r.Wanted); err != nil {
		return out, fmt.Errorf("the rule %s cannot be read: %w", r.Name, err)
	}
	if r.BegunAt != nil {
		if next := r.BegunAt.Add(ruleRests); next.After(now) {
			out.NextAt = &next
		}
	}
	return out, nil
}

// RotationRules returns all rotation rules by name.
func (s *Service) RotationRules(ctx context.Context) ([]Rule, error) {
	records, err := s.store.RotationRules(ctx)
	if err != nil {
		return nil, err
	}
	rules := make([]Rule, len(records))
	for n, r := range records {
		if rules[n], err = ruleOf(r, s.now()); err != nil {
			return nil, err
		}
	}
	return rules, nil
}

// AddRotationRule adds a rotation rule. What is due by it begins at once, in its hours.
func (s *Service) AddRotationRule(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, w RuleWanted,
) (Rule, error) {
	if err := people.FleetWide(ctx, "a rotation rule"); err != nil {
		return Rule{}, err
	}
	start := rotate.RotationStart{RotationWanted: w.Wanted, Make: w.Make, Settings: w.Settings, Rule: w.Name}
	if err := errors.Join(
		problem.CheckName("name", w.Name), problem.CheckText("reason", w.Reason),
		rotate.CheckWanted(&start.RotationWanted), rotate.CheckSettings(&start.Settings), rotate.CheckTogether(start),
	); err != nil {
		return Rule{}, err
	}
	bad := func(field, detail, remedy string) error {
		return &problem.Problem{Kind: problem.Invalid, Code: "bad-" + field, Field: field, Detail: detail, Remedy: remedy}
	}
	switch {
	case w.Wanted.To != "":
		return Rule{}, bad(
			"wanted", "a rotation rule cannot name one replacement key, because that key would reach the age as well",
			"Leave -to out",
		)
	case w.Wanted.Urgent:
		return Rule{}, bad("wanted", "a rotation rule is not urgent", "For lost keys: plumlatch rotate start -lost -urgent")
	case w.Make != rotate.MakeService && w.Make != rotate.MakeBring:
		return Rule{}, bad(
			"make", fmt.Sprintf("%q is not a source for new keys; use here, service or bring", w.Make),
			"Say service or bring",
		)
	case w.Make == rotate.MakeService && s.Safe == nil:
		return Rule{}, problem.NoSafe()
	}
	if _, err := s.rotate.PlanRotation(ctx, start.RotationWanted); err != nil { // so that what it names is there
		return Rule{}, err
	}
	wanted, err := writeRule(start.RotationWanted)
	if err != nil {
		return Rule{}, err
	}
	kept := record.RotationRule{
		ID:        store.NewID(),
		Name:      w.Name,
		Wanted:    wanted,
		Make:      w.Make,
		Settings:  start.Settings,
		CreatedBy: actor.Name,
		CreatedAt: s.now().Truncate(time.Microsecond),
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, w.Name)
		if err != nil {
			return err
		}
		if earlier != "" {
			kept, err = tx.LockRotationRule(ctx, earlier)
			return err
		}
		if err := tx.AddRotationRule(ctx, kept); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "rule.add", "rule", w.Name, w.Reason, nil,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return Rule{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "name-taken",
			Field:  "name",
			Where:  []string{w.Name},
			Detail: "there is a rule named " + w.Name,
			Remedy: "Choose another name, or end that one: plumlatch rule delete " + w.Name,
		}
	}
	if err != nil {
		return Rule{}, err
	}
	s.engine.Nudge(ctx, ruleDuty)
	return ruleOf(kept, s.now())
}

func noSuchRule(name string) error {
	return &problem.Problem{
		Kind:   problem.NotFound,
		Code:   "no-such-rule",
		Where:  []string{name},
		Detail: fmt.Sprintf("there is no rule named %q", name),
		Remedy: "See what there is: plumlatch rule list",
	}
}

// ChangeRotationRule pauses a rule or lets it continue.
func (s *Service) ChangeRotationRule(
	ctx context.Context, actor people.Actor, name, change, reason string,
) (Rule, error) {
	if err := errors.Join(problem.CheckText("reason", reason), people.FleetWide(ctx, "a rotation rule")); err != nil {
		return Rule{}, problem.First(err)
	}
	var kept record.RotationRule
	err := s.store.InTx(ctx, func(tx *store.Store) (err error) {
		if kept, err = tx.LockRotationRule(ctx, name); err != nil {
			return err
		}
		kept.Paused = change == "pause"
		if err := tx.ChangeRotationRule(ctx, kept.ID, record.RuleChange{Paused: &kept.Paused}); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "rule."+change, "rule", name, reason, nil,
		))
	})
	if errors.Is(err, store.ErrNotFound) {
		return Rule{}, noSuchRule(name)
	}
	if err != nil {
		return Rule{}, err
	}
	s.engine.Nudge(ctx, ruleDuty)
	return ruleOf(kept, s.now())
}

// DeleteRotationRule ends a rule. A rotation that it has begun continues.
func (s *Service) DeleteRotationRule(ctx context.Context, actor people.Actor, name string) error {
	if err := people.FleetWide(ctx, "a rotation rule"); err != nil {
		return err
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		kept, err := tx.LockRotationRule(ctx, name)
		if err != nil {
			return err
		}
		if err := tx.DeleteRotationRule(ctx, kept.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "rule.delete", "rule", name, "", nil),
		)
	})
	if errors.Is(err, store.ErrNotFound) {
		return noSuchRule(name)
	}
	return err
}

// carryRules begins what is due by the rotation rules, and notes what is due and
// cannot be done.
func (s *Service) carryRules(ctx context.Context) error {
	rules, err := s.RotationRules(ctx)
	if err != nil {
		return err
	}
	for _, r := range rules {
		if r.Paused {
			continue
		}
		if err := s.carryRule(ctx, r); err != nil {
			var p *problem.Problem
			if !errors.As(err, &p) {
				return err
			}
			if err := s.noteRule(ctx, r, p.Error()); err != nil { // the next rule is another matter
				return err
			}
		}
	}
	return nil
}

func (s *Service) carryRule(ctx context.Context, r Rule) error {
	rotating, err := s.store.RuleRotating(ctx, r.Name)
	if err != nil || rotating {
		return err
	}
	plan, err := s.rotate.PlanRotation(ctx, r.Wanted)
	if err != nil {
		return err
	}
	if err := s.noteRule(ctx, r, cannot(plan)); err != nil {
		return err
	}
	if logins, _, _ := plan.Counts(); logins == 0 || r.NextAt != nil {
		return nil
	}
	start := rotate.RotationStart{
		RotationWanted: r.Wanted,
		Make:           r.Make,
		Settings:       r.Settings,
		Reason:         "due by the rule " + r.Name,
		Rule:           r.Name,
	}
	for _, i := range plan.Items {
		if i.LeftOut == "" {
			start.Shown = append(start.Shown, rotate.ShownItem{Login: i.Login, Old: i.Old, New: i.New})
		}
	}
	state, err := s.rotate.StartRotation(
		ctx, people.TheService, journal.IdempotencyKey{}, start,
	) // which notes it in the rule
	var p *problem.Problem
	if errors.As(err, &p) && p.Code == "plan-outrun" {
		return nil // another look was first, or somebody was; the next look sees what is left
	}
	if err != nil {
		return err
	}
	s.log.Info("a rule began a rotation", "rule", r.Name, "rotation", state.ID)
	return nil
}

// cannot says what of a plan cannot be done, "" where all can.
func cannot(p rotate.RotationPlan) string {
	by := map[string][]string{}
	for _, i := range p.Items {
		if i.LeftOut != "" {
			by[i.LeftOut] = append(by[i.LeftOut], i.Login)
		}
	}
	var parts []string
	for why, logins := range by {
		slices.Sort(logins)
		logins = slices.Compact(logins)
		some := logins[0]
		if len(logins) > 1 {
			some = fmt.Sprintf("%s and %d more", some, len(logins)-1)
		}
		parts = append(parts, some+": "+why)
	}
	slices.Sort(parts)
	return strings.Join(parts, "; ")
}

// noteRule records that a rule was looked at and what is due and cannot be done; in
// the daybook where that is new.
func (s *Service) noteRule(ctx context.Context, r Rule, note string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		err := tx.ChangeRotationRule(ctx, r.ID, record.RuleChange{LookedAt: new(s.now()), Note: &note})
		if err != nil || note == "" || note == r.Note {
			return err
		}
		e := s.journal.Entry(
			journal.ByService, "rule.cannot", "rule", r.Name, "",
			journal.Facts{"reason": note},
		)
		e.Outcome = "refused"
		return tx.Note(ctx, e)
	})
}

// DueRotation is a key in a login that a rotation rule will replace.
type DueRotation struct {
	At   time.Time
	Rule string
	rotate.PlannedItem
}

// DueRotations returns what the rules will replace within the days, the soonest first.
// Rules that are paused replace nothing.
func (s *Service) DueRotations(ctx context.Context, days int) ([]DueRotation, error) {
	if days < 0 || days > maxDueAhead {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-days",
			Field:  "days",
			Detail: fmt.Sprintf("%d days are not possible; 0 to %d are", days, maxDueAhead),
		}
	}
	rules, err := s.RotationRules(ctx)
	if err != nil {
		return nil, err
	}
	var due []DueRotation
	// One key in one login is replaced once, by the first rule; what is at work is not due.
	seen, err := s.store.RotatingLines(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rules {
		if r.Paused {
			continue
		}
		w := r.Wanted
		w.Ahead, w.Wait = time.Duration(days)*24*time.Hour, true
		plan, err := s.rotate.PlanRotation(ctx, w)
		var p *problem.Problem
		if errors.As(err, &p) {
			continue // what it names is gone, which its note tells
		}
		if err != nil {
			return nil, err
		}
		for _, i := range plan.Items {
			if seen[[2]uuid.UUID{i.LoginID, i.OldID}] {
				continue
			}
			seen[[2]uuid.UUID{i.LoginID, i.OldID}] = true
			at := i.Due
			if r.NextAt != nil && r.NextAt.After(at) {
				at = *r.NextAt
			}
			due = append(due, DueRotation{at, r.Name, i})
		}
	}
	slices.SortStableFunc(due, func(a, b DueRotation) int { return a.At.Compare(b.At) })
	return due, nil
}
