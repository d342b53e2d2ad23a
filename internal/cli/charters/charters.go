// Package charters has the commands about charters: files in which a team declares its keys, its instances and who may
// open what.
package charters

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/text"
)

// Commands are about charters.
func Commands() []kit.Command { return slices.Concat(charterCommands, signCommands) }

var charterCommands = []kit.Command{
	{
		Name: "charter check", NoNames: true, Args: "FILE ...", Min: 1, Max: -1, Flags: check,
		Summary: "Check the files of a charter on this machine, without a service",
		Detail: `It checks the form, the names and the public keys, and says what is wrong with line and column. In a
folder all .yaml, .yml and .json files are read. It ends with status 3 where something is wrong.`,
		Examples: []string{"plumlatch charter check field.yaml"},
	},
	{
		Name: "charter schema", NoNames: true, Flags: schema,
		Summary:  "Print the JSON Schema of a charter's files, for editors",
		Examples: []string{"plumlatch charter schema > charter.schema.json"},
	},
	{
		Name: "charter compare", NoNames: true, Args: "[FILE ...]", Max: -1, Flags: compare,
		Summary: "Show what differs between a charter and what there is",
		Detail: `It ends with status 3 where something differs, with 1 where the files are flawed, and with 5 where a login would
be left less safe than a charter may leave it. -markdown prints a comment for a review. Nothing is changed.`,
		Examples: []string{
			"plumlatch charter compare field.yaml",
			"plumlatch charter compare -settled field",
		},
	},
	{
		Name: "charter settle", NoNames: true, Args: "FILE ...", Min: 1, Max: -1, Flags: settle,
		Summary: "Make what a charter declares so",
		Detail: `It shows what differs, asks, and does it: what lets somebody in first, then what keeps somebody out. All changes
are judged together, and nothing is done where a login would be left shut, or thin without may-be. With -as just the
comparison with that id is settled, and refused if anything has changed since. Repeating it changes nothing.`,
		Examples: []string{
			"plumlatch charter settle field.yaml -reason 'oona joins the field team'",
			"plumlatch charter settle field -as ID -yes",
		},
	},
	{
		Name: "charter write", NoNames: true, Args: "NAME", Min: 1, Max: 1, Flags: write,
		Summary: "Write who may open what, as it is now, as a charter",
		Detail:  `Settling what it writes changes no line: it makes the grants the charter's own.`,
		Examples: []string{
			"plumlatch charter write fleet -into fleet.yaml",
			"plumlatch charter write field -label team=field",
		},
	},
	{
		Name: "charter list", Flags: list,
		Summary:  "List the charters, and what differs from each",
		Examples: []string{"plumlatch charter list"},
	},
	{
		Name: "charter show", Args: "CHARTER", Min: 1, Max: 1, Flags: show,
		Summary:  "Show a charter, its versions, and who settled each and why",
		Detail:   `-files prints the files as they were settled; -version chooses an earlier version.`,
		Examples: []string{"plumlatch charter show field", "plumlatch charter show field -files -version 1"},
	},
	{
		Name: "charter changes", Args: "CHARTER", Min: 1, Max: 1, Flags: changes,
		Summary:  "Show the changes of the last settlement of a charter, and how far each is",
		Examples: []string{"plumlatch charter changes field", "plumlatch charter changes field -state failed"},
	},
	{
		Name: "charter watch", Args: "CHARTER", Min: 1, Max: 1, Flags: watchIt,
		Summary:  "Follow the settlement of a charter until it is over",
		Examples: []string{"plumlatch charter watch field"},
	},
	{
		Name: "charter pause", Args: "CHARTER", Min: 1, Max: 1, Flags: pause(false),
		Summary:  "Pause the settlement of a charter; no further changes start",
		Examples: []string{"plumlatch charter pause field -reason 'a storm'"},
	},
	{
		Name: "charter resume", Args: "CHARTER", Min: 1, Max: 1, Flags: pause(true),
		Summary:  "Continue the settlement of a charter that was paused",
		Examples: []string{"plumlatch charter resume field"},
	},
	{
		Name: "charter undo", Args: "CHARTER", Min: 1, Max: 1, Flags: undo,
		Summary: "Take the last settlement of a charter back",
		Detail: `What it placed is withdrawn, what it withdrew is put back as it was, and the version before counts again. Keys
that it imported and instances that it launched stay.`,
		Examples: []string{"plumlatch charter undo field -reason 'the wrong file'"},
	},
	{
		Name: "charter release", Args: "CHARTER", Min: 1, Max: 1, Flags: release,
		Summary:  "Let a charter go; what it owned stays as it is, as if it had been done by hand",
		Examples: []string{"plumlatch charter release field -reason 'the team is gone'"},
	},
}

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

