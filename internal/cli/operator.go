package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

var operatorCommands = []command{
	{
		name:    "set-up",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   setUp,
		summary: "Make the first admin of a new service",
		detail: "The set-up secret is printed where the service was started, anew at each start until there is\nan " +
			"account.",
		examples: []string{"plumlatch set-up ines -server https://latch.wrackline.example"},
	},
	{
		name:     "password",
		flags:    password,
		summary:  "Change your password; your console sessions end",
		examples: []string{"plumlatch password"},
	},
	{
		name:    "factor add",
		flags:   factorAdd,
		summary: "Sign in with a second factor from now on",
		detail: "The secret goes into an authenticator, whose six digits are asked for at each sign-in. The\nrecovery " +
			"codes let you in without it, each once.",
		examples: []string{"plumlatch factor add"},
	},
	{
		name:     "factor remove",
		flags:    factorRemove,
		summary:  "Give your second factor up, by a code of it",
		examples: []string{"plumlatch factor remove -code 123456"},
	},
	{
		name:     "session list",
		flags:    sessionList,
		summary:  "List your console sessions, or everybody's",
		examples: []string{"plumlatch session list", "plumlatch session list -all"},
	},
	{
		name:     "session end",
		args:     "[ID]",
		max:      1,
		flags:    sessionEnd,
		summary:  "End a console session at once, or all of somebody with their tokens",
		examples: []string{"plumlatch session end -of oona", "plumlatch session end 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
	{
		name:    "operator add",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   operatorAdd,
		summary: "Give somebody an account",
		detail: "The password is asked for, or read from a file. Somebody with an issuer name signs in through\nthe " +
			"OpenID Connect issuer, and needs none.",
		examples: []string{
			"plumlatch operator add runa -role operator -limit team=cameras -title \"Runa Lund, cameras\"",
			"plumlatch operator add marek -role admin -issuer-name marek@wrackline.example",
		},
	},
	{
		name:     "operator list",
		flags:    operatorList,
		summary:  "List the accounts",
		examples: []string{"plumlatch operator list"},
	},
	{
		name:    "operator change",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   operatorChange,
		summary: "Change a role, a limit, a password or whether an account is open",
		examples: []string{
			"plumlatch operator change runa -role viewer",
			"plumlatch operator change runa -no-limit",
			"plumlatch operator change tomas -close -reason \"his laptop was stolen\"",
		},
	},
	{
		name:    "operator leave",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   operatorLeave,
		summary: "See what somebody's leaving takes, and begin it",
		detail: "Without -to it shows what they hold, and what would be shut or thin without them. With it their\nkeys " +
			"are replaced by keys of the one who follows, or withdrawn where others keep the\nlogin solid; kept ones are " +
			"handed over. The account is closed last.",
		examples: []string{
			"plumlatch operator leave marek",
			"plumlatch operator leave marek -to ines -reason \"he goes to the lighthouse\"",
			"plumlatch operator leave marek -again",
			"plumlatch operator leave marek -off",
		},
	},
	{
		name:     "team add",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    teamAdd,
		summary:  "Make a team, that can keep keys",
		examples: []string{"plumlatch team add cameras -title \"the camera crew\""},
	},
	{
		name:     "team join",
		args:     "TEAM NAME",
		min:      2,
		max:      2,
		flags:    teamJoin,
		summary:  "Put somebody into a team",
		examples: []string{"plumlatch team join cameras runa"},
	},
	{
		name:     "team part",
		args:     "TEAM NAME",
		min:      2,
		max:      2,
		flags:    teamPart,
		summary:  "Take somebody out of a team",
		examples: []string{"plumlatch team part cameras runa"},
	},
	{
		name:     "team delete",
		args:     "TEAM",
		min:      1,
		max:      1,
		flags:    teamDelete,
		summary:  "End a team that holds no key",
		examples: []string{"plumlatch team delete cameras"},
	},
}

func setUp(f *flag.FlagSet) func(context.Context, *session, []string) error {
	secretFile := f.String("secret-file", "", "`file` that holds the set-up secret; asked for unless given")
	passwordFile := f.String("password-file", "", "`file` that holds the new password; asked for unless given")
	title := f.String("title", "", "who that is, in words")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.dial(s.serverHere(), "")
		if err != nil {
			return err
		}
		secret, err := s.secret("Set-up secret: ", *secretFile)
		if err != nil {
			return err
		}
		word, err := s.secret("Password (10 characters or more): ", *passwordFile)
		if err != nil {
			return err
		}
		r, err := client.SetUp(
			ctx,
			apiclient.FirstAdmin{Secret: secret, Name: args[0], Password: word, Title: optional(*title)},
		)
		return s.settled(r, err, "%s is an admin now. Sign in: plumlatch sign-in %s", args[0], args[0])
	}
}

func password(f *flag.FlagSet) func(context.Context, *session, []string) error {
	old := f.String("password-file", "", "`file` that holds the password of now; asked for unless given")
	next := f.String("new-password-file", "", "`file` that holds the new one; asked for unless given")
	factor := f.String("confirm-code", "", "a code of your second factor; asked for where it is needed")
	return func(ctx context.Context, s *session, _ []string) error {
		was, err := s.secret("Password of now: ", *old)
		if err != nil {
			return err
		}
		is, err := s.secret("New password (10 characters or more): ", *next)
		if err != nil {
			return err
		}
		own := confirming{password: was, code: *factor}
		return own.do(ctx, s, func(client *apiclient.Client) error {
			r, err := client.ChangePassword(ctx, apiclient.PasswordChange{Password: was, NewPassword: is})
			return s.settled(r, err, "Your password is changed, and your console sessions are over. Tokens hold on.")
		})
	}
}

func factorAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	code := f.String("code", "", "the six digits, to confirm a secret that was shown before")
	return withConfirmed(f, func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		if *code == "" {
			factor, err := answer[apiclient.Factor](client.BeginFactor(ctx))
			if err != nil {
				return err
			}
			if s.json || !isTerminal(s.env.In) {
				return s.record(factor, factor.Secret, func() {
					s.say(
						"Put this secret into an authenticator:\n  %s\nor give it this address:\n  %s\nThen confirm it: plumlatch "+
							"factor add -code DIGITS",
						factor.Secret,
						factor.Url,
					)
				})
			}
			s.say("Put this secret into an authenticator:\n  %s\nor give it this address:\n  %s", factor.Secret, factor.Url)
			fmt.Fprint(s.env.Err, "The six digits that it shows: ")
			*code = readLine(s.env.In)
		}
		codes, err := answer[apiclient.RecoveryCodes](client.ConfirmFactor(ctx, apiclient.FactorCode{Code: *code}))
		if err != nil {
			return err
		}
		return s.record(codes, strings.Join(codes.Codes, "\n"), func() {
			s.say(
				"The second factor is in use. These recovery codes, shown only now, let you in without it, each once:\n  %s",
				strings.Join(codes.Codes, "\n  "),
			)
		})
	})
}

