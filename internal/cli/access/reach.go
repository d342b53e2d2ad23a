package access

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

var ReachCommands = []kit.Command{
	{
		Name: "reach", Flags: reachList,
		Summary: "Show how safe each login is, the worst first, and what to do next",
		Detail: `solid: two or more holders with a fresh proof; thin: one; stale: keys in place, none freshly
proved; shut: no key in place that anybody is known to have; unswept: nobody has read it
yet. It ends with status 3 if a login is shut, or if the keys in place differ from the
grants.`,
		Examples: []string{
			"plumlatch reach",
			"plumlatch reach -state shut",
			"plumlatch reach -holder tomas",
			"plumlatch reach -drift",
			"plumlatch reach -worry",
		},
	},
	{
		Name: "login show", NoNames: true,
		Args:     "LOGIN",
		Min:      1,
		Max:      1,
		Flags:    loginShow,
		Summary:  "Show the keys of a login, with their status and proofs",
		Examples: []string{"plumlatch login show ubuntu@atlas-web-1", "plumlatch login show ringing-web -at 21d"},
	},
	{
		Name:    "login add",
		Args:    "LOGIN",
		Min:     1,
		Max:     1,
		Flags:   loginAdd,
		Summary: "Add a login, an OS user that an instance has already, so that it can be granted",
		Detail: `LOGIN is user@instance. The machine is not changed. A sweep that reads the whole machine finds the
users that somebody gets in to by itself.`,
		Examples: []string{"plumlatch login add deploy@atlas-web-1"},
	},
	{
		Name:     "login forget",
		NoNames:  true,
		Args:     "LOGIN",
		Min:      1,
		Max:      1,
		Flags:    loginForget,
		Summary:  "Delete the record of a login that nobody was ever granted",
		Detail:   "The machine is not changed; a sweep that finds that somebody gets in records it again.",
		Examples: []string{"plumlatch login forget deploy@atlas-web-1"},
	},
	{
		Name: "login history", NoNames: true,
		Args:    "LOGIN",
		Min:     1,
		Max:     1,
		Flags:   loginHistory,
		Summary: "Show how the authorized_keys of a login changed",
		Detail: "With -from and -to it shows the lines added and removed between two readings, by their numbers in " +
			"the history; -to is the newest of that file unless given.",
		Examples: []string{"plumlatch login history ringing-web", "plumlatch login history ringing-web -from 5 -to 1"},
	},
	{
		Name: "key loss", NoNames: true, Args: "[KEY ...]", Max: -1, Flags: keyLoss,
		Summary:  "Show the effect of losing keys",
		Detail:   "With -holder it takes all active keys of a person or team, as for a stolen laptop.",
		Examples: []string{"plumlatch key loss hides-shared", "plumlatch key loss -holder marek"},
	},
	{
		Name: "key mark-lost", Args: "[KEY ...]", Max: -1, Flags: keyMarkLost,
		Summary: "Mark keys as lost, after showing the effect",
		Detail: `Their holder or an admin may. With -holder it takes all active keys of a person or team. Their lines
stay on the instances until you replace them: plumlatch rotate start -lost -urgent.`,
		Examples: []string{
			`plumlatch key mark-lost oona-main -reason "tablet stolen at the pier"`,
			`plumlatch key mark-lost -holder marek -reason "laptop stolen on the train"`,
		},
	},
}

