package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

var ruleCommands = []command{
	{
		name:    "rule add",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   ruleAdd,
		summary: "Have keys rotated by themselves when they are due",
		detail: rotateDetail + `
What is selected, at the age of the rule, begins within ten minutes, in the hours that it has; within
one day it begins at most one rotation, so that what failed is not tried again at once. New keys are
made and kept by the service, or asked of their keepers (-make bring).`,
		examples: []string{
			"plumlatch rule add yearly -older 365d -between 22:00-04:00 -zone Europe/Berlin -grace 48h -make bring",
			"plumlatch rule add no-short-rsa -weaker-than rsa3072",
		},
	},
	{
		name:     "rule list",
		flags:    ruleList,
		summary:  "List the standing rules, and what is due by them and cannot be done",
		examples: []string{"plumlatch rule list"},
	},
	{
		name:     "rule due",
		flags:    ruleDue,
		summary:  "Show what the rules will replace within some days, day by day",
		examples: []string{"plumlatch rule due", "plumlatch rule due -days 90"},
	},
	{
		name:     "rule pause",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    ruleChange("pause"),
		summary:  "Have a rule begin nothing until it is resumed",
		examples: []string{"plumlatch rule pause yearly"},
	},
	{
		name:     "rule resume",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    ruleChange("resume"),
		summary:  "Let a paused rule go on",
		examples: []string{"plumlatch rule resume yearly"},
	},
	{
		name:     "rule delete",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    ruleDelete,
		summary:  "End a rule; a rotation that it has begun goes on",
		examples: []string{"plumlatch rule delete yearly"},
	},
}

func ruleAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var w wantedFlags
	var t settingsFlags
	w.flags(f)
	t.flags(f)
	maker := f.String(
		"make",
		"service",
		"`where` new keys come from: service (made and kept by it) or bring (asked of each keeper)",
	)
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *session, args []string) error {
		wanted, err := w.wanted()
		if err != nil {
			return err
		}
		settings, err := t.settings()
		if err != nil {
			return err
		}
		if *maker != "service" && *maker != "bring" {
			return &usageError{fmt.Sprintf("-make is service or bring, not %q", *maker)}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		r, err := answer[apiclient.RotationRule](
			client.AddRotationRule(
				ctx,
				&apiclient.AddRotationRuleParams{IdempotencyKey: newRequestKey()},
				apiclient.AddRotationRule{
					Name:     args[0],
					Wanted:   wanted,
					Settings: &settings,
					Make:     apiclient.AddRotationRuleMake(*maker),
					Reason:   optional(*reason),
				},
			),
		)
		if err != nil {
			return err
		}
		return s.ruleSaid(r, "The rule %s stands. See what it will do: plumlatch rule due\n")
	}
}

func (s *session) ruleSaid(r apiclient.RotationRule, sentence string) error {
	switch {
	case s.json:
		return s.writeJSON(r)
	case s.quiet:
		fmt.Fprintln(s.env.Out, r.Name)
	default:
		fmt.Fprintf(s.env.Out, sentence, r.Name)
	}
	return nil
}

// wantedText says in words which keys are selected, where.
func wantedText(w apiclient.RotationWanted) string {
	var parts []string
	add := func(format string, value *string) {
		if value != nil {
			parts = append(parts, fmt.Sprintf(format, *value))
		}
	}
	if w.Keys != nil {
		parts = append(parts, strings.Join(*w.Keys, ", "))
	}
	if w.OlderDays != nil {
		parts = append(parts, fmt.Sprintf("older than %s", text.Counted(*w.OlderDays, "day")))
	}
	add("weaker than %s", w.WeakerThan)
	add("of the type %s", w.Type)
	add("of %s", w.Keeper)
	if given(w.Shared) {
		parts = append(parts, "shared")
	}
	if given(w.Lost) {
		parts = append(parts, "lost")
	}
	if w.Instances != nil {
		parts = append(parts, "on "+strings.Join(*w.Instances, ", "))
	}
	add("on %s", w.Label)
	add("in %s", w.Region)
	if given(w.Each) == apiclient.RotationWantedEachInstance {
		parts = append(parts, "one for each instance")
	}
	return strings.Join(parts, ", ")
}