func factorRemove(f *flag.FlagSet) func(context.Context, *session, []string) error {
	code := f.String("code", "", "the six digits, or a recovery code; asked for unless given")
	return withConfirmed(f, func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		if *code == "" {
			fmt.Fprint(s.env.Err, "Code: ")
			*code = readLine(s.env.In)
		}
		r, err := client.RemoveFactor(ctx, apiclient.FactorCode{Code: *code})
		return s.settled(r, err, "You have no second factor any more.")
	})
}

func sessionList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	all := f.Bool("all", false, "those of everybody; for admins")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		sessions, err := answer[[]apiclient.Session](client.ListSessions(ctx, &apiclient.ListSessionsParams{All: all}))
		if err != nil {
			return err
		}
		return sessionListing.show(s, sessions, len(sessions))
	})
}

var sessionListing = listing[apiclient.Session]{
	head: []string{"WHO", "BEGUN", "LAST USED", "HOLDS UNTIL", "WAY", "FROM", "ID"},
	name: func(n apiclient.Session) string { return n.Id.String() },
	none: "No console session holds.",
	cells: func(n apiclient.Session) []string {
		return []string{n.Person, moment(n.CreatedAt), moment(n.SeenAt), moment(n.ExpiresAt), n.Via, n.Address, n.Id.String()}
	},
}