func reachList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	state := f.String("state", "", "only this reach: shut, unswept, stale, thin or solid")
	drift := f.Bool("drift", false, "only logins with drift: the keys in place differ from the grants")
	worry := f.Bool("worry", false, "only logins whose best route back in, if the last key were lost, is a bad one")
	label := f.String("label", "", "only instances with this label, `name=value`")
	region := f.String("region", "", "only this region")
	holder := f.String("holder", "", "only logins that a key of this holder opens or should")
	key := f.String("key", "", "only logins that this key opens or should")
	find := f.String("find", "", "`part` of a login's name")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		params := apiclient.GetReachParams{
			Label:  kit.Optional(*label),
			Region: kit.Optional(*region),
			Holder: kit.Optional(*holder),
			Key:    kit.Optional(*key),
			Q:      kit.Optional(*find),
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
		rows, _, err := kit.Fetch[apiclient.LoginReach](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
				if after == nil { // the counts come with every page
					one := params
					one.Limit = new(1)
					if first, err = kit.Answer[apiclient.ReachPage](client.GetReach(ctx, &one)); err != nil {
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
		if err := showReach(s, rows, first, *worry); err != nil {
			return err
		}
		if first.Counts["shut"] > 0 || first.Drifting > 0 || first.Overdue > 0 {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

// showReach shows rows; with worry, what is bad about the best way back into each.
func showReach(s *kit.Session, rows []apiclient.LoginReach, p apiclient.ReachPage, worry bool) error {
	switch {
	case s.Json:
		p.Items, p.Next = rows, nil
		return s.WriteJSON(p)
	case s.Quiet:
		for _, r := range rows {
			fmt.Fprintln(s.Env.Out, r.Login)
		}
		return nil
	}
	var counts []string
	for _, state := range []string{"shut", "unswept", "stale", "thin", "solid"} {
		text := fmt.Sprintf("%d %s", p.Counts[state], state)
		if state == "shut" && p.Counts[state] > 0 {
			text = s.Bad(text)
		}
		counts = append(counts, text)
	}
	fmt.Fprintf(
		s.Env.Out,
		"%s; %d with drift. A proof counts for %d days.\n\n", strings.Join(counts, ", "),
		p.Drifting, p.FreshDays,
	)
	if p.Asked > 0 {
		fmt.Fprintf(
			s.Env.Out,
			"A rotation waits for %s that holders are asked to bring: plumlatch rotate asked\n\n",
			text.Counted(p.Asked, "new public key"),
		)
	}
	if n := kit.Given(p.Charters); n > 0 {
		fmt.Fprintf(s.Env.Out, "Something differs from %s: plumlatch charter list\n", text.Counted(n, "charter"))
	}
	if p.Overdue > 0 {
		fmt.Fprintf(
			s.Env.Out, "%s past the end and still in force:\n  plumlatch grant list -overdue\n\n",
			text.Counted(p.Overdue, "grant"),
		)
	}
	if p.Worrying > 0 && !worry {
		fmt.Fprintf(
			s.Env.Out,
			"At %s the best way back in, should the last key be lost, is a bad one:\n  plumlatch reach -worry\n\n",
			text.Counted(p.Worrying, "login"),
		)
	}
	if len(rows) == 0 {
		fmt.Fprintln(s.Env.Out, "No login matches.")
		return nil
	}
	// On a narrow terminal the name of the program is said once, in the head.
	lead, narrow := "", s.Narrower(120)
	next := "NEXT"
	if narrow {
		lead, next = "plumlatch ", "NEXT: plumlatch"
	}
	t := kit.Table{
		Head:  []string{"LOGIN", "REACH", "KEYS", "SWEPT", "WHY", next},
		Least: []string{"SWEPT", "KEYS", "WHY"}, Whole: []string{next}, Wraps: []string{"WHY"},
	}
	for _, r := range rows {
		swept := "never"
		if r.SweptAt != nil {
			swept = kit.Day(*r.SweptAt)
		}
		why, command := r.Why, kit.Given(r.Next)
		if worry {
			why, command = kit.Given(r.Worry), "plumlatch restore rehearse "+r.Instance
		}
		t.Add(
			r.Login, string(r.Reach), fmt.Sprint(r.InPlace), swept, why, strings.TrimPrefix(command, lead),
		)
	}
	t.Write(s)
	s.Rest(len(rows), p.Total)
	return nil
}

func loginShow(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var at kit.Ago
	f.Var(&at, "at", "how it was at this `time`, as far as is known: 2026-11-07, 21d or RFC 3339")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if at.At != nil {
			return pastAsked(ctx, s, client, pastFlags{at: at, login: args[0], format: "table"})
		}
		l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, args[0]))
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(l)
		}
		ShowLogin(s, l)
		return nil
	}
}

// sayAlso says what lets somebody in beside the keys, or is not known of that.
func sayAlso(s *kit.Session, l apiclient.Login) {
	if len(l.Also) == 0 {
		return
	}
	fmt.Fprintf(s.Env.Out, "\nWhat else lets somebody into %s:\n", l.Reach.Login)
	for _, way := range l.Also {
		s.Below("  ", way, kit.AsItIs)
	}
	for _, w := range kit.Given(l.Ways) {
		if w.Accepted == nil && w.Kind != apiclient.WayKindUnread && w.Kind != apiclient.WayKindCondition {
			accept := fmt.Sprintf("plumlatch way accept %q %s -reason TEXT", kit.Given(w.Name), l.Reach.Login)
			s.Below("", "If it is wanted:  "+accept, kit.AsItIs)
			break
		}
	}
}

func loginAdd(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		l, err := kit.Answer[apiclient.Login](client.AddLogin(ctx, apiclient.AddLogin{Login: args[0]}))
		switch {
		case err != nil:
			return err
		case s.Json:
			return s.WriteJSON(l)
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, l.Reach.Login)
		default:
			fmt.Fprintf(
				s.Env.Out, "%s is recorded. Grant it: plumlatch grant add KEY %s -with FILE\n", l.Reach.Login, l.Reach.Login,
			)
		}
		return nil
	}
}

