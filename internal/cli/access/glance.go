package access

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// GlanceCommands are about what somebody wants to know first.
var GlanceCommands = []kit.Command{{
	Name: "glance", Flags: glance,
	Summary: "Show what is pending for you, what changed since you last looked, and how reach developed",
	Detail: "Changes are told from your last -seen on, or of the last seven days. With -seen they count as seen " +
		"once they are shown.",
	Examples: []string{"plumlatch glance", "plumlatch glance -seen", "plumlatch glance -days 30"},
}}

func glance(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	days := f.Int("days", 90, "how many `days` of history, 1 to 366")
	seen := f.Bool("seen", false, "record that you have seen what changed")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		g, err := kit.Answer[apiclient.Glance](client.GetGlance(ctx, &apiclient.GetGlanceParams{Days: days}))
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			err = s.WriteJSON(g)
		case s.Quiet:
			for _, c := range g.Changes {
				fmt.Fprintln(s.Env.Out, c.Login)
			}
		default:
			showGlance(s, g)
		}
		if err == nil && *seen {
			_, err = kit.AnswerBytes(client.AddLook(ctx))
		}
		return err
	}
}

// pendingText is what is pending of a kind, and the command that shows it.
var pendingText = map[apiclient.PendingKind]struct{ noun, what, next string }{
	apiclient.PendingKindRun:      {"run", "waits for somebody", "run list"},
	apiclient.PendingKindGrants:   {"grant", "past the end and still in force", "grant list -overdue"},
	apiclient.PendingKindRotation: {"rotation", "paused", "rotate list"},
	apiclient.PendingKindConsent:  {"request", "for your consent", "consent list"},
	apiclient.PendingKindTakeOver: {"key", "handed over to you: prove it", "prove"},
	apiclient.PendingKindBring:    {"new public key", "to bring", "rotate asked"},
	apiclient.PendingKindProve:    {"key", "to prove", "prove -due"},
	apiclient.PendingKindCharter:  {"charter", "that something differs from", "charter list"},
}

func showGlance(s *kit.Session, g apiclient.Glance) {
	if len(g.Pending) == 0 {
		fmt.Fprintln(s.Env.Out, "Nothing is pending for you.")
	} else {
		t := kit.Table{Head: []string{"PENDING FOR YOU", "WHICH", "SEE"}, Whole: []string{"SEE"}}
		for _, p := range g.Pending {
			w := pendingText[p.Kind]
			names := ""
			if p.Kind != apiclient.PendingKindRotation {
				names = strings.Join(p.Names[:min(len(p.Names), 3)], ", ")
				if p.Count > 3 {
					names += ", …"
				}
			}
			t.Add(text.Counted(p.Count, w.noun)+" "+w.what, names, "plumlatch "+w.next)
		}
		t.Write(s)
	}
	since := "in the last seven days"
	if g.Looked {
		since = "since you last looked, " + kit.Moment(g.Since)
	}
	if g.Changed == 0 {
		fmt.Fprintf(s.Env.Out, "\nNo login has another reach than before, %s.\n", since)
	} else {
		fmt.Fprintf(s.Env.Out, "\n%s changed %s:\n", text.Counted(g.Changed, "login"), since)
		t := kit.Table{Head: []string{"LOGIN", "BEFORE", "NOW", "WHEN"}}
		for _, c := range g.Changes {
			now := string(c.After)
			if c.After == apiclient.ReachStateShut {
				now = s.Bad(now)
			}
			t.Add(c.Login, cmp.Or(string(kit.Given(c.Before)), "new"), now, kit.Moment(c.At))
		}
		t.Write(s)
	}
	if len(g.History) == 0 {
		return
	}
	fmt.Fprintln(s.Env.Out, "\nReach of all logins:")
	t := kit.Table{Head: []string{"DAY", "SHUT", "UNSWEPT", "STALE", "THIN", "SOLID"}}
	step := 7 // one row for each week, and today
	if len(g.History) <= 14 {
		step = 1
	}
	for n := (len(g.History) - 1) % step; n < len(g.History); n += step {
		m := g.History[n]
		row := []string{kit.Day(m.At)}
		for _, state := range []string{"shut", "unswept", "stale", "thin", "solid"} {
			row = append(row, strconv.Itoa(m.Counts[state]))
		}
		t.Add(row...)
	}
	t.Write(s)
}