func sessionEnd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	of := f.String("of", "", "all sessions and tokens of this `person`; for admins, where it is not you")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		if (*of == "") == (len(args) == 0) {
			return &usageError{"give the id of a session, or whose are to end: -of NAME"}
		}
		if *of != "" {
			return s.endAllOf(ctx, client, *of)
		}
		id, err := uuid.Parse(args[0])
		if err != nil {
			return &usageError{fmt.Sprintf("%q is no id of a session\nSee: plumlatch session list", args[0])}
		}
		r, err := client.EndSession(ctx, id)
		return s.settled(r, err, "The session is over.")
	})
}

// endAllOf ends the sessions and the tokens of a person, the one that is used here last.
func (s *session) endAllOf(ctx context.Context, client *apiclient.Client, person string) error {
	sessions, err := answer[[]apiclient.Session](client.ListSessions(ctx, &apiclient.ListSessionsParams{All: new(true)}))
	if err != nil {
		return err
	}
	tokens, err := answer[[]apiclient.Token](client.ListTokens(ctx, &apiclient.ListTokensParams{All: new(true)}))
	if err != nil {
		return err
	}
	ended, revoked := 0, 0
	for _, n := range sessions {
		if n.Person != person {
			continue
		}
		if _, err := answerBytes(client.EndSession(ctx, n.Id)); err != nil {
			fmt.Fprintf(s.env.Err, "%s of %s ended before this:\n", text.Counted(ended, "session"), person)
			return err
		}
		ended++
	}
	for _, k := range tokens {
		if k.Person != person {
			continue
		}
		if _, err := answerBytes(client.RevokeToken(ctx, k.Id.String())); err != nil {
			fmt.Fprintf(
				s.env.Err,
				"%s of %s ended and %s revoked before this:\n",
				text.Counted(ended, "session"),
				person,
				text.Counted(revoked, "token"),
			)
			return err
		}
		revoked++
	}
	s.say("%s of %s ended, %s revoked.", text.Counted(ended, "session"), person, text.Counted(revoked, "token"))
	return nil
}

func operatorAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	role := f.String("role", "operator", "viewer, operator or admin")
	title := f.String("title", "", "who that is, in words")
	passwordFile := f.String("password-file", "", "`file` that holds the password; asked for unless given")
	issuer := f.String(
		"issuer-name",
		"",
		"what the OpenID Connect issuer calls them: a verified e-mail address, or the subject",
	)
	limits := labels{}
	f.Var(limits, "limit", "`name=value` of the instances that they see and touch; may be given several times")
	return withConfirmed(f, func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		request := apiclient.NewOperator{
			Name:       args[0],
			Role:       apiclient.Role(*role),
			Title:      optional(*title),
			IssuerName: optional(*issuer),
			Limits:     labelsOf(limits),
		}
		if *issuer == "" || *passwordFile != "" {
			word, err := s.secret("Password for "+args[0]+" (10 characters or more): ", *passwordFile)
			if err != nil {
				return err
			}
			request.Password = &word
		}
		o, err := answer[apiclient.Operator](
			client.AddOperator(ctx, &apiclient.AddOperatorParams{IdempotencyKey: newRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		return s.record(o, o.Name, func() {
			s.say("%s has an account with the role %s%s.", o.Name, o.Role, limitText(o.Limits))
		})
	})
}

func labelsOf(l labels) *map[string]string {
	if len(l) == 0 {
		return nil
	}
	return new(map[string]string(l))
}

func limitText(limits map[string]string) string {
	if len(limits) == 0 {
		return ""
	}
	return ", for instances with " + labelText(limits)
}

func operatorList(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		all, err := answer[[]apiclient.Operator](client.ListOperators(ctx))
		if err != nil {
			return err
		}
		return operatorListing.show(s, all, len(all))
	})
}

