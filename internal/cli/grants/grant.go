// Package grants holds the commands that grant and withdraw, settle what differs, and prove keys.
package grants

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
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

var GrantCommands = []kit.Command{
	{
		Name: "grant add", Args: "KEY|HOLDER [LOGIN...]", Min: 1, Max: -1, Flags: grantAdd,
		Summary: "Grant logins to a key and place the key's line",
		Detail: `The service places the line with the instance's steward key. Where there is none, -with
FILE or -agent has this machine place it with a private key that is here and stays here.
LOGIN is user@instance, or the instance for its own login user; several logins, or -label, are shown
first, and each is a run of its own. A holder with one active key can be named instead of the key.
A grant with -until ends at that time unless the login would be shut by it; the line gets the end
too where the SSH server enforces it. Repeat it with another -until to move the end.`,
		Examples: []string{
			`plumlatch grant add oona-main debian@ringing-db -reason "cover for ines in May"`,
			"plumlatch grant add marek-main atlas-db -until 2d",
			"plumlatch grant add oona -label service=atlas -until friday",
			`plumlatch grant add tomas-laptop tide-gauge-1 -limits 'from="192.0.2.0/24",no-pty'`,
			"plumlatch grant add ines-main tide-gauge-1 -with ~/.ssh/oona",
		},
	},
	{
		Name: "grant list", Flags: grantList,
		Summary: "List grants: which key should open which login",
		Examples: []string{
			"plumlatch grant list -login ringing-db",
			"plumlatch grant list -key oona-main",
			"plumlatch grant list -with-end",
			"plumlatch grant list -overdue",
			"plumlatch grant list -holder tomas -ended",
		},
	},
	{
		Name: "grant withdraw", Args: "KEY LOGIN", Min: 2, Max: 2, Flags: grantWithdraw,
		Summary: "Withdraw a grant and remove the key's line",
		Detail: `It refuses where that would leave the login shut or thin; -anyway with -reason continues. No
line is removed before another key has shown, by a completed login, that it opens the login.`,
		Examples: []string{
			"plumlatch grant withdraw tomas-laptop debian@tide-gauge-1",
			`plumlatch grant withdraw oona-main gateway-2 -anyway -reason "tablet lost"`,
		},
	},
}

// grantFlags are those of adding and withdrawing.
type grantFlags struct {
	kit.LocalKeyFlags
	reason string
}

func (g *grantFlags) flags(f *flag.FlagSet) {
	g.LocalKeyFlags.Flags(f)
	f.StringVar(&g.reason, "reason", "", "why, for the daybook")
}

func grantAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var g grantFlags
	g.flags(f)
	var until kit.When
	f.Var(&until, "until", "the `time` at which it ends: 2d, friday, tomorrow 18:00, 2026-12-31 (its end) or RFC 3339")
	endBy := f.String(
		"end-by", "",
		"what ends it: service (removes the line), line (the SSH server, by an expiry-time in the line), or both; "+
			"both unless given",
	)
	limits := f.String(
		"limits", "", `what its line is limited to, as sshd(8) writes it before a key: from="192.0.2.0/24",no-pty`,
	)
	unlimited := f.Bool("no-limits", false, "take the limits of its line away")
	endless := f.Bool("endless", false, "take the end of a grant away that has one")
	label := f.String("label", "", "grant the logins of all instances with this label, `name=value`")
	yes := f.Bool("yes", false, "do not ask for confirmation")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		w := wanted{grantFlags: g, until: until.At, endBy: *endBy, endless: *endless, yes: *yes}
		switch {
		case *unlimited && *limits != "":
			return kit.Usage("give -limits or -no-limits")
		case *unlimited || *limits != "":
			w.limits = limits
		}
		if *label != "" || len(args) != 2 {
			return grantMany(ctx, s, w, args[0], args[1:], *label)
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		return grantOne(ctx, s, client, w, args[0], args[1])
	}
}

// wanted is what grant add was given.
type wanted struct {
	grantFlags
	until        *time.Time
	endBy        string
	limits       *string // nil for those that it has
	endless, yes bool
}

func (w wanted) request(key, login string) apiclient.AddGrant {
	request := apiclient.AddGrant{Key: key, Login: login, Reason: kit.Optional(w.reason), Until: w.until, Limits: w.limits}
	if w.endBy != "" {
		request.EndBy = new(apiclient.EndBy(w.endBy))
	}
	if w.endless {
		request.Endless = new(true)
	}
	return request
}

