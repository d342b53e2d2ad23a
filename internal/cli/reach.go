package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

var reachCommands = []command{
	{
		name: "reach", flags: reachList,
		summary: "Show how safe each login is, the worst first, and what to do next",
		detail: `solid: two or more keepers with a fresh proof; thin: one; stale: keys in place, none freshly
proved; shut: nobody is known to hold a key in place; unswept: nobody has looked. It ends
with status 3 if a login is shut, or if not just the granted keys stand in one.`,
		examples: []string{
			"plumlatch reach",
			"plumlatch reach -state shut",
			"plumlatch reach -keeper tomas",
			"plumlatch reach -drift",
			"plumlatch reach -worry",
		},
	},
	{
		name:     "login show",
		args:     "LOGIN",
		min:      1,
		max:      1,
		flags:    loginShow,
		summary:  "Show who gets in to a login today, by which key, proved when",
		examples: []string{"plumlatch login show ubuntu@atlas-web-1", "plumlatch login show ringing-web"},
	},
	{
		name:    "login history",
		args:    "LOGIN",
		min:     1,
		max:     1,
		flags:   loginHistory,
		summary: "Show how a login's authorized_keys changed from look to look",
		detail: "With -from and -to it shows what came and went between any two looks, by their numbers in\nthe history; " +
			"-to is the newest of that file unless given.",
		examples: []string{"plumlatch login history ringing-web", "plumlatch login history ringing-web -from 5 -to 1"},
	},
	{
		name: "key loss", args: "[KEY ...]", max: -1, flags: keyLoss,
		summary:  "Show what would become of the logins if keys were lost together",
		detail:   "With -keeper it takes all active keys of a person or team, as on a laptop that is gone.",
		examples: []string{"plumlatch key loss hides-shared", "plumlatch key loss -keeper marek"},
	},
	{
		name: "key mark-lost", args: "[KEY ...]", max: -1, flags: keyMarkLost,
		summary: "Mark keys as lost, after showing what that does",
		detail: `Their keeper or an admin may. With -keeper it takes all active keys of a person or team. What stands
on the instances stays until it is removed there: plumlatch rotate start -lost -urgent does that.`,
		examples: []string{
			`plumlatch key mark-lost oona-main -reason "tablet stolen at the pier"`,
			`plumlatch key mark-lost -keeper marek -reason "laptop stolen on the train"`,
		},
	},
}

func reachList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	state := f.String("state", "", "only this reach: shut, unswept, stale, thin or solid")
	drift := f.Bool("drift", false, "only logins at which not just the granted keys stand")
	worry := f.Bool("worry", false, "only logins whose best way back in, should the last key be lost, is a bad one")
	label := f.String("label", "", "only instances with this label, `name=value`")
	region := f.String("region", "", "only this region")
	keeper := f.String("keeper", "", "only logins that a key of this keeper opens or should")
	key := f.String("key", "", "only logins that this key opens or should")
	find := f.String("find", "", "`part` of a login's name")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		params := apiclient.GetReachParams{
			Label:  optional(*label),
			Region: optional(*region),
			Keeper: optional(*keeper),
			Key:    optional(*key),
			Q:      optional(*find),
		}
		if *state != "" {
			params.State = new(apiclient.ReachState(*state))
		}
		if *drift {
			params.Drift = drift
		}
		if *worry {
			params.Worry = worry
		}
		var first apiclient.ReachPage
		rows, _, err := fetch[apiclient.LoginReach](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
				if after == nil { // the counts come with every page
					one := params
					one.Limit = new(1)
					if first, err = answer[apiclient.ReachPage](client.GetReach(ctx, &one)); err != nil {
						return nil, err
					}
				}
				params.After, params.Limit = after, &limit
				return client.GetReach(ctx, &params)
			},
		)
		if err != nil {
			return err
		}
		if err := s.showReach(rows, first, *worry); err != nil {
			return err
		}
		if first.Counts["shut"] > 0 || first.Drifting > 0 {
			return &quietError{exitNotAsItShould}
		}
		return nil
	}
}

