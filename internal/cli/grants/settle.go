package grants

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

var SettleCommands = []kit.Command{{
	Name: "settle", Args: "[LOGIN ...]", Max: -1, Flags: settle,
	Summary: "Show drift between granted and actual keys, and fix it in bulk",
	Detail: `Without a choice it shows the differences and ends with status 3 if there are any. With
choices it shows what it will do about each, asks, and does it: -missing place places the
granted lines again, -missing withdraw ends their grants; -ungranted and -strangers accept
records what is in place there as granted, remove deletes the lines. Differences without a
choice stay as they are. Lines are changed in a run that can be undone until it is done.`,
	Examples: []string{
		"plumlatch settle -all",
		"plumlatch settle ubuntu@ringing-web -ungranted remove",
		"plumlatch settle -label team=cameras -missing place",
		"plumlatch settle ringing-web -strangers accept -holder sunniva",
		`plumlatch settle atlas-web-1 -strangers remove -reason "nobody knows it"`,
	},
}}

// choices are what will be done about differences, by status.
type choices map[apiclient.Status]*string

func settle(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "instances with this label, `name=value`")
	all := f.Bool("all", false, "all logins")
	chosen := choices{
		apiclient.StatusMissing:   f.String("missing", "", "place or withdraw, for granted keys that are missing"),
		apiclient.StatusUngranted: f.String("ungranted", "", "accept or remove, for known keys that nobody granted"),
		apiclient.StatusStranger:  f.String("strangers", "", "accept or remove, for keys that are not recorded"),
	}
	holder := f.String("holder", "", "who holds the strangers that are accepted; nobody unless given")
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if len(args) == 0 && *label == "" && !*all {
			return kit.Usage("say where: LOGIN ..., -label name=value, or -all")
		}
		if *holder != "" && *chosen[apiclient.StatusStranger] != "accept" {
			return kit.Usage("-holder goes with -strangers accept")
		}
		for status, choice := range chosen {
			if allowed := choicesFor[status]; *choice != "" && !slices.Contains(allowed, *choice) {
				return kit.Usage(
					fmt.Sprintf("for what is %s the choices are %s; not %q", status, strings.Join(allowed, " and "), *choice),
				)
			}
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if len(args) == 0 {
			args = []string{""}
		}
		var found []apiclient.Difference
		for _, login := range args {
			rows, _, err := kit.Fetch[apiclient.Difference](
				ctx,
				kit.Paging{Limit: 1, All: true},
				func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
					return client.ListDrift(ctx, &apiclient.ListDriftParams{
						After: after,
						Limit: &limit,
						Login: kit.Optional(login),
						Label: kit.Optional(*label),
					})
				},
			)
			if err != nil {
				return err
			}
			found = append(found, rows...)
		}
		return settleThese(s, ctx, client, found, chosen, settleHow{*reason, *holder, *yes})
	}
}

var choicesFor = map[apiclient.Status][]string{
	apiclient.StatusMissing: {
		"place",
		"withdraw",
	}, apiclient.StatusUngranted: {"accept", "remove"}, apiclient.StatusStranger: {"accept", "remove"},
}

// settleHow is how differences are settled: why, who holds strangers that are accepted, and whether to ask.
type settleHow struct {
	reason, holder string
	yes            bool
}

func settleThese(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	found []apiclient.Difference,
	chosen choices,
	how settleHow,
) error {
	var request apiclient.SettleDrift
	request.Reason = kit.Optional(how.reason)
	for _, d := range found {
		if choice := kit.Given(chosen[d.Status]); choice != "" {
			c := apiclient.ChosenDifference{
				Login: d.Login, Sha256: d.Sha256, Status: d.Status, Choice: apiclient.Choice(choice),
			}
			if d.Status == apiclient.StatusStranger {
				c.Holder = kit.Optional(how.holder)
			}
			request.Choices = append(request.Choices, c)
		}
	}
	if len(request.Choices) == 0 {
		return showDifferences(s, found, chosen)
	}
	if !s.Json && !s.Quiet {
		differenceTable(s, found, chosen)
		fmt.Fprintln(s.Env.Out)
	}
	if err := s.Confirm(
		how.yes,
		fmt.Sprintf("This settles %d of %d differences as the last column says.", len(request.Choices), len(found)),
		"yes",
	); err != nil {
		return err
	}
	var all apiclient.Settlement
	for part := range slices.Chunk(request.Choices, maxChoices) {
		done, err := kit.Answer[apiclient.Settlement](
			client.SettleDrift(ctx, apiclient.SettleDrift{Choices: part, Reason: request.Reason}),
		)
		if err != nil {
			return err
		}
		all.Items, all.Runs = append(all.Items, done.Items...), append(all.Runs, done.Runs...)
	}
	return awaitSettled(s, ctx, client, all)
}