func addGrant(ctx context.Context, client *apiclient.Client, r apiclient.AddGrant) (apiclient.Grant, error) {
	return kit.Answer[apiclient.Grant](
		client.AddGrant(ctx, &apiclient.AddGrantParams{IdempotencyKey: kit.NewRequestKey()}, r),
	)
}

// grantOne grants one login to one key. Where a repetition would make it endless, a person at a terminal is asked.
func grantOne(ctx context.Context, s *kit.Session, client *apiclient.Client, w wanted, key, login string) error {
	request := w.request(key, login)
	note := ""
	ask := func(fromHere bool) (apiclient.Grant, error) {
		if fromHere {
			request.FromHere = new(true)
		}
		g, err := addGrant(ctx, client, request)
		if kit.Code(err) == "would-be-endless" && (w.yes || kit.IsTerminal(s.Env.In)) {
			if err := s.Confirm(w.yes, "The grant of "+login+" to "+key+" has an end: "+err.Error()+".", "endless"); err != nil {
				return g, err
			}
			request.Endless = new(true)
			return addGrant(ctx, client, request)
		}
		return g, err
	}
	granted, err := changeGrant(s, ctx, client, w.grantFlags, "", ask, func(
		ctx context.Context, d *means.Door, _ sshio.Entry, line means.Key, g apiclient.Grant,
	) (err error) {
		note, err = placeUntil(ctx, d, line, g)
		return err
	})
	if err != nil || s.Json || s.Quiet {
		return err
	}
	if note != "" {
		fmt.Fprintln(s.Env.Out, note)
	}
	if limits := authorizedkeys.LimitsTold(kit.Given(granted.Limits)); limits != "" {
		fmt.Fprintf(s.Env.Out, "Its line is limited: %s.\n", limits)
	}
	if granted.Until != nil {
		fmt.Fprintf(s.Env.Out, "The grant ends on %s%s.\n", kit.Moment(*granted.Until), endedBy(granted.EndBy))
	}
	return nil
}

// endedBy says what ends a grant.
func endedBy(by *apiclient.EndBy) string {
	switch kit.Given(by) {
	case apiclient.EndByBoth:
		return ": the service removes the line, and the SSH server refuses it from then on"
	case apiclient.EndByLine:
		return ": the SSH server refuses the line from then on"
	case apiclient.EndByService:
		return ": the service removes the line"
	}
	return ""
}

// placeUntil places a line with the end that the server enforces; note says where that is not to be had.
func placeUntil(ctx context.Context, d *means.Door, line means.Key, g apiclient.Grant) (note string, err error) {
	var end time.Time
	if by := kit.Given(g.EndBy); g.Until != nil && (by == apiclient.EndByBoth || by == apiclient.EndByLine) {
		end = *g.Until
	}
	_, err = d.PlaceAs(ctx, means.As{End: end, Limits: g.Limits}, line)
	if errors.Is(err, means.ErrNoEnds) && kit.Given(g.EndBy) == apiclient.EndByBoth {
		note = "The line has no end of its own: " + err.Error() + "."
		_, err = d.PlaceAs(ctx, means.As{Limits: g.Limits}, line)
	}
	return note, err
}

