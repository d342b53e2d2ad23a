package rotate

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

var RuleCommands = []kit.Command{
	{
		Name:    "rule add",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   ruleAdd,
		Summary: "Rotate keys automatically when they are due",
		Detail: rotateDetail + `When keys reach the age of the rule, a rotation begins within ten minutes, in the hours of
the rule; at most one a day, so that failures are not repeated at once. New keys are made
and kept by the service, or asked of their holders (-make bring).`,
		Examples: []string{
			"plumlatch rule add yearly -older 365d -between 22:00-04:00 -zone Europe/Berlin -grace 48h -make bring",
			"plumlatch rule add no-short-rsa -weaker-than rsa3072",
		},
	},
	{
		Name:     "rule list",
		Flags:    ruleList,
		Summary:  "List rotation rules, with anything that is due but blocked",
		Examples: []string{"plumlatch rule list"},
	},
	{
		Name:     "rule due",
		Flags:    ruleDue,
		Summary:  "Show what rotation rules will replace in the coming days",
		Examples: []string{"plumlatch rule due", "plumlatch rule due -within 90d"},
	},
	{
		Name:     "rule pause",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    ruleChange("pause"),
		Summary:  "Pause a rotation rule",
		Examples: []string{"plumlatch rule pause yearly"},
	},
	{
		Name:     "rule resume",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    ruleChange("resume"),
		Summary:  "Resume a rotation rule",
		Examples: []string{"plumlatch rule resume yearly"},
	},
	{
		Name:     "rule delete",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    ruleDelete,
		Summary:  "Delete a rotation rule; a rotation in progress continues",
		Examples: []string{"plumlatch rule delete yearly"},
	},
}

func ruleAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var w wantedFlags
	var t settingsFlags
	w.flags(f)
	t.flags(f)
	maker := f.String(
		"make", "service",
		"`where` new keys come from: service (made and kept by it) or bring (asked of each holder)",
	)
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		wanted, err := w.wanted()
		if err != nil {
			return err
		}
		settings := t.settings()
		if *maker != "service" && *maker != "bring" {
			return kit.Usage(fmt.Sprintf("-make is service or bring, not %q", *maker))
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		r, err := kit.Answer[apiclient.RotationRule](client.AddRotationRule(
			ctx,
			&apiclient.AddRotationRuleParams{IdempotencyKey: kit.NewRequestKey()},
			apiclient.AddRotationRule{
				Name:     args[0],
				Wanted:   wanted,
				Settings: &settings,
				Make:     apiclient.AddRotationRuleMake(*maker),
				Reason:   kit.Optional(*reason),
			},
		))
		if err != nil {
			return err
		}
		return ruleSaid(s, r, "The rule %s is recorded. See what it will do: plumlatch rule due\n")
	}
}

func ruleSaid(s *kit.Session, r apiclient.RotationRule, sentence string) error {
	switch {
	case s.Json:
		return s.WriteJSON(r)
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, r.Name)
	default:
		fmt.Fprintf(s.Env.Out, sentence, r.Name)
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
	add("of %s", w.Holder)
	if kit.Given(w.Shared) {
		parts = append(parts, "shared")
	}
	if kit.Given(w.Lost) {
		parts = append(parts, "lost")
	}
	if w.Instances != nil {
		parts = append(parts, "on "+strings.Join(*w.Instances, ", "))
	}
	add("on %s", w.Label)
	add("in %s", w.Region)
	if kit.Given(w.Each) == apiclient.RotationWantedEachInstance {
		parts = append(parts, "one for each instance")
	}
	return strings.Join(parts, ", ")
}

func settingsText(t apiclient.RotationSettings) string {
	var parts []string
	if t.Between != nil {
		parts = append(parts, *t.Between+" "+kit.Given(t.Zone))
	}
	if n := kit.Given(t.First); n > 0 {
		parts = append(parts, fmt.Sprintf("%d first", n))
	}
	if n := kit.Given(t.GraceSeconds); n > 0 {
		parts = append(parts, fmt.Sprintf("grace %g h", float64(n)/3600))
	}
	if n := kit.Given(t.StopAfter); n > 0 {
		parts = append(parts, fmt.Sprintf("pauses after %s", text.Counted(n, "failure")))
	}
	return strings.Join(parts, ", ")
}