var operatorListing = listing[apiclient.Operator]{
	head: []string{"NAME", "WHO", "ROLE", "LIMIT", "TEAMS", "SECOND FACTOR", "LAST SEEN", "STATE"},
	name: func(o apiclient.Operator) string { return o.Name },
	none: "There is no account.",
	cells: func(o apiclient.Operator) []string {
		state, factor, seen := "open", "no", "never"
		switch {
		case o.Closed:
			state = "closed"
		case o.Leaving:
			state = "leaving"
		}
		if o.Factor {
			factor = "yes"
		}
		if o.LastSeenAt != nil {
			seen = moment(*o.LastSeenAt)
		}
		return []string{o.Name, o.Title, string(o.Role), labelText(o.Limits), strings.Join(o.Teams, " "), factor, seen, state}
	},
}

func operatorChange(f *flag.FlagSet) func(context.Context, *session, []string) error {
	role := f.String("role", "", "viewer, operator or admin")
	limits := labels{}
	f.Var(
		limits,
		"limit",
		"`name=value` of the instances that they see and touch, in place of those of now; may be given several times",
	)
	free := f.Bool("no-limit", false, "let them see and touch all instances")
	newPassword := f.Bool("new-password", false, "ask for a new password")
	passwordFile := f.String("password-file", "", "`file` that holds a new password")
	issuer := f.String("issuer-name", "", "what the OpenID Connect issuer calls them")
	noFactor := f.Bool("forget-factor", false, "take the second factor away from somebody who lost it")
	closed := f.Bool("close", false, "close the account at once, with its sessions and tokens")
	open := f.Bool("open", false, "open a closed account again")
	reason := f.String("reason", "", "why, for the daybook")
	return withConfirmed(f, func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		c := apiclient.OperatorChange{Limits: labelsOf(limits), IssuerName: optional(*issuer), Reason: optional(*reason)}
		if *role != "" {
			c.Role = new(apiclient.Role(*role))
		}
		if *free {
			c.Limits = &map[string]string{}
		}
		if *newPassword || *passwordFile != "" {
			word, err := s.secret("New password for "+args[0]+": ", *passwordFile)
			if err != nil {
				return err
			}
			c.Password = &word
		}
		if *noFactor {
			c.ForgetFactor = noFactor
		}
		if *closed != *open {
			c.Closed = closed
		}
		o, err := answer[apiclient.Operator](client.ChangeOperator(ctx, args[0], nil, c))
		if err != nil {
			return err
		}
		return s.record(o, o.Name, func() {
			state := "open"
			if o.Closed {
				state = "closed"
			}
			s.say("%s: role %s%s; the account is %s.", o.Name, o.Role, limitText(o.Limits), state)
		})
	})
}

func operatorLeave(f *flag.FlagSet) func(context.Context, *session, []string) error {
	to := f.String("to", "", "the `keeper` who follows; begins it")
	reason := f.String("reason", "", "why, for the daybook")
	again := f.Bool("again", false, "take up one that has left something")
	off := f.Bool("off", false, "call it off; what was replaced stays so")
	yes := f.Bool("yes", false, "do not ask")
	wait := f.Bool("wait", false, "watch it to its end")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		l, err := answer[apiclient.Leaving](client.GetLeaving(ctx, args[0]))
		if err != nil {
			return err
		}
		switch {
		case *off:
			l, err = answer[apiclient.Leaving](client.CallOffLeaving(ctx, args[0]))
		case *to != "" || *again:
			s.showLeaving(l)
			if err := s.confirm(
				*yes,
				fmt.Sprintf("This takes the keys of %s out of all logins and closes the account.", args[0]),
				args[0],
			); err != nil {
				return err
			}
			l, err = answer[apiclient.Leaving](
				client.BeginLeaving(
					ctx,
					args[0],
					apiclient.BeginLeaving{To: optional(*to), Reason: optional(*reason), Again: again},
				),
			)
		}
		if err != nil {
			return err
		}
		if *wait && l.BegunAt != nil && !l.Closed {
			if l, err = s.watchLeaving(ctx, client, l); err != nil {
				return err
			}
		}
		if err := s.record(l, l.Person, func() { s.showLeaving(l) }); err != nil {
			return err
		}
		if !l.Closed && len(l.Items) > 0 {
			return &quietError{exitNotAsItShould}
		}
		return nil
	})
}

