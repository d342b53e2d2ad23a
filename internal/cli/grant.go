package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

var grantCommands = []command{
	{
		name: "grant add", args: "KEY LOGIN", min: 2, max: 2, flags: grantAdd,
		summary: "Let a key open a login, and place its line there",
		detail: `The service places the line with the instance's steward key. Where there is none, -with
FILE or -agent has this machine place it with a private half that is here and stays here.
LOGIN is user@instance, or the instance for its own login user.`,
		examples: []string{
			`plumlatch grant add oona-main debian@ringing-db -reason "cover for ines in May"`,
			"plumlatch grant add marek-main atlas-db -until 2026-12-31",
			"plumlatch grant add ines-main tide-gauge-1 -with ~/.ssh/oona",
		},
	},
	{
		name: "grant list", flags: grantList,
		summary: "Show which key should open which login, since when, until when, by whom and why",
		examples: []string{
			"plumlatch grant list -login ringing-db",
			"plumlatch grant list -key oona-main",
			"plumlatch grant list -with-end",
			"plumlatch grant list -keeper tomas -ended",
		},
	},
	{
		name: "grant withdraw", args: "KEY LOGIN", min: 2, max: 2, flags: grantWithdraw,
		summary: "Let a key open a login no more, and remove its line",
		detail: `It refuses where that would leave the login shut or thin; -anyway with -reason goes on. No
line is removed before another key has shown, by a completed login, that it opens the login.`,
		examples: []string{
			"plumlatch grant withdraw tomas-laptop debian@tide-gauge-1",
			`plumlatch grant withdraw oona-main gateway-2 -anyway -reason "tablet lost"`,
		},
	},
}

// grantFlags are those of adding and withdrawing.
type grantFlags struct {
	holderFlags
	reason string
}

func (g *grantFlags) flags(f *flag.FlagSet) {
	g.holderFlags.flags(f)
	f.StringVar(&g.reason, "reason", "", "why, for the daybook")
}

func grantAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var g grantFlags
	g.flags(f)
	until := f.String(
		"until",
		"",
		"the `day`, as 2026-12-31, at whose end the service withdraws it; or a time, as 2026-12-31T18:00:00Z",
	)
	return func(ctx context.Context, s *session, args []string) error {
		end, err := readUntil(*until)
		if err != nil {
			return err
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		request := apiclient.AddGrant{Key: args[0], Login: args[1], Reason: optional(g.reason), Until: end}
		place := func(ctx context.Context, d *means.Door, _ sshio.Entry, line means.Key) error {
			_, err := d.Place(ctx, line)
			return err
		}
		return s.changeGrant(ctx, client, g, "", func(fromHere bool) (apiclient.Grant, error) {
			if fromHere {
				request.FromHere = new(true)
			}
			return answer[apiclient.Grant](
				client.AddGrant(ctx, &apiclient.AddGrantParams{IdempotencyKey: newRequestKey()}, request),
			)
		}, place)
	}
}

func grantList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	key := f.String("key", "", "only of this key")
	keeper := f.String("keeper", "", "only of keys of this keeper")
	login := f.String("login", "", "only of this login, user@instance, or of all logins of an instance")
	label := f.String("label", "", "only of instances with this label, `name=value`")
	withEnd := f.Bool("with-end", false, "only those that end by themselves")
	ended := f.Bool("ended", false, "those that were withdrawn, instead of those in force")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		rows, total, err := fetch[apiclient.GrantRecord](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				params := apiclient.ListGrantsParams{
					After:  after,
					Limit:  &limit,
					Total:  count,
					Key:    optional(*key),
					Keeper: optional(*keeper),
					Login:  optional(*login),
					Label:  optional(*label),
				}
				if *withEnd {
					params.Until = withEnd
				}
				if *ended {
					params.Ended = ended
				}
				return client.ListGrants(ctx, &params)
			},
		)
		if err != nil {
			return err
		}
		l := listing[apiclient.GrantRecord]{
			head: []string{
				"LOGIN",
				"KEY",
				"KEEPER",
				"GRANTED",
				"UNTIL",
				"FIT",
				"WHY",
			}, cells: grantCells, none: "No grant fits.",
			name: func(g apiclient.GrantRecord) string { return g.Login + " " + g.Key.Name },
		}
		if *ended {
			l.head[4], l.head[5] = "ENDED", "BY"
		}
		return l.show(s, rows, total)
	}
}

func grantCells(g apiclient.GrantRecord) []string {
	keeper, end, fit := given(g.Key.Keeper), "", string(given(g.Fit))
	if given(g.Steward) {
		keeper = "the service's own"
	}
	switch {
	case g.WithdrawnAt != nil:
		end, fit = day(*g.WithdrawnAt), given(g.WithdrawnBy)
	case given(g.EndRefused):
		end = day(*g.Until) + ", but it could not go"
	case g.Until != nil:
		end = moment(*g.Until)
	}
	if fit == string(apiclient.FitMissing) {
		fit += " !"
	}
	return []string{g.Login, g.Key.Name, keeper, day(g.GrantedAt) + " by " + g.GrantedBy, end, fit, given(g.Reason)}
}

// readUntil reads a day, whose end it means, or a time.
func readUntil(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return &at, nil
	}
	at, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return nil, &usageError{
			fmt.Sprintf("-until is a day, as 2026-12-31, or a time, as 2026-12-31T18:00:00Z; not %q", text),
		}
	}
	return new(at.AddDate(0, 0, 1)), nil
}