func settle(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	strict := f.Bool("strict", false, "refuse a pattern that no login fits")
	as := f.String("as", "", "settle just the comparison with this `id`")
	partly := f.Bool("partly", false, "do the rest where some changes cannot be made now")
	reason := f.String("reason", "", "why, for the daybook")
	signed := f.String("signed", "", "the `file` with a person's signature over the files, see charter sign")
	detach := f.Bool("detach", false, "do not wait until it is over")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		files, err := collect(args)
		if err != nil {
			return err
		}
		by, err := signatureIn(*signed)
		if err != nil {
			return err
		}
		request := apiclient.SettleCharter{
			Files: wire(files), Strict: strict, As: *as, Partly: partly, Reason: kit.Optional(*reason),
			Signature: by,
		}
		if *as == "" {
			c, err := kit.Answer[apiclient.CharterComparison](
				client.CompareCharter(ctx, apiclient.CompareCharter{Files: request.Files, Strict: strict}),
			)
			if err != nil {
				return err
			}
			if len(c.Flaws) > 0 || c.Refused != nil || len(c.Changes) > 0 && !*yes {
				shown := *s
				if s.Json || s.Quiet {
					shown.Env.Out = s.Env.Err
				}
				showComparison(&shown, c)
			}
			if len(c.Flaws) > 0 || c.Refused != nil {
				return verdict(c)
			}
			if len(c.Changes) > 0 {
				if err := s.Confirm(*yes, fmt.Sprintf("This makes %s.", text.Counted(len(c.Changes), "change")), "yes"); err != nil {
					return err
				}
			}
			request.As = c.Id
		}
		t, err := kit.Answer[apiclient.CharterSettlement](client.SettleCharter(ctx, request))
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, *detach)
	})
}

const watchPause = 200 * time.Millisecond

// follow shows a settlement until it is over or paused, and what came of it.
func follow(
	ctx context.Context, s *kit.Session, client *apiclient.Client, t apiclient.CharterSettlement, detach bool,
) error {
	live := s.Live() && !s.Json && !s.Quiet
	patience := s.Patience()
	for !detach && t.State == apiclient.CharterSettlementStateRunning {
		over := t.Done + t.Failed + t.LeftOut
		all := over + t.Waiting + t.AtWork
		if live {
			fmt.Fprintf(s.Env.Err, "\r\x1b[K  %s %d of %d", kit.Bar(over*100/max(all, 1)), over, all)
		}
		select {
		case <-ctx.Done():
			return kit.Stopped("settlement", "plumlatch charter watch "+t.Charter)
		case <-time.After(watchPause):
		}
		fresh, err := kit.Answer[apiclient.CharterSettlement](client.GetCharterSettlement(ctx, t.Id))
		if err != nil && ctx.Err() == nil {
			if err := patience.Wait(ctx, err); err != nil {
				return err
			}
			continue
		}
		patience.Answered()
		t = fresh
	}
	if live {
		fmt.Fprint(s.Env.Err, "\r\x1b[K")
	}
	err := keys.Record(s, t, t.Charter, func() { tellSettlement(s, t) })
	if err == nil && t.Failed+t.LeftOut > 0 {
		err = kit.Quiet(kit.ExitNotAsItShould)
	}
	return err
}

func tellSettlement(s *kit.Session, t apiclient.CharterSettlement) {
	switch {
	case t.State == apiclient.CharterSettlementStatePaused:
		keys.Say(s, "The settlement of %s is paused. Continue: plumlatch charter resume %s", t.Charter, t.Charter)
	case t.State == apiclient.CharterSettlementStateRunning:
		keys.Say(s, "%s is being settled. Watch it: plumlatch charter watch %s", t.Charter, t.Charter)
	case t.Failed+t.LeftOut > 0:
		keys.Say(
			s, "%s made, %d failed or left out. See why: plumlatch charter changes %s -state failed",
			text.Counted(t.Done, "change"), t.Failed+t.LeftOut, t.Charter,
		)
	case t.Done == 0:
		keys.Say(s, "%s is so already.", t.Charter)
	case t.Undoes != nil:
		keys.Say(s, "The last settlement of %s is taken back: %s made.", t.Charter, text.Counted(t.Done, "change"))
	default:
		keys.Say(
			s,
			"%s is settled: %s made. Undo it: plumlatch charter undo %s",
			t.Charter,
			text.Counted(t.Done, "change"),
			t.Charter,
		)
	}
}