func grantList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	key := f.String("key", "", "only of this key")
	holder := f.String("holder", "", "only of keys of this holder")
	login := f.String("login", "", "only of this login, user@instance, or of all logins of an instance")
	label := f.String("label", "", "only of instances with this label, `name=value`")
	own := f.Bool("own", false, "only those of steward keys")
	withEnd := f.Bool("with-end", false, "only those that end by themselves")
	overdue := f.Bool("overdue", false, "only those whose end is past; ends with status 3 where there is one")
	ended := f.Bool("ended", false, "those that were withdrawn, instead of those in force")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		rows, total, err := kit.Fetch[apiclient.GrantRecord](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				params := apiclient.ListGrantsParams{
					After:  after,
					Limit:  &limit,
					Total:  count,
					Key:    kit.Optional(*key),
					Holder: kit.Optional(*holder),
					Login:  kit.Optional(*login),
					Label:  kit.Optional(*label),
				}
				if *own {
					params.Own = own
				}
				if *withEnd {
					params.Until = withEnd
				}
				if *ended {
					params.Ended = ended
				}
				if *overdue {
					params.Overdue = overdue
				}
				return client.ListGrants(ctx, &params)
			},
		)
		if err != nil {
			return err
		}
		l := kit.Listing[apiclient.GrantRecord]{
			Head: []string{
				"LOGIN",
				"KEY",
				"HOLDER",
				"GRANTED",
				"UNTIL",
				"STATUS",
				"WHY",
			}, Least: []string{"WHY", "HOLDER", "GRANTED", "LIMITS"}, Cells: grantCells, None: "No grant matches.",
			Name: func(g apiclient.GrantRecord) string { return g.Login + " " + g.Key.Name },
		}
		if *ended {
			l.Head[4], l.Head[5] = "ENDED", "BY"
		}
		if slices.ContainsFunc(rows, func(g apiclient.GrantRecord) bool { return g.Limits != nil }) {
			l.Head = append(l.Head, "LIMITS")
			l.Cells = func(g apiclient.GrantRecord) []string {
				return append(grantCells(g), authorizedkeys.LimitsTold(kit.Given(g.Limits)))
			}
		}
		if err := l.Show(s, rows, total); err != nil {
			return err
		}
		if *overdue && len(rows) > 0 {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

func grantCells(g apiclient.GrantRecord) []string {
	holder, end, status := kit.Given(g.Key.Holder), "", string(kit.Given(g.Status))
	if kit.Given(g.Steward) {
		holder = "the service's own"
	}
	switch {
	case g.WithdrawnAt != nil:
		end, status = kit.Day(*g.WithdrawnAt), kit.Given(g.WithdrawnBy)
	case kit.Given(g.Overdue):
		end = "overdue since " + kit.Moment(*g.Until)
		if p := kit.Given(g.EndProblem); p != "" {
			end += ": " + p
		}
	case g.Until != nil:
		end = kit.Moment(*g.Until)
	}
	if status == string(apiclient.StatusMissing) {
		status += " !"
	}
	return []string{
		g.Login,
		g.Key.Name,
		holder,
		kit.Day(g.GrantedAt) + " by " + g.GrantedBy,
		end,
		status,
		kit.Given(g.Reason),
	}
}

var errOwnLine = kit.Refused(
	"own-line",
	"this is the line of the key that was logged in with, so nothing would show that another key opens the login",
	"Give another key: -with FILE, or -agent -pick COMMENT",
)

func grantWithdraw(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var g grantFlags
	g.flags(f)
	anyway := f.Bool("anyway", false, "continue where the login is left shut or thin; needs -reason")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		request := apiclient.WithdrawGrant{Key: args[0], Login: args[1], Reason: kit.Optional(g.reason)}
		if *anyway {
			request.Anyway = anyway
		}
		_, err = changeGrant(s, ctx, client, g, k.Fingerprints.Sha256, func(fromHere bool) (apiclient.Grant, error) {
			if fromHere {
				request.FromHere = new(true)
			}
			return kit.Answer[apiclient.Grant](client.WithdrawGrant(ctx, request))
		}, RemoveLine)
		return err
	}
}

// RemoveLine removes the line of a grant.
func RemoveLine(ctx context.Context, d *means.Door, by sshio.Entry, line means.Key, _ apiclient.Grant) error {
	_, err := d.Remove(ctx, by, line)
	return err
}

// lineEdit edits the line of a grant in a login.
type lineEdit func(context.Context, *means.Door, sshio.Entry, means.Key, apiclient.Grant) error

