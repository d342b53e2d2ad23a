package charters

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/text"
)

func check(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, args []string) error {
		files, err := collect(args)
		if err != nil {
			return err
		}
		c, flaws := charter.Read(files)
		found := []charter.Flaw{}
		if len(flaws) == 0 {
			found = charter.Findings(c)
		}
		if s.Json {
			err = s.WriteJSON(checked{c.Name, wireFlaws(flaws), wireFlaws(found)})
		} else if !s.Quiet {
			showFlaws(s, wireFlaws(flaws))
			showFlaws(s, wireFlaws(found))
			if len(flaws) == 0 {
				fmt.Fprintf(
					s.Env.Out, "%s declares %s, %s and %s of access.\n", c.Name, text.Counted(len(c.Keys), "key"),
					text.Counted(len(c.Instances), "instance"), text.Counted(len(c.Access), "entry"),
				)
			}
		}
		if err == nil && len(flaws) > 0 {
			err = kit.Quiet(kit.ExitNotAsItShould)
		}
		return err
	}
}

// checked is what charter check -json prints.
type checked struct {
	Charter  string                  `json:"charter"`
	Flaws    []apiclient.CharterFlaw `json:"flaws"`
	Findings []apiclient.CharterFlaw `json:"findings"`
}

func wireFlaws(list []charter.Flaw) []apiclient.CharterFlaw {
	out := make([]apiclient.CharterFlaw, len(list))
	for n, f := range list {
		out[n] = apiclient.CharterFlaw{
			Code:   f.Code,
			What:   f.What,
			Remedy: kit.Optional(f.Remedy),
			At: &apiclient.CharterPlace{
				File: f.File, Line: f.Line, Column: f.Column,
			},
		}
	}
	return out
}

func showFlaws(s *kit.Session, list []apiclient.CharterFlaw) {
	for _, f := range list {
		at := ""
		if f.At != nil {
			at = fmt.Sprintf("%s:%d:%d: ", f.At.File, f.At.Line, f.At.Column)
		}
		s.Below("", at+f.What+". "+kit.Given(f.Remedy), kit.AsItIs)
	}
}

func schema(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, _ []string) error {
		_, err := s.Env.Out.Write(charter.Schema)
		return err
	}
}

func compare(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	settled := f.String("settled", "", "compare the version that was settled of this `charter`, in place of files")
	strict := f.Bool("strict", false, "refuse a pattern that no login fits")
	markdown := f.Bool("markdown", false, "print Markdown, for a comment in a review")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if (*settled == "") == (len(args) == 0) {
			return kit.Usage("name the files of a charter, or one that was settled: -settled NAME")
		}
		var c apiclient.CharterComparison
		var err error
		if *settled != "" {
			c, err = kit.Answer[apiclient.CharterComparison](client.CompareCharterNow(ctx, *settled))
		} else {
			c, err = compareFiles(ctx, client, args, *strict)
		}
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			err = s.WriteJSON(c)
		case *markdown:
			inMarkdown(s, c)
		case !s.Quiet:
			showComparison(s, c)
			if next := "plumlatch charter settle " + strings.Join(args, " ") + " -as " + c.Id; len(c.Changes) > 0 &&
				c.Refused == nil && *settled == "" {
				fmt.Fprintln(s.Env.Out, "\nSettle just this: "+next)
			}
		}
		return cmp.Or(err, verdict(c))
	})
}

func compareFiles(
	ctx context.Context, client *apiclient.Client, args []string, strict bool,
) (apiclient.CharterComparison, error) {
	files, err := collect(args)
	if err != nil {
		return apiclient.CharterComparison{}, err
	}
	return kit.Answer[apiclient.CharterComparison](
		client.CompareCharter(ctx, apiclient.CompareCharter{Files: wire(files), Strict: &strict}),
	)
}