func write(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "only logins of instances with this label, `name=value`")
	into := f.String("into", "", "write this `file`, which must not be there yet")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		out, err := kit.Answer[apiclient.WrittenCharter](
			client.WriteCharter(ctx, &apiclient.WriteCharterParams{Name: args[0], Label: kit.Optional(*label)}),
		)
		if err != nil {
			return err
		}
		if *into == "" {
			fmt.Fprint(s.Env.Out, text.PlainLines(out.Text))
			return nil
		}
		file, err := os.OpenFile(*into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return err
		}
		if _, err = file.WriteString(out.Text); err == nil {
			err = file.Close()
		} else {
			_ = file.Close()
		}
		if err == nil {
			keys.Say(s, "Written to %s. Make it so that the charter owns this: plumlatch charter settle %s", *into, *into)
		}
		return err
	})
}

func list(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Charter](client.ListCharters(ctx))
		if err != nil {
			return err
		}
		return kit.Listing[apiclient.Charter]{
			Head: []string{"CHARTER", "VERSION", "GRANTS", "DIFFERS", "COMPARED", "NOTE"}, Least: []string{"NOTE", "COMPARED"},
			Name: func(c apiclient.Charter) string { return c.Name },
			None: "There is no charter. Write one of what there is: plumlatch charter write NAME -into FILE",
			Cells: func(c apiclient.Charter) []string {
				compared, differs := "not yet", fmt.Sprint(c.Differs)
				if c.ComparedAt != nil {
					compared = kit.Moment(*c.ComparedAt)
				}
				if c.Problem != nil {
					differs += ", " + *c.Problem
				}
				return []string{c.Name, fmt.Sprint(c.Version), fmt.Sprint(c.Grants), differs, compared, c.Note}
			},
		}.Show(s, all, len(all))
	})
}

func show(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	files := f.Bool("files", false, "print the files")
	version := f.Int("version", 0, "an earlier `number`")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		d, err := kit.Answer[apiclient.CharterDetail](client.GetCharter(ctx, args[0]))
		if err != nil {
			return err
		}
		if *version > 0 {
			v, err := kit.Answer[apiclient.CharterVersion](client.GetCharterVersion(ctx, args[0], *version))
			if err != nil {
				return err
			}
			d.Files = kit.Given(v.Files)
		}
		if *files && !s.Json {
			for _, f := range d.Files {
				if len(d.Files) > 1 {
					fmt.Fprintf(s.Env.Out, "# %s\n", text.Plain(f.Path))
				}
				fmt.Fprint(s.Env.Out, text.PlainLines(f.Content))
			}
			return nil
		}
		return keys.Record(s, d, d.Charter.Name, func() { showCharter(s, d) })
	})
}

func showCharter(s *kit.Session, d apiclient.CharterDetail) {
	c := d.Charter
	fmt.Fprintf(s.Env.Out, "%s, version %d, owns %s.\n", c.Name, c.Version, text.Counted(c.Grants, "grant"))
	if c.Note != "" {
		s.Below("", c.Note, kit.AsItIs)
	}
	fmt.Fprintln(s.Env.Out)
	t := kit.Table{
		Head:  []string{"VERSION", "SETTLED", "BY", "SIGNED BY", "DIGEST", "WHY"},
		Least: []string{"DIGEST", "SIGNED BY"},
	}
	for _, v := range d.Versions {
		t.Add(fmt.Sprint(v.Number), kit.Moment(v.SettledAt), v.SettledBy, kit.Given(v.SignedBy), v.Digest[:16], v.Reason)
	}
	t.Write(s)
	fmt.Fprintf(s.Env.Out, "\nWhat differs now: plumlatch charter compare -settled %s\n", c.Name)
}

// last returns the last settlement of a charter.
func last(ctx context.Context, client *apiclient.Client, name string) (apiclient.CharterSettlement, error) {
	if _, err := kit.Answer[apiclient.CharterDetail](client.GetCharter(ctx, name)); err != nil {
		return apiclient.CharterSettlement{}, err
	}
	page, err := kit.Answer[apiclient.CharterSettlementPage](client.ListCharterSettlements(
		ctx, &apiclient.ListCharterSettlementsParams{Charter: &name, Limit: new(1)},
	))
	if err != nil || len(page.Items) == 0 {
		return apiclient.CharterSettlement{}, cmp.Or(
			err, kit.Missing("no-settlement", name+" was never settled", "Settle it: plumlatch charter settle FILE"),
		)
	}
	return page.Items[0], nil
}