const maxChoices = 500 // in one call

// showDifferences shows what there is to settle.
func showDifferences(s *kit.Session, found []apiclient.Difference, chosen choices) error {
	switch {
	case s.Json:
		if err := s.WriteJSON(append([]apiclient.Difference{}, found...)); err != nil {
			return err
		}
	case s.Quiet:
		for _, d := range found {
			fmt.Fprintln(s.Env.Out, d.Login, d.Name)
		}
	case len(found) == 0:
		fmt.Fprintln(s.Env.Out, "No drift, as of the last look.")
	default:
		differenceTable(s, found, chosen)
		fmt.Fprintln(s.Env.Out, "\nSettle them with -missing, -ungranted and -strangers: plumlatch help settle")
	}
	if len(found) > 0 {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

func differenceTable(s *kit.Session, found []apiclient.Difference, chosen choices) {
	t := kit.Table{Head: []string{"LOGIN", "KEY", "HOLDER", "STATUS", "SINCE", "TO DO"}}
	for _, d := range found {
		since, name := "", d.Name
		if d.Since != nil {
			since = kit.Day(*d.Since)
		}
		if d.Status == apiclient.StatusStranger {
			name = strings.TrimSpace(name + " " + d.Sha256)
		}
		choice := kit.Given(chosen[d.Status])
		switch {
		case choice == "" && d.NoMeans != nil:
			choice = "by hand: " + *d.NoMeans
		case choice == "":
			choice = strings.Join(choicesFor[d.Status], " or ") + "?"
		}
		t.Add(d.Login, name, kit.Given(d.Holder), string(d.Status), since, choice)
	}
	t.Write(s)
	tellByHand(s, found, chosen)
}

// tellByHand prints what to type for what the service cannot do.
func tellByHand(s *kit.Session, found []apiclient.Difference, chosen choices) {
	var lines []string
	add := func(line string) {
		if !slices.Contains(lines, line) {
			lines = append(lines, line)
		}
	}
	for _, d := range found {
		if d.NoMeans == nil || kit.Given(chosen[d.Status]) != "" {
			continue
		}
		_, instance, _ := strings.Cut(d.Login, "@")
		switch d.Status {
		case apiclient.StatusMissing:
			add("plumlatch grant add " + d.Name + " " + d.Login + " -with FILE")
		default:
			add("plumlatch instance steward " + instance + " -with FILE, then settle again")
		}
	}
	if len(lines) > 0 {
		fmt.Fprintln(s.Env.Out, "\nBy hand, with a private key that opens the login:")
	}
	for _, l := range lines {
		fmt.Fprintln(s.Env.Out, "  "+l)
	}
}

// awaitSettled waits for the runs and says what came of each choice.
func awaitSettled(s *kit.Session, ctx context.Context, client *apiclient.Client, all apiclient.Settlement) error {
	outcome := map[uuid.UUID]string{}
	for n, r := range all.Runs {
		ended, err := s.Watch(ctx, client, r.Id)
		if err != nil {
			return err
		}
		all.Runs[n] = ended
		outcome[r.Id] = "done"
		if ended.State != apiclient.RunStateDone {
			outcome[r.Id] = string(ended.State) + ": " + kit.Given(ended.Error)
		}
	}
	whole := true
	t := kit.Table{Head: []string{"LOGIN", "KEY", "CHOICE", "OUTCOME"}}
	for _, i := range all.Items {
		what := string(i.State)
		switch {
		case i.Run != nil:
			what = outcome[*i.Run]
			whole = whole && what == "done"
		case i.State == apiclient.SettledDifferenceStateLeftOut:
			what += ": " + kit.Given(i.Detail)
			whole = false
		}
		t.Add(i.Login, i.Name, string(i.Choice), what)
	}
	switch {
	case s.Json:
		if err := s.WriteJSON(all); err != nil {
			return err
		}
	case !s.Quiet:
		t.Write(s)
	}
	if !whole {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}