// showReach shows rows; with worry, what is bad about the best way back into each.
func (s *session) showReach(rows []apiclient.LoginReach, p apiclient.ReachPage, worry bool) error {
	switch {
	case s.json:
		p.Items, p.Next = rows, nil
		return s.writeJSON(p)
	case s.quiet:
		for _, r := range rows {
			fmt.Fprintln(s.env.Out, r.Login)
		}
		return nil
	}
	var counts []string
	for _, state := range []string{"shut", "unswept", "stale", "thin", "solid"} {
		text := fmt.Sprintf("%d %s", p.Counts[state], state)
		if state == "shut" && p.Counts[state] > 0 {
			text = s.bad(text)
		}
		counts = append(counts, text)
	}
	fmt.Fprintf(
		s.env.Out,
		"%s; at %d not just the granted keys stand. A proof counts for %d days.\n\n",
		strings.Join(counts, ", "),
		p.Drifting,
		p.FreshDays,
	)
	if p.Asked > 0 {
		fmt.Fprintf(
			s.env.Out,
			"A rotation waits for %s that keepers are asked to bring: plumlatch rotate asked\n\n",
			text.Counted(p.Asked, "new public half"),
		)
	}
	if p.Worrying > 0 && !worry {
		fmt.Fprintf(
			s.env.Out,
			"At %s the best way back in, should the last key be lost, is a bad one: plumlatch reach -worry\n\n",
			text.Counted(p.Worrying, "login"),
		)
	}
	if len(rows) == 0 {
		fmt.Fprintln(s.env.Out, "No login fits.")
		return nil
	}
	t := table{head: []string{"LOGIN", "REACH", "KEYS", "SWEPT", "WHY", "NEXT"}}
	for _, r := range rows {
		swept := "never"
		if r.SweptAt != nil {
			swept = day(*r.SweptAt)
		}
		why, next := r.Why, given(r.Next)
		if worry {
			why, next = given(r.Worry), "plumlatch restore rehearse "+r.Instance
		}
		t.add(r.Login, string(r.Reach), fmt.Sprint(r.InPlace), swept, why, next)
	}
	t.write(s)
	s.rest(len(rows), p.Total)
	return nil
}

func loginShow(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		l, err := answer[apiclient.Login](client.GetLogin(ctx, args[0]))
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(l)
		}
		s.showLogin(l)
		return nil
	}
}

func (s *session) showLogin(l apiclient.Login) {
	swept := "never"
	if l.Reach.SweptAt != nil {
		swept = moment(*l.Reach.SweptAt) + ", " + given(l.SweptBy)
	}
	s.facts(
		"Login",
		l.Reach.Login,
		"Reach",
		string(l.Reach.Reach)+": "+l.Reach.Why,
		"Swept",
		swept,
		"Last try",
		given(l.Reach.SweepError),
		"Cloud's label",
		given(l.Label),
		"Next",
		given(l.Reach.Next),
	)
	fmt.Fprintln(s.env.Out)
	t := table{head: []string{"KEY", "KEEPER", "FIT", "PROVED", "LOGGED IN", "LIMITS"}}
	for _, o := range l.Openers {
		fit, keeper := string(o.Fit), given(o.Key.Keeper)
		if adrift(o) {
			fit += " !"
		}
		if given(o.Steward) {
			keeper = "the service's own"
		}
		if given(o.KeyState) == apiclient.KeyStateLost {
			keeper += ", lost"
		}
		proved, entered := "never", "never"
		if o.ProvedAt != nil {
			proved = day(*o.ProvedAt)
		}
		if o.EnteredAt != nil {
			entered = day(*o.EnteredAt)
		}
		t.add(o.Key.Name, keeper, fit, proved, entered, given(o.Limits))
	}
	for _, g := range l.Strangers {
		t.add(g.Sha256, "a stranger: "+g.Comment, "stranger !", "", "", given(g.Limits))
	}
	t.write(s)
	for _, file := range l.Files {
		for _, x := range file.Exposed {
			s.sayExposed(l.Reach.Login, file.Path, x)
		}
	}
}

// sayExposed tells of a private key that lies where public ones belong.
func (s *session) sayExposed(login, path string, x apiclient.Exposed) {
	which := "Its public key is not known."
	if x.Public != nil {
		which = fmt.Sprintf("Find the key: plumlatch trace %s", *x.Public)
	}
	fmt.Fprintf(
		s.env.Out,
		"\n%s %s of %s, line %d. Treat it as exposed: whoever could read the file has it.\n",
		s.bad("A private key lies in"),
		path,
		login,
		x.Line,
	)
	fmt.Fprintf(s.env.Out, "Remove the lines there by hand, and replace the key pair. %s\n", which)
}

func loginHistory(f *flag.FlagSet) func(context.Context, *session, []string) error {
	from := f.Int("from", 0, "compare this `look` with another")
	to := f.Int("to", 0, "the other `look`")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		versions, err := answer[[]apiclient.FileVersion](client.ListVersions(ctx, args[0]))
		if err != nil {
			return err
		}
		if *from != 0 || *to != 0 {
			return s.compareLooks(ctx, client, args[0], versions, *from, *to)
		}
		if s.json {
			return s.writeJSON(versions)
		}
		if len(versions) == 0 {
			fmt.Fprintf(s.env.Out, "Nobody has read the files of %s yet. Read them: plumlatch sweep %s\n", args[0], args[0])
			return nil
		}
		for n, v := range versions {
			s.showVersion(n+1, v)
		}
		return nil
	}
}

func (s *session) showVersion(number int, v apiclient.FileVersion) {
	there := fmt.Sprintf("%d lines, mode %s", strings.Count(v.Content, "\n"), v.Mode)
	if !v.There {
		there = "not there"
	}
	fmt.Fprintf(s.env.Out, "%2d  %s  %s: %s (%s)\n", number, moment(v.SeenAt), v.Path, there, v.Method)
	s.showChange(v)
}