// watchLeaving tells how far the replacing is, until the account is closed or it waits for somebody.
func (s *session) watchLeaving(
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Leaving,
) (apiclient.Leaving, error) {
	watched := false
	for !l.Closed && l.Note == nil {
		if l.Rotation != nil && !watched {
			r, err := answer[apiclient.Rotation](client.GetRotation(ctx, *l.Rotation))
			if err != nil {
				return l, err
			}
			if err := s.watchRotation(ctx, client, r, nil); err != nil {
				return l, err
			}
			watched = true
			if r, err = answer[apiclient.Rotation](client.GetRotation(ctx, *l.Rotation)); err != nil || r.EndedAt == nil {
				return l, err // it rests for longer than one would watch
			}
		}
		select {
		case <-ctx.Done():
			return l, ctx.Err()
		case <-time.After(time.Second):
		}
		next, err := answer[apiclient.Leaving](client.GetLeaving(ctx, l.Person))
		if err != nil {
			return l, err
		}
		l = next
	}
	return l, nil
}

func (s *session) showLeaving(l apiclient.Leaving) {
	if s.json || s.quiet {
		return
	}
	switch {
	case l.Closed:
		s.say("%s has left: none of their keys is in place, and the account is closed.", l.Person)
		return
	case l.BegunAt != nil:
		s.say(
			"%s is leaving; %s began it on %s, and %s follows.",
			l.Person,
			given(l.BegunBy),
			moment(*l.BegunAt),
			given(l.To),
		)
	case len(l.Items) == 0:
		s.say("%s holds no key.", l.Person)
	default:
		s.say(
			"Without %s, %s would be shut and %s thin.",
			l.Person,
			text.Counted(len(l.Shut), "login"),
			fmt.Sprint(len(l.Thin)),
		)
	}
	t := table{head: []string{"KEY", "LOGIN", "REACH NOW", "WITHOUT", "TO DO"}}
	for _, i := range l.Items {
		t.add(i.Key, given(i.Login), string(given(i.Before)), string(given(i.After)), leavingWords[i.What])
	}
	if len(l.Items) > 0 {
		t.write(s)
	}
	if len(l.TeamKeys) > 0 {
		s.say(
			"They may also have the keys of their teams: %s. Rotate those: plumlatch rotate plan -key NAME",
			strings.Join(l.TeamKeys, ", "),
		)
	}
	switch {
	case l.Note != nil:
		s.say("It waits: %s", *l.Note)
	case l.Rotation != nil:
		s.say("Watch it: plumlatch rotate watch %s", l.Rotation)
	case l.BegunAt == nil:
		s.say("Begin it, and watch it to its end: plumlatch operator leave %s -to KEEPER -wait", l.Person)
	}
}

var leavingWords = map[apiclient.LeavingItemWhat]string{
	apiclient.LeavingItemWhatReplace:  "replace it by a key of whoever follows",
	apiclient.LeavingItemWhatWithdraw: "withdraw it; others keep the login solid, or it is missing",
	apiclient.LeavingItemWhatHandOver: "hand it over; its private half has never left the safe",
	apiclient.LeavingItemWhatRetire:   "retire it; it opens nothing",
}

func teamAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	title := f.String("title", "", "what the team is, in words")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		r, err := client.AddTeam(
			ctx,
			&apiclient.AddTeamParams{IdempotencyKey: newRequestKey()},
			apiclient.NewTeam{Name: args[0], Title: optional(*title)},
		)
		return s.settled(r, err, "The team %s is there. Put somebody in: plumlatch team join %s NAME", args[0], args[0])
	})
}

func teamJoin(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		r, err := client.JoinTeam(ctx, args[0], args[1])
		return s.settled(r, err, "%s is in the team %s.", args[1], args[0])
	})
}

func teamPart(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		r, err := client.PartTeam(ctx, args[0], args[1])
		return s.settled(
			r,
			err,
			"%s is not in the team %s. They may still have its keys: plumlatch rotate plan -keeper %s",
			args[1],
			args[0],
			args[0],
		)
	})
}

func teamDelete(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		r, err := client.DeleteTeam(ctx, args[0])
		return s.settled(r, err, "The team %s is gone.", args[0])
	})
}