func changes(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	state := f.String("state", "", "only those in this `state`: waiting, at-work, done, failed or left-out")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		return showItems(ctx, s, client, t.Id, p, *state)
	})
}

func showItems(
	ctx context.Context, s *kit.Session, client *apiclient.Client, id uuid.UUID, p kit.Paging, state string,
) error {
	params := apiclient.ListCharterSettlementChangesParams{}
	if state != "" {
		params.State = new(apiclient.CharterSettlementChangeState(state))
	}
	items, total, err := kit.Fetch[apiclient.CharterSettlementChange](
		ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			q := params
			q.After, q.Limit, q.Total = after, &limit, count
			return client.ListCharterSettlementChanges(ctx, id, &q)
		},
	)
	if err != nil {
		return err
	}
	return kit.Listing[apiclient.CharterSettlementChange]{
		Head: []string{"STATE", "CHANGE", "KEY", "WHERE", "DETAIL"}, Least: []string{"DETAIL"},
		Name: func(i apiclient.CharterSettlementChange) string { return whereOf(i.Change) },
		None: "No change matches.",
		Cells: func(i apiclient.CharterSettlementChange) []string {
			return []string{
				string(i.State), wordsOf[i.Change.Kind], kit.Given(i.Change.Key), whereOf(i.Change), kit.Given(i.Detail),
			}
		},
	}.Show(s, items, total)
}

func watchIt(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, false)
	})
}

func pause(goOn bool) func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			t, err := last(ctx, client, args[0])
			if err != nil {
				return err
			}
			t, err = kit.Answer[apiclient.CharterSettlement](client.PauseCharterSettlement(
				ctx, t.Id, apiclient.PauseCharterSettlement{Resume: &goOn, Reason: kit.Optional(*reason)},
			))
			if err != nil {
				return err
			}
			return keys.Record(s, t, t.Charter, func() { tellSettlement(s, t) })
		})
	}
}

func undo(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	detach := f.Bool("detach", false, "do not wait until it is over")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		what := fmt.Sprintf(
			"This takes back the %s that %s made in %s.",
			text.Counted(t.Done, "change"),
			t.RequestedBy,
			t.Charter,
		)
		if err := s.Confirm(*yes, what, "yes"); err != nil {
			return err
		}
		t, err = kit.Answer[apiclient.CharterSettlement](
			client.UndoCharter(ctx, args[0], apiclient.UndoCharterJSONRequestBody{Reason: kit.Optional(*reason)}),
		)
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, *detach)
	})
}

func release(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if err := s.Confirm(*yes, "What "+args[0]+" owns stays as it is, and is nobody's.", "yes"); err != nil {
			return err
		}
		r, err := client.ReleaseCharter(ctx, args[0], &apiclient.ReleaseCharterParams{Reason: kit.Optional(*reason)})
		return keys.Settled(s, r, err, "%s is released.", args[0])
	})
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
	apiclient.CharterChangeKindChangeEnd:     "change the end",
	apiclient.CharterChangeKindForget:        "end the grant, whose line is missing",
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
			Head:  []string{"CHANGE", "KEY", "WHERE", "UNTIL", "FROM", "CANNOT BE DONE NOW", "WHY"},
			Least: []string{"WHY", "FROM", "UNTIL"}, Wraps: []string{"WHY", "CANNOT BE DONE NOW"},
		}
		for _, one := range c.Changes {
			keys := kit.Given(one.Key)
			if one.Keys != nil {
				keys = strings.Join(*one.Keys, ", ")
			}
			t.Add(
				wordsOf[one.Kind], keys, whereOf(one), endOf(one.Until), fromOf(one.At), kit.Given(one.Unable), kit.Given(one.Why),
			)
		}
		t.Write(s)
	}
	if len(c.Reach) > 0 {
		fmt.Fprintln(s.Env.Out)
		t := kit.Table{Head: []string{"LOGIN", "REACH NOW", "AFTER", "REFUSED"}, Wraps: []string{"REFUSED"}}
		for _, r := range c.Reach {
			t.Add(r.Login, string(r.Before), string(r.After), kit.Given(r.Refused))
		}
		t.Write(s)
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