var errOwnLine = errors.New(
	"this is the line of the key that was logged in with: nothing would show that another key opens the login. Give " +
		"another with -with FILE, or -agent -pick",
)

func grantWithdraw(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var g grantFlags
	g.flags(f)
	anyway := f.Bool("anyway", false, "go on where the login is left shut or thin; needs -reason")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		k, err := answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		request := apiclient.WithdrawGrant{Key: args[0], Login: args[1], Reason: optional(g.reason)}
		if *anyway {
			request.Anyway = anyway
		}
		remove := func(ctx context.Context, d *means.Door, by sshio.Entry, line means.Key) error {
			_, err := d.Remove(ctx, by, line)
			return err
		}
		return s.changeGrant(ctx, client, g, k.Fingerprints.Sha256, func(fromHere bool) (apiclient.Grant, error) {
			if fromHere {
				request.FromHere = new(true)
			}
			return answer[apiclient.Grant](client.WithdrawGrant(ctx, request))
		}, remove)
	}
}

// changeGrant has the service make the change, or makes it from here. gone is the
// fingerprint of the key whose line is to go, "" where one is to come: for a removal
// the login has to show that another key opens it.
func (s *session) changeGrant(
	ctx context.Context,
	client *apiclient.Client,
	g grantFlags,
	gone string,
	ask func(fromHere bool) (apiclient.Grant, error),
	edit func(context.Context, *means.Door, sshio.Entry, means.Key) error,
) error {
	done := "placed"
	if gone != "" {
		done = "removed"
	}
	if !g.given() {
		grant, err := ask(false)
		if err != nil {
			return err
		}
		run, err := s.watch(ctx, client, grant.Run.Id)
		if err != nil {
			return err
		}
		if err := s.runEnded(run); err != nil || s.json || s.quiet {
			return err
		}
		fmt.Fprintf(s.env.Out, "The line of %s is %s in %s.\n", grant.Key, done, grant.Login)
		return nil
	}
	halves, end, err := s.holder(g.holderFlags)
	if err != nil {
		return err
	}
	defer end()
	halves = slices.DeleteFunc(halves, func(h atHand) bool { return sha256Of(h) == gone })
	if len(halves) == 0 {
		return errOwnLine
	}
	grant, err := ask(true)
	if err != nil {
		return err
	}
	session, half, failed := enter(ctx, grant.Connection, halves)
	if failed == nil {
		defer session.Close()
		failed = s.editGranted(ctx, client, grant, session, edit)
	}
	step := "place"
	if gone != "" {
		step = "remove"
	}
	if err := reportStep(ctx, client, grant.Run.Id, step, "the line is "+done+", from here", failed); err != nil {
		return err
	}
	if failed != nil {
		return fmt.Errorf("the line of %s was not %s in %s: %w", grant.Key, done, grant.Login, failed)
	}
	if err := reportStep(ctx, client, grant.Run.Id, "ask", "the line is "+done, nil); err != nil {
		return err
	}
	run, err := s.watch(ctx, client, grant.Run.Id)
	if err != nil {
		return err
	}
	if err := s.runEnded(run); err != nil {
		return err
	}
	l, err := answer[apiclient.Login](client.GetLogin(ctx, grant.Login))
	if err != nil {
		return err
	}
	if l, err = s.reportEntry(ctx, client, l, session, half); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(l)
	}
	if !s.quiet {
		fmt.Fprintf(s.env.Out, "The line of %s is %s in %s, from here with %s.\n\n", grant.Key, done, grant.Login, half.from)
		s.showLogin(l)
	}
	return nil
}

// editGranted edits the files of the login in a session, and tells the service what they hold then.
func (s *session) editGranted(
	ctx context.Context,
	client *apiclient.Client,
	grant apiclient.Grant,
	session *sshio.Session,
	edit func(context.Context, *means.Door, sshio.Entry, means.Key) error,
) error {
	line, err := lineKey(grant.Key, grant.Line)
	if err != nil {
		return err
	}
	if err := edit(ctx, means.New(means.Over(session), nil, nil, time.Now), session.Entry(), line); err != nil {
		return err
	}
	_, err = report(ctx, client, grant.Login, session)
	return err
}

// lineKey reads the line of a key that the service gave.
func lineKey(name, line string) (means.Key, error) {
	parsed := authorizedkeys.Parse([]byte(line))
	if len(parsed) != 1 || parsed[0].Kind != authorizedkeys.Key {
		return means.Key{}, fmt.Errorf("the service gave a line for %s that is no key", name)
	}
	return means.Key{Name: name, Blob: parsed[0].Blob, Line: line}, nil
}

// reportStep tells the service what came of a step that was taken here.
func reportStep(
	ctx context.Context,
	client *apiclient.Client,
	run uuid.UUID,
	step, outcome string,
	failed error,
) error {
	r := apiclient.ReportStep{Step: step, Outcome: optional(outcome)}
	if failed != nil {
		r = apiclient.ReportStep{Step: step, Error: new(text.Line(failed.Error(), text.MaxMessage))}
	}
	_, err := answer[apiclient.Run](client.ReportStep(ctx, run, r))
	return err
}