func loginForget(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if _, err := kit.AnswerBytes(client.ForgetLogin(ctx, args[0])); err != nil {
			return err
		}
		if !s.Json && !s.Quiet {
			fmt.Fprintf(s.Env.Out, "The record of %s is deleted; the machine is as it was.\n", args[0])
		}
		return nil
	}
}

func ShowLogin(s *kit.Session, l apiclient.Login) {
	swept := "never"
	if l.Reach.SweptAt != nil {
		swept = kit.Moment(*l.Reach.SweptAt) + ", " + kit.Given(l.SweptBy)
	}
	s.Facts(
		"Login", l.Reach.Login, "Reach", string(l.Reach.Reach)+": "+l.Reach.Why, "Swept", swept, "Last try",
		kit.Given(l.Reach.SweepError), "Cloud's label", kit.Given(l.Label), "Next", kit.Given(l.Reach.Next),
	)
	fmt.Fprintln(s.Env.Out)
	t := kit.Table{Head: []string{"KEY", "HOLDER", "STATUS", "PROVED", "LOGGED IN", "LIMITS"}}
	for _, o := range l.Openers {
		status, holder := string(o.Status), kit.Given(o.Key.Holder)
		if adrift(o) {
			status += " !"
		}
		if kit.Given(o.Steward) {
			holder = "the service's own"
		}
		if kit.Given(o.KeyState) == apiclient.KeyStateLost {
			holder += ", lost"
		}
		proved, entered := "never", "never"
		if o.ProvedAt != nil {
			proved = kit.Day(*o.ProvedAt)
		}
		if o.EnteredAt != nil {
			entered = kit.Day(*o.EnteredAt)
		}
		t.Add(o.Key.Name, holder, status, proved, entered, kit.Given(o.Limits))
	}
	for _, g := range l.Strangers {
		t.Add(g.Sha256, "a stranger: "+g.Comment, "stranger !", "", "", kit.Given(g.Limits))
	}
	t.Write(s)
	sayAlso(s, l)
	for _, file := range l.Files {
		for _, x := range file.Exposed {
			sayExposed(s, l.Reach.Login, file.Path, x)
		}
	}
}

// sayExposed tells of a private key that lies where public ones belong.
func sayExposed(s *kit.Session, login, path string, x apiclient.Exposed) {
	which := "Its public key is not known."
	if x.Public != nil {
		which = fmt.Sprintf("Find the key: plumlatch trace %s", *x.Public)
	}
	fmt.Fprintf(
		s.Env.Out,
		"\n%s %s of %s, line %d. Treat it as exposed: everybody who could read the file has it.\n",
		s.Bad("A private key lies in"), path, login, x.Line,
	)
	fmt.Fprintf(s.Env.Out, "Remove the lines there by hand, and replace the key pair. %s\n", which)
}

func loginHistory(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	from := f.Int("from", 0, "compare this `reading` with another")
	to := f.Int("to", 0, "the other `reading`")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		versions, err := kit.Answer[[]apiclient.FileVersion](client.ListVersions(ctx, args[0]))
		if err != nil {
			return err
		}
		if *from != 0 || *to != 0 {
			return compareLooks(s, ctx, client, args[0], versions, *from, *to)
		}
		if s.Json {
			return s.WriteJSON(versions)
		}
		if len(versions) == 0 {
			fmt.Fprintf(s.Env.Out, "Nobody has read the files of %s yet. Read them: plumlatch sweep %s\n", args[0], args[0])
			return nil
		}
		for n, v := range versions {
			showVersion(s, n+1, v)
		}
		return nil
	}
}

func showVersion(s *kit.Session, number int, v apiclient.FileVersion) {
	there := fmt.Sprintf("%d lines, mode %s", strings.Count(v.Content, "\n"), v.Mode)
	if !v.There {
		there = "not there"
	}
	fmt.Fprintf(s.Env.Out, "%2d  %s  %s: %s (%s)\n", number, kit.Moment(v.SeenAt), v.Path, there, v.Method)
	showChange(s, v)
}

func showChange(s *kit.Session, v apiclient.FileVersion) {
	for _, line := range v.Went {
		fmt.Fprintln(s.Env.Out, s.Bad("  - ")+line)
	}
	for _, line := range v.Came {
		fmt.Fprintln(s.Env.Out, s.Good("  + ")+line)
	}
}