func ruleList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		rules, err := kit.Answer[[]apiclient.RotationRule](client.ListRotationRules(ctx))
		if err != nil {
			return err
		}
		err = kit.Listing[apiclient.RotationRule]{
			Head: []string{
				"NAME",
				"STATE",
				"WHICH KEYS",
				"NEW KEYS",
				"HOW",
				"BY",
				"LOOKED",
				"NEXT AT THE EARLIEST",
			}, Least: []string{"LOOKED", "BY", "NEW KEYS"}, Wraps: []string{"WHICH KEYS", "HOW"},
			None: "There are no rotation rules. Add one: plumlatch rule add NAME -older 365d",
			Name: func(r apiclient.RotationRule) string { return r.Name },
			Cells: func(r apiclient.RotationRule) []string {
				looked, next := "not yet", "when due"
				if r.LookedAt != nil {
					looked = kit.Moment(*r.LookedAt)
				}
				if r.NextAt != nil {
					next = kit.Moment(*r.NextAt)
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
		}.Show(s, rules, len(rules))
		if err != nil || s.Json || s.Quiet {
			return err
		}
		for _, r := range rules {
			if r.Note != nil {
				fmt.Fprintf(s.Env.Out, "\n%s: due, and cannot be done: %s\n", r.Name, *r.Note)
			}
		}
		return nil
	}
}

func ruleDue(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	within := kit.Days(30)
	f.Var(&within, "within", "how far `ahead`, such as 90d, up to 366d; 30d unless given")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		due, err := kit.Answer[[]apiclient.DueRotation](
			client.ListDueRotations(ctx, &apiclient.ListDueRotationsParams{Days: new(int(within))}),
		)
		if err != nil {
			return err
		}
		cannot := slices.DeleteFunc(slices.Clone(due), func(d apiclient.DueRotation) bool { return d.Cannot == nil })
		err = kit.Listing[apiclient.DueRotation]{
			Head:  []string{"DUE", "RULE", "LOGIN", "KEY", "HOLDER", "NEW KEY", "CAN BE DONE"},
			Least: []string{"HOLDER", "NEW KEY", "RULE"},
			Whole: []string{"LOGIN", "KEY"},
			None:  fmt.Sprintf("Nothing is due within %s.", text.Counted(int(within), "day")),
			Name:  func(d apiclient.DueRotation) string { return d.Login },
			Cells: func(d apiclient.DueRotation) []string {
				can := "yes"
				if d.Cannot != nil {
					can = "no !"
				}
				return []string{
					kit.Day(d.At),
					d.Rule,
					d.Login,
					d.Old,
					kit.Given(d.Holder),
					kit.Given(d.New),
					can,
				}
			},
		}.Show(s, due, len(due))
		if err != nil || len(cannot) == 0 {
			return err
		}
		if !s.Json && !s.Quiet {
			fmt.Fprintln(s.Env.Out, "\nCannot be done:")
		}
		for _, d := range cannot {
			if !s.Json && !s.Quiet {
				s.Below("  ", fmt.Sprintf("%s with %s: %s", d.Login, d.Old, kit.Given(d.Cannot)), kit.AsItIs)
				s.Below("    ", kit.Given(d.Remedy), s.Faint)
			}
		}
		return kit.Quiet(kit.ExitNotAsItShould)
	}
}

func ruleChange(
	change apiclient.ChangeRotationRuleChange,
) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		return func(ctx context.Context, s *kit.Session, args []string) error {
			client, err := s.Connect()
			if err != nil {
				return err
			}
			r, err := kit.Answer[apiclient.RotationRule](client.ChangeRotationRule(
				ctx, args[0], apiclient.ChangeRotationRule{Change: change, Reason: kit.Optional(*reason)},
			))
			if err != nil {
				return err
			}
			return ruleSaid(s, r, "The rule %s is "+string(r.State)+".\n")
		}
	}
}

func ruleDelete(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if err := s.Confirm(
			*yes, fmt.Sprintf("This ends the rotation rule %s. Its keys will no longer rotate automatically.", args[0]),
			args[0],
		); err != nil {
			return err
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if _, err := kit.AnswerBytes(client.DeleteRotationRule(ctx, args[0])); err != nil {
			return err
		}
		if !s.Quiet && !s.Json {
			fmt.Fprintf(s.Env.Out, "The rule %s is gone.\n", args[0])
		}
		return nil
	}
}