// verdict is how a command ends that compares.
func verdict(c apiclient.CharterComparison) error {
	switch {
	case len(c.Flaws) > 0:
		return kit.Quiet(kit.ExitFailed)
	case c.Refused != nil:
		return kit.Quiet(kit.ExitRefused)
	case len(c.Changes) > 0:
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

// wordsOf say what a change does.
var wordsOf = map[apiclient.CharterChangeKind]string{
	apiclient.CharterChangeKindImportKey:     "import the key",
	apiclient.CharterChangeKindDescribeKey:   "describe the key",
	apiclient.CharterChangeKindLaunch:        "launch",
	apiclient.CharterChangeKindAdopt:         "adopt",
	apiclient.CharterChangeKindBringIn:       "bring in",
	apiclient.CharterChangeKindLabelInstance: "label",
	apiclient.CharterChangeKindOwn:           "take over the grant",
	apiclient.CharterChangeKindRecord:        "grant what is in place",
	apiclient.CharterChangeKindPlace:         "place the key",
	apiclient.CharterChangeKindLoosen:        "loosen its limits",
	apiclient.CharterChangeKindChangeEnd:     "change the end",
	apiclient.CharterChangeKindForget:        "end the grant, whose line is missing",
	apiclient.CharterChangeKindLimit:         "limit it",
	apiclient.CharterChangeKindWithdraw:      "withdraw the key",
}

// whereOf is the login or the instance that a change is about; "" for one about a key alone.
func whereOf(c apiclient.CharterChange) string {
	return cmp.Or(kit.Given(c.Login), kit.Given(c.Instance))
}

func endOf(at *time.Time) string {
	if at == nil {
		return ""
	}
	return kit.Moment(*at)
}

// limitsOf says which limits the line gets.
func limitsOf(c apiclient.CharterChange) string {
	if now := kit.Given(c.Limits); now != "" || c.Limited == nil {
		return authorizedkeys.LimitsTold(now)
	}
	return "none; now " + authorizedkeys.LimitsTold(*c.Limited)
}

func fromOf(at *apiclient.CharterPlace) string {
	if at == nil {
		return ""
	}
	return fmt.Sprintf("%s:%d", at.File, at.Line)
}

func showComparison(s *kit.Session, c apiclient.CharterComparison) {
	showFlaws(s, c.Flaws)
	if len(c.Changes) > 0 {
		t := kit.Table{
			Head:  []string{"CHANGE", "KEY", "WHERE", "UNTIL", "LIMITS", "FROM", "CANNOT BE DONE NOW", "WHY"},
			Least: []string{"WHY", "FROM", "UNTIL"}, Wraps: []string{"WHY", "LIMITS", "CANNOT BE DONE NOW"},
		}
		for _, one := range c.Changes {
			keys := kit.Given(one.Key)
			if one.Keys != nil {
				keys = strings.Join(*one.Keys, ", ")
			}
			t.Add(
				wordsOf[one.Kind],
				keys,
				whereOf(one),
				endOf(one.Until),
				limitsOf(one),
				fromOf(one.At),
				kit.Given(one.Unable),
				kit.Given(one.Why),
			)
		}
		t.WithoutEmpty().Write(s)
	}
	if len(c.Reach) > 0 {
		fmt.Fprintln(s.Env.Out)
		t := kit.Table{Head: []string{"LOGIN", "REACH NOW", "AFTER", "REFUSED"}, Wraps: []string{"REFUSED"}}
		for _, r := range c.Reach {
			t.Add(r.Login, string(r.Before), string(r.After), kit.Given(r.Refused))
		}
		t.WithoutEmpty().Write(s)
	}
	if len(c.Notes) > 0 {
		fmt.Fprintln(s.Env.Out)
		showFlaws(s, c.Notes)
	}
	switch unable := len(slices.DeleteFunc(slices.Clone(c.Changes), func(c apiclient.CharterChange) bool {
		return c.Unable == nil
	})); {
	case len(c.Flaws) > 0:
		fmt.Fprintln(s.Env.Out, "\nNothing is settled while the charter has flaws.")
	case c.Refused != nil:
		fmt.Fprintln(s.Env.Out)
		s.Below("", "Refused: "+*c.Refused+".", kit.AsItIs)
	case len(c.Changes) == 0:
		fmt.Fprintf(s.Env.Out, "%s is so: nothing differs.\n", c.Charter)
	case unable > 0:
		fmt.Fprintf(
			s.Env.Out,
			"\n%s, of which %d cannot be done now. Do the rest alone: -partly\n",
			text.Counted(len(c.Changes), "change"),
			unable,
		)
	default:
		fmt.Fprintf(s.Env.Out, "\n%s.\n", text.Counted(len(c.Changes), "change"))
	}
}

// inMarkdown prints a comparison as a comment for a review.
func inMarkdown(s *kit.Session, c apiclient.CharterComparison) {
	cell := strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;", "`", "'")
	row := func(cells ...string) {
		for n, one := range cells {
			cells[n] = cell.Replace(text.Plain(one))
		}
		fmt.Fprintf(s.Env.Out, "| %s |\n", strings.Join(cells, " | "))
	}
	out := s.Env.Out
	switch {
	case len(c.Flaws) > 0:
		fmt.Fprintf(out, "**%s has flaws.** Nothing is settled.\n\n", cmp.Or(c.Charter, "The charter"))
		for _, f := range c.Flaws {
			fmt.Fprintf(out, "- `%s` %s. %s\n", cell.Replace(text.Plain(fromOf(f.At))), cell.Replace(text.Plain(f.What)),
				cell.Replace(text.Plain(kit.Given(f.Remedy))))
		}
		return
	case len(c.Changes) == 0:
		fmt.Fprintf(out, "**%s** is so: nothing differs.\n", c.Charter)
	case c.Refused != nil:
		fmt.Fprintf(out, "**%s is refused**: %s.\n\n", c.Charter, cell.Replace(text.Plain(*c.Refused)))
	default:
		fmt.Fprintf(out, "**%s**: %s, as `%s`.\n\n", c.Charter, text.Counted(len(c.Changes), "change"), c.Id)
	}
	if len(c.Changes) > 0 {
		fmt.Fprintln(out, "| change | key | where | until | from | why |\n| --- | --- | --- | --- | --- | --- |")
	}
	for _, one := range c.Changes {
		why := kit.Given(one.Why)
		if one.Unable != nil {
			why = "cannot be done now: " + *one.Unable
		}
		row(wordsOf[one.Kind], kit.Given(one.Key), whereOf(one), endOf(one.Until), fromOf(one.At), why)
	}
	if len(c.Reach) > 0 {
		fmt.Fprintln(out, "\n| login | reach now | after | |\n| --- | --- | --- | --- |")
	}
	for _, r := range c.Reach {
		row(r.Login, string(r.Before), string(r.After), kit.Given(r.Refused))
	}
	if len(c.Notes) > 0 {
		fmt.Fprintln(out)
	}
	for _, n := range c.Notes {
		fmt.Fprintf(out, "- %s\n", cell.Replace(text.Plain(n.What)))
	}
}