// compareLooks shows what came and went between two looks, told by their numbers
// in the history.
func compareLooks(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	login string,
	versions []apiclient.FileVersion,
	from, to int,
) error {
	if from < 1 || from > len(versions) || to < 0 || to > len(versions) {
		return kit.Usage(fmt.Sprintf("the looks are numbered 1 to %d: plumlatch login history %s", len(versions), login))
	}
	if to == 0 {
		to = 1 + slices.IndexFunc(versions, func(v apiclient.FileVersion) bool { return v.Path == versions[from-1].Path })
	}
	a, b := versions[from-1], versions[to-1]
	v, err := kit.Answer[apiclient.FileVersion](
		client.CompareVersions(ctx, login, &apiclient.CompareVersionsParams{From: a.Id, To: b.Id}),
	)
	if err != nil {
		return err
	}
	if s.Json {
		return s.WriteJSON(v)
	}
	if b.SeenAt.Before(a.SeenAt) {
		a, b = b, a
	}
	fmt.Fprintf(s.Env.Out, "%s, from %s to %s:\n", v.Path, kit.Moment(a.SeenAt), kit.Moment(b.SeenAt))
	if len(v.Came)+len(v.Went) == 0 {
		fmt.Fprintln(s.Env.Out, "No line came or went.")
	}
	showChange(s, v)
	return nil
}

// lossOf asks what the loss of the named keys, and of all of a holder, would do.
func lossOf(ctx context.Context, client *apiclient.Client, keys []string, holder string) (apiclient.Loss, error) {
	if len(keys) == 0 && holder == "" {
		return apiclient.Loss{}, kit.Usage("name the keys, or whose they are: -holder NAME")
	}
	params := apiclient.GetLossParams{Holder: kit.Optional(holder)}
	if len(keys) > 0 {
		params.Key = &keys
	}
	return kit.Answer[apiclient.Loss](client.GetLoss(ctx, &params))
}

func keyLoss(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	holder := f.String("holder", "", "all active keys of this `person` or team")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		loss, err := lossOf(ctx, client, args, *holder)
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(loss)
		}
		ShowLoss(s, loss)
		return nil
	}
}

// ShowLoss shows what the loss of keys would do.
func ShowLoss(s *kit.Session, loss apiclient.Loss) {
	gone := strings.Join(loss.Keys, ", ")
	if gone == "" {
		gone = "any of them, for there is none,"
	}
	if len(loss.Changes) == 0 {
		fmt.Fprintf(s.Env.Out, "Without %s no login would be less safe than it is.\n", gone)
		return
	}
	t := kit.Table{Head: []string{"LOGIN", "NOW", "WITHOUT " + gone}}
	for _, c := range loss.Changes {
		t.Add(c.Login, string(c.Before), string(c.After))
	}
	t.Write(s)
	for _, b := range kit.Given(loss.Behind) {
		more := ""
		if b.Instances > len(b.Names) {
			more = ", …"
		}
		s.Below(
			"", fmt.Sprintf(
				"Reached by way of %s, whose login would be %s: %s (%s%s)", b.JumpHost, b.After,
				text.Counted(b.Instances, "instance"), strings.Join(b.Names, ", "), more,
			), kit.AsItIs,
		)
	}
}

func keyMarkLost(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	holder := f.String("holder", "", "all active keys of this `person` or team")
	reason := f.String("reason", "", "what happened, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if *reason == "" {
			return kit.Usage("say what happened: -reason TEXT")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		loss, err := lossOf(ctx, client, args, *holder)
		if err != nil {
			return err
		}
		if len(loss.Keys) == 0 {
			return kit.Missing("no-such-key", *holder+" holds no active key", "")
		}
		if !s.Json && !s.Quiet {
			ShowLoss(s, loss)
			fmt.Fprintln(s.Env.Out)
		}
		gone := strings.Join(loss.Keys, ", ")
		if err := s.Confirm(
			*yes,
			fmt.Sprintf("This marks %s as lost: granted nowhere again, and counted nowhere as somebody's way in.", gone),
			loss.Keys[0],
		); err != nil {
			return err
		}
		var marked []apiclient.Key
		stand := 0
		for _, name := range loss.Keys {
			k, err := kit.Answer[apiclient.Key](client.MarkLost(ctx, name, apiclient.MarkLost{Reason: *reason}))
			if err != nil {
				fmt.Fprintf(s.Env.Err, "%d of %s were marked before this:\n", len(marked), text.Counted(len(loss.Keys), "key"))
				return err
			}
			marked, stand = append(marked, k), stand+k.Opens
		}
		if s.Json {
			return s.WriteJSON(marked)
		}
		if !s.Quiet {
			fmt.Fprintf(
				s.Env.Out,
				"Marked as lost: %s. Their %d lines are still in place, and open the logins to anybody who has the "+
					"keys.\nReplace them "+
					"now: plumlatch rotate start -lost -urgent\n",
				gone,
				stand,
			)
		}
		return nil
	}
}