func (s *session) showChange(v apiclient.FileVersion) {
	for _, line := range v.Went {
		fmt.Fprintln(s.env.Out, s.bad("  - ")+line)
	}
	for _, line := range v.Came {
		fmt.Fprintln(s.env.Out, s.good("  + ")+line)
	}
}

// compareLooks shows what came and went between two looks, told by their numbers
// in the history.
func (s *session) compareLooks(
	ctx context.Context,
	client *apiclient.Client,
	login string,
	versions []apiclient.FileVersion,
	from, to int,
) error {
	if from < 1 || from > len(versions) || to < 0 || to > len(versions) {
		return &usageError{fmt.Sprintf("the looks are numbered 1 to %d: plumlatch login history %s", len(versions), login)}
	}
	if to == 0 {
		to = 1 + slices.IndexFunc(versions, func(v apiclient.FileVersion) bool { return v.Path == versions[from-1].Path })
	}
	a, b := versions[from-1], versions[to-1]
	v, err := answer[apiclient.FileVersion](
		client.CompareVersions(ctx, login, &apiclient.CompareVersionsParams{From: a.Id, To: b.Id}),
	)
	if err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(v)
	}
	if b.SeenAt.Before(a.SeenAt) {
		a, b = b, a
	}
	fmt.Fprintf(s.env.Out, "%s, from %s to %s:\n", v.Path, moment(a.SeenAt), moment(b.SeenAt))
	if len(v.Came)+len(v.Went) == 0 {
		fmt.Fprintln(s.env.Out, "No line came or went.")
	}
	s.showChange(v)
	return nil
}

// lossOf asks what the loss of the named keys, and of all of a keeper, would do.
func lossOf(ctx context.Context, client *apiclient.Client, keys []string, keeper string) (apiclient.Loss, error) {
	if len(keys) == 0 && keeper == "" {
		return apiclient.Loss{}, &usageError{"name the keys, or whose they are: -keeper NAME"}
	}
	params := apiclient.GetLossParams{Keeper: optional(keeper)}
	if len(keys) > 0 {
		params.Key = &keys
	}
	return answer[apiclient.Loss](client.GetLoss(ctx, &params))
}

func keyLoss(f *flag.FlagSet) func(context.Context, *session, []string) error {
	keeper := f.String("keeper", "", "all active keys of this `person` or team")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		loss, err := lossOf(ctx, client, args, *keeper)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(loss)
		}
		s.showLoss(loss)
		return nil
	}
}

func (s *session) showLoss(loss apiclient.Loss) {
	gone := strings.Join(loss.Keys, ", ")
	if gone == "" {
		gone = "any of them, for there is none,"
	}
	if len(loss.Changes) == 0 {
		fmt.Fprintf(s.env.Out, "Without %s no login would be less safe than it is.\n", gone)
		return
	}
	t := table{head: []string{"LOGIN", "NOW", "WITHOUT " + gone}}
	for _, c := range loss.Changes {
		t.add(c.Login, string(c.Before), string(c.After))
	}
	t.write(s)
}

func keyMarkLost(f *flag.FlagSet) func(context.Context, *session, []string) error {
	keeper := f.String("keeper", "", "all active keys of this `person` or team")
	reason := f.String("reason", "", "what happened, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		if *reason == "" {
			return &usageError{"say what happened: -reason TEXT"}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		loss, err := lossOf(ctx, client, args, *keeper)
		if err != nil {
			return err
		}
		if len(loss.Keys) == 0 {
			return fmt.Errorf("%s holds no active key", *keeper)
		}
		if !s.json && !s.quiet {
			s.showLoss(loss)
			fmt.Fprintln(s.env.Out)
		}
		gone := strings.Join(loss.Keys, ", ")
		if err := s.confirm(
			*yes,
			fmt.Sprintf("This marks %s as lost: granted nowhere anew, and counted nowhere as somebody's way in.", gone),
			loss.Keys[0],
		); err != nil {
			return err
		}
		var marked []apiclient.Key
		stand := 0
		for _, name := range loss.Keys {
			k, err := answer[apiclient.Key](client.MarkLost(ctx, name, apiclient.MarkLost{Reason: *reason}))
			if err != nil {
				fmt.Fprintf(s.env.Err, "%d of %s were marked before this:\n", len(marked), text.Counted(len(loss.Keys), "key"))
				return err
			}
			marked, stand = append(marked, k), stand+k.Opens
		}
		if s.json {
			return s.writeJSON(marked)
		}
		if !s.quiet {
			fmt.Fprintf(
				s.env.Out,
				"Marked as lost: %s. Their lines still stand, %d in all, and open logins to whoever has the keys.\nReplace them "+
					"now: plumlatch rotate start -lost -urgent\n",
				gone,
				stand,
			)
		}
		return nil
	}
}