func settingsText(t apiclient.RotationSettings) string {
	var parts []string
	if t.Between != nil {
		parts = append(parts, *t.Between+" "+given(t.Zone))
	}
	if n := given(t.First); n > 0 {
		parts = append(parts, fmt.Sprintf("%d first", n))
	}
	if n := given(t.GraceSeconds); n > 0 {
		parts = append(parts, fmt.Sprintf("grace %g h", float64(n)/3600))
	}
	if n := given(t.StopAfter); n > 0 {
		parts = append(parts, fmt.Sprintf("pauses after %s", text.Counted(n, "failure")))
	}
	return strings.Join(parts, ", ")
}

func ruleList(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		rules, err := answer[[]apiclient.RotationRule](client.ListRotationRules(ctx))
		if err != nil {
			return err
		}
		err = listing[apiclient.RotationRule]{
			head: []string{
				"NAME",
				"STATE",
				"WHICH KEYS",
				"NEW KEYS",
				"HOW",
				"BY",
				"LOOKED",
				"NEXT AT THE EARLIEST",
			}, none: "There is no standing rule. Add one: plumlatch rule add NAME -older 365d",
			name: func(r apiclient.RotationRule) string { return r.Name },
			cells: func(r apiclient.RotationRule) []string {
				looked, next := "not yet", "when due"
				if r.LookedAt != nil {
					looked = moment(*r.LookedAt)
				}
				if r.NextAt != nil {
					next = moment(*r.NextAt)
				}
				return []string{
					r.Name,
					string(r.State),
					wantedText(r.Wanted),
					string(r.Make),
					settingsText(r.Settings),
					r.CreatedBy,
					looked,
					next,
				}
			},
		}.show(s, rules, len(rules))
		if err != nil || s.json || s.quiet {
			return err
		}
		for _, r := range rules {
			if r.Note != nil {
				fmt.Fprintf(s.env.Out, "\n%s: due, and cannot be done: %s\n", r.Name, *r.Note)
			}
		}
		return nil
	}
}

func ruleDue(f *flag.FlagSet) func(context.Context, *session, []string) error {
	days := f.Int("days", 30, "how many `days` ahead, up to 366")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		due, err := answer[[]apiclient.DueRotation](
			client.ListDueRotations(ctx, &apiclient.ListDueRotationsParams{Days: days}),
		)
		if err != nil {
			return err
		}
		cannot := 0
		err = listing[apiclient.DueRotation]{
			head: []string{
				"DUE",
				"RULE",
				"LOGIN",
				"KEY",
				"KEEPER",
				"NEW KEY",
				"CANNOT BE DONE",
				"WHAT TO DO",
			}, none: fmt.Sprintf("Nothing is due within %s.", text.Counted(*days, "day")),
			name: func(d apiclient.DueRotation) string { return d.Login },
			cells: func(d apiclient.DueRotation) []string {
				if d.Cannot != nil {
					cannot++
				}
				return []string{
					moment(d.At),
					d.Rule,
					d.Login,
					d.Old,
					given(d.Keeper),
					given(d.New),
					given(d.Cannot),
					given(d.Remedy),
				}
			},
		}.show(s, due, len(due))
		if err == nil && cannot > 0 {
			err = &quietError{exitNotAsItShould}
		}
		return err
	}
}

func ruleChange(
	change apiclient.ChangeRotationRuleChange,
) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		return func(ctx context.Context, s *session, args []string) error {
			client, err := s.connect()
			if err != nil {
				return err
			}
			r, err := answer[apiclient.RotationRule](
				client.ChangeRotationRule(ctx, args[0], apiclient.ChangeRotationRule{Change: change, Reason: optional(*reason)}),
			)
			if err != nil {
				return err
			}
			return s.ruleSaid(r, "The rule %s is "+string(r.State)+".\n")
		}
	}
}

func ruleDelete(f *flag.FlagSet) func(context.Context, *session, []string) error {
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		if err := s.confirm(
			*yes,
			fmt.Sprintf("This ends the standing rule %s. Its keys are rotated by themselves no more.", args[0]),
			args[0],
		); err != nil {
			return err
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		if _, err := answerBytes(client.DeleteRotationRule(ctx, args[0])); err != nil {
			return err
		}
		if !s.quiet && !s.json {
			fmt.Fprintf(s.env.Out, "The rule %s is gone.\n", args[0])
		}
		return nil
	}
}