// changeGrant has the service make the change, or makes it from here. gone is the
// fingerprint of the key whose line is to go, "" where one is to come: for a removal
// the login has to show that another key opens it.
func changeGrant(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	g grantFlags,
	gone string,
	ask func(fromHere bool) (apiclient.Grant, error),
	edit lineEdit,
) (grant apiclient.Grant, err error) {
	done := "placed"
	if gone != "" {
		done = "removed"
	}
	if !g.Given() {
		if grant, err = ask(false); err != nil {
			return grant, err
		}
		run, err := s.Watch(ctx, client, grant.Run.Id)
		if err != nil {
			return grant, err
		}
		if err := s.RunEnded(run); err != nil || s.Json || s.Quiet {
			return grant, err
		}
		fmt.Fprintf(s.Env.Out, "The line of %s is %s in %s.\n", grant.Key, done, grant.Login)
		return grant, nil
	}
	signers, end, err := s.LocalKeys(g.LocalKeyFlags)
	if err != nil {
		return grant, err
	}
	defer end()
	signers = slices.DeleteFunc(signers, func(h kit.AtHand) bool { return sha256Of(h) == gone })
	if len(signers) == 0 {
		return grant, errOwnLine
	}
	if grant, err = ask(true); err != nil {
		return grant, err
	}
	session, signer, failed := s.EnterToHelp(ctx, grant.Connection, signers)
	if failed == nil {
		defer session.Close()
		failed = EditGranted(s, ctx, client, grant, session, edit)
	}
	step := "place"
	if gone != "" {
		step = "remove"
	}
	if err := ReportStep(ctx, client, grant.Run.Id, step, "the line is "+done+", from here", failed); err != nil {
		return grant, err
	}
	if failed != nil {
		return grant, fmt.Errorf("the line of %s was not %s in %s: %w", grant.Key, done, grant.Login, failed)
	}
	seen := AskHere(s, ctx, grant, gone == "")
	if err := ReportStep(ctx, client, grant.Run.Id, "ask", "the line is "+done, seen); err != nil {
		return grant, err
	}
	run, err := s.Watch(ctx, client, grant.Run.Id)
	if err != nil {
		return grant, err
	}
	if err := s.RunEnded(run); err != nil {
		return grant, err
	}
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, grant.Login))
	if err != nil {
		return grant, err
	}
	if l, err = s.ReportEntry(ctx, client, l, session, signer); err != nil {
		return grant, err
	}
	if s.Json {
		return grant, s.WriteJSON(l)
	}
	if !s.Quiet {
		fmt.Fprintf(
			s.Env.Out,
			"The line of %s is %s in %s, from here with %s.\n\n",
			grant.Key,
			done,
			grant.Login,
			signer.From,
		)
		access.ShowLogin(s, l)
	}
	return grant, nil
}

// EditGranted edits the files of the login in a session, and tells the service what they hold then.
func EditGranted(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	grant apiclient.Grant,
	session *sshio.Session,
	edit lineEdit,
) error {
	line, err := LineKey(grant.Key, grant.Line)
	if err != nil {
		return err
	}
	if err := edit(ctx, means.New(means.Over(session), nil, nil, time.Now), session.Entry(), line, grant); err != nil {
		return err
	}
	_, err = access.Report(ctx, client, grant.Login, session)
	return err
}

// AskHere asks the SSH server from this machine whether it accepts the key, as it should or should not.
func AskHere(s *kit.Session, ctx context.Context, g apiclient.Grant, want bool) error {
	line, err := LineKey(g.Key, g.Line)
	if err != nil {
		return err
	}
	t, err := s.TargetOf(g.Connection, nil)
	if err != nil {
		return err
	}
	accepted, err := sshio.Accepts(ctx, t, line.Blob)
	switch {
	case err != nil:
		return err
	case accepted && !want:
		return fmt.Errorf("the SSH server still accepts %s", g.Key)
	case !accepted && want:
		return fmt.Errorf(
			"the line is in place there, but the SSH server does not accept %s; see why: plumlatch why %s -with FILE",
			g.Key, g.Login,
		)
	}
	return nil
}

// LineKey reads the line of a key that the service gave.
func LineKey(name, line string) (means.Key, error) {
	parsed := authorizedkeys.Parse([]byte(line))
	if len(parsed) != 1 || parsed[0].Kind != authorizedkeys.Key {
		return means.Key{}, fmt.Errorf("the service gave a line for %s that is no key", name)
	}
	return means.Key{Name: name, Blob: parsed[0].Blob, Line: line}, nil
}

// ReportStep tells the service what came of a step that was taken here.
func ReportStep(
	ctx context.Context, client *apiclient.Client, run uuid.UUID, step, outcome string, failed error,
) error {
	r := apiclient.ReportStep{Step: step, Outcome: kit.Optional(outcome)}
	if failed != nil {
		r = apiclient.ReportStep{Step: step, Error: new(text.Line(failed.Error(), text.MaxMessage))}
	}
	_, err := kit.Answer[apiclient.Run](client.ReportStep(ctx, run, r))
	return err
}
