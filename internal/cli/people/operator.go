package people

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/cli/rotate"
	"plumlatch/internal/core/text"
)

var OperatorCommands = []kit.Command{
	{
		Name:     "set-up",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    setUp,
		Summary:  "Make the first admin of a new service",
		Detail:   "The service prints the set-up secret at each start until there is an account.",
		Examples: []string{"plumlatch set-up ines -server https://latch.wrackline.example"},
	},
	{
		Name:     "password",
		Flags:    password,
		Summary:  "Change your password; your console sessions end",
		Examples: []string{"plumlatch password"},
	},
	{
		Name:    "factor add",
		Flags:   factorAdd,
		Summary: "Add a second factor to your sign-in",
		Detail: "Put the secret into an authenticator; each sign-in then asks for its six digits. Each recovery " +
			"code lets you in once without it.",
		Examples: []string{"plumlatch factor add"},
	},
	{
		Name:     "factor remove",
		Flags:    factorRemove,
		Summary:  "Remove your second factor",
		Examples: []string{"plumlatch factor remove -code 123456"},
	},
	{
		Name:     "session list",
		Flags:    sessionList,
		Summary:  "List your console sessions, or everybody's",
		Examples: []string{"plumlatch session list", "plumlatch session list -all"},
	},
	{
		Name:     "session end",
		Args:     "[ID]",
		Max:      1,
		Flags:    sessionEnd,
		Summary:  "End a console session, or all sessions and tokens of a person",
		Examples: []string{"plumlatch session end -of oona", "plumlatch session end 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
	{
		Name:    "operator add",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   operatorAdd,
		Summary: "Create an account for a person, or a machine",
		Detail: "It asks for the password, or reads it from a file. A person with an issuer name signs in through " +
			"the OpenID Connect issuer and needs no password. A machine has tokens alone, which an admin makes; " +
			"it consents to nothing, and the daybook shows it as a machine.",
		Examples: []string{
			"plumlatch operator add runa -role operator -limit team=cameras -title \"Runa Lund, cameras\"",
			"plumlatch operator add marek -role admin -issuer-name marek@wrackline.example",
			"plumlatch operator add ci -machine -role operator",
		},
	},
	{
		Name:     "operator list",
		Flags:    operatorList,
		Summary:  "List the accounts",
		Examples: []string{"plumlatch operator list"},
	},
	{
		Name:    "operator change",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   operatorChange,
		Summary: "Change a role, a limit, a password or whether an account is open",
		Examples: []string{
			"plumlatch operator change runa -role viewer",
			"plumlatch operator change runa -no-limit",
			"plumlatch operator change tomas -close -reason \"his laptop was stolen\"",
		},
	},
	{
		Name:    "operator leave",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   operatorLeave,
		Summary: "Plan and start the departure of a person",
		Detail: "Without -to it shows what they hold, and what would be shut or thin without them. With -to their " +
			"keys are replaced by keys of the successor, or withdrawn where the login stays solid without them; kept " +
			"keys are handed over. Their account, tokens and sessions end first; what cannot be replaced yet is tried " +
			"again by itself.",
		Examples: []string{
			"plumlatch operator leave marek",
			"plumlatch operator leave marek -to ines -reason \"he goes to the lighthouse\"",
			"plumlatch operator leave marek -again",
			"plumlatch operator leave marek -off",
		},
	},
	{
		Name:     "team add",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    teamAdd,
		Summary:  "Create a team that can be a holder of keys",
		Examples: []string{"plumlatch team add cameras -title \"the camera crew\""},
	},
	{
		Name:     "team join",
		Args:     "TEAM NAME",
		Min:      2,
		Max:      2,
		Flags:    teamJoin,
		Summary:  "Add a person to a team",
		Examples: []string{"plumlatch team join cameras runa"},
	},
	{
		Name:     "team part",
		Args:     "TEAM NAME",
		Min:      2,
		Max:      2,
		Flags:    teamPart,
		Summary:  "Remove a person from a team",
		Examples: []string{"plumlatch team part cameras runa"},
	},
	{
		Name:     "team delete",
		Args:     "TEAM",
		Min:      1,
		Max:      1,
		Flags:    teamDelete,
		Summary:  "Delete a team that has no keys",
		Examples: []string{"plumlatch team delete cameras"},
	},
}

func setUp(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	secretFile := f.String("secret-file", "", "`file` with the set-up secret; asked for unless given")
	passwordFile := f.String("password-file", "", "`file` with the new password; asked for unless given")
	title := f.String("title", "", "who they are, such as \"Runa Lund, cameras\"")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Dial(serverHere(s), "")
		if err != nil {
			return err
		}
		secret, err := s.Secret("Set-up secret: ", *secretFile)
		if err != nil {
			return err
		}
		word, err := s.Secret("Password (10 characters or more): ", *passwordFile)
		if err != nil {
			return err
		}
		r, err := client.SetUp(
			ctx, apiclient.FirstAdmin{Secret: secret, Name: args[0], Password: word, Title: kit.Optional(*title)},
		)
		return keys.Settled(s, r, err, "%s is an admin now. Sign in: plumlatch sign-in %s", args[0], args[0])
	}
}

func password(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	old := f.String("password-file", "", "`file` with the current password; asked for unless given")
	next := f.String("new-password-file", "", "`file` with the new one; asked for unless given")
	factor := f.String("confirm-code", "", "a code of your second factor; asked for when needed")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		was, err := s.Secret("Current password: ", *old)
		if err != nil {
			return err
		}
		is, err := s.Secret("New password (10 characters or more): ", *next)
		if err != nil {
			return err
		}
		own := kit.Confirming{Password: was, Code: *factor}
		return own.Do(ctx, s, func(client *apiclient.Client) error {
			r, err := client.ChangePassword(ctx, apiclient.PasswordChange{Password: was, NewPassword: is})
			return keys.Settled(
				s,
				r,
				err,
				"Your password is changed and your console sessions have ended. Your tokens stay valid.",
			)
		})
	}
}

func factorAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	code := f.String("code", "", "the six digits, to confirm a secret that was shown before")
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		if *code == "" {
			factor, err := kit.Answer[apiclient.Factor](client.BeginFactor(ctx))
			if err != nil {
				return err
			}
			if s.Json || !kit.IsTerminal(s.Env.In) {
				return keys.Record(s, factor, factor.Secret, func() {
					keys.Say(s,
						"Put this secret into an authenticator:\n  %s\nor give it this address:\n  %s\nThen confirm it: plumlatch "+
							"factor add -code DIGITS",
						factor.Secret,
						factor.Url,
					)
				})
			}
			keys.Say(
				s,
				"Put this secret into an authenticator:\n  %s\nor give it this address:\n  %s", factor.Secret, factor.Url,
			)
			fmt.Fprint(s.Env.Err, "The six digits that it shows: ")
			*code = kit.ReadLine(s.Env.In)
		}
		codes, err := kit.Answer[apiclient.RecoveryCodes](client.ConfirmFactor(ctx, apiclient.FactorCode{Code: *code}))
		if err != nil {
			return err
		}
		return keys.Record(s, codes, strings.Join(codes.Codes, "\n"), func() {
			keys.Say(s,
				"The second factor is in use. These recovery codes, shown only now, let you in without it, each once:\n  %s",
				strings.Join(codes.Codes, "\n  "),
			)
		})
	})
}

func factorRemove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	code := f.String("code", "", "the six digits, or a recovery code; asked for unless given")
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		if *code == "" {
			fmt.Fprint(s.Env.Err, "Code: ")
			*code = kit.ReadLine(s.Env.In)
		}
		r, err := client.RemoveFactor(ctx, apiclient.FactorCode{Code: *code})
		return keys.Settled(s, r, err, "You have no second factor now.")
	})
}

func sessionList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	all := f.Bool("all", false, "everybody's; for admins")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		sessions, err := kit.Answer[[]apiclient.Session](client.ListSessions(ctx, &apiclient.ListSessionsParams{All: all}))
		if err != nil {
			return err
		}
		return sessionListing.Show(s, sessions, len(sessions))
	})
}

var sessionListing = kit.Listing[apiclient.Session]{
	Head: []string{"WHO", "BEGUN", "LAST USED", "VALID UNTIL", "WAY", "FROM", "ID"},
	Name: func(n apiclient.Session) string { return n.Id.String() },
	None: "There are no console sessions.",
	Cells: func(n apiclient.Session) []string {
		return []string{
			n.Person,
			kit.Moment(n.CreatedAt),
			kit.Moment(n.SeenAt),
			kit.Moment(n.ExpiresAt),
			n.Via,
			n.Address,
			n.Id.String(),
		}
	},
}

func sessionEnd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	of := f.String("of", "", "all sessions and tokens of this `person`; for others than you, admins only")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if (*of == "") == (len(args) == 0) {
			return kit.Usage("give the id of a session, or whose are to end: -of NAME")
		}
		if *of != "" {
			return endAllOf(s, ctx, client, *of)
		}
		id, err := sessionMeant(ctx, client, args[0])
		if err != nil {
			return err
		}
		r, err := client.EndSession(ctx, id)
		return keys.Settled(s, r, err, "The session is over.")
	})
}

// sessionMeant returns the session that text means: one's own, or, for admins, anybody's.
func sessionMeant(ctx context.Context, client *apiclient.Client, text string) (uuid.UUID, error) {
	var id uuid.UUID
	var err error
	for _, everybody := range []bool{false, true} {
		sessions, asked := kit.Answer[[]apiclient.Session](
			client.ListSessions(ctx, &apiclient.ListSessionsParams{All: &everybody}),
		)
		if asked != nil && everybody { // who may not see those of others is told that there is none
			return uuid.Nil, err
		}
		if asked != nil {
			return uuid.Nil, asked
		}
		things := make([]kit.Thing, len(sessions))
		for n, session := range sessions {
			things[n] = kit.Thing{
				ID: session.Id, What: fmt.Sprintf("%s from %s, %s", session.Person, session.Address, kit.Moment(session.CreatedAt)),
			}
		}
		if id, err = kit.Meant("session", text, "session list", things); err == nil {
			return id, nil
		}
	}
	return id, err
}

// endAllOf ends the sessions and the tokens of a person, the one that is used here last.
func endAllOf(s *kit.Session, ctx context.Context, client *apiclient.Client, person string) error {
	sessions, err := kit.Answer[[]apiclient.Session](
		client.ListSessions(ctx, &apiclient.ListSessionsParams{All: new(true)}),
	)
	if err != nil {
		return err
	}
	tokens, err := kit.Answer[[]apiclient.Token](client.ListTokens(ctx, &apiclient.ListTokensParams{All: new(true)}))
	if err != nil {
		return err
	}
	ended, revoked := 0, 0
	for _, n := range sessions {
		if n.Person != person {
			continue
		}
		if _, err := kit.AnswerBytes(client.EndSession(ctx, n.Id)); err != nil {
			fmt.Fprintf(s.Env.Err, "%s of %s ended before this:\n", text.Counted(ended, "session"), person)
			return err
		}
		ended++
	}
	for _, k := range tokens {
		if k.Person != person {
			continue
		}
		if _, err := kit.AnswerBytes(client.RevokeToken(ctx, k.Id.String())); err != nil {
			fmt.Fprintf(
				s.Env.Err,
				"%s of %s ended and %s revoked before this:\n", text.Counted(ended, "session"), person,
				text.Counted(revoked, "token"),
			)
			return err
		}
		revoked++
	}
	keys.Say(s, "%s of %s ended, %s revoked.", text.Counted(ended, "session"), person, text.Counted(revoked, "token"))
	return nil
}

func operatorAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	role := f.String("role", "operator", "viewer, operator or admin")
	title := f.String("title", "", "who they are, such as \"Runa Lund, cameras\"")
	passwordFile := f.String("password-file", "", "`file` with the password; asked for unless given")
	issuer := f.String(
		"issuer-name", "", "what the OpenID Connect issuer calls them: a verified e-mail address, or the subject",
	)
	machine := f.Bool("machine", false, "it is for a machine: with no password, by tokens alone")
	limits := kit.Labels{}
	f.Var(limits, "limit", "limit them to instances with this label, `name=value`; can be given several times")
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		request := apiclient.NewOperator{
			Name:       args[0],
			Role:       apiclient.Role(*role),
			Title:      kit.Optional(*title),
			IssuerName: kit.Optional(*issuer),
			Limits:     labelsOf(limits),
		}
		if *machine {
			request.Machine = machine
		}
		if *issuer == "" && !*machine || *passwordFile != "" {
			word, err := s.Secret("Password for "+args[0]+" (10 characters or more): ", *passwordFile)
			if err != nil {
				return err
			}
			request.Password = &word
		}
		o, err := kit.Answer[apiclient.Operator](
			client.AddOperator(ctx, &apiclient.AddOperatorParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		return keys.Record(s, o, o.Name, func() {
			keys.Say(s, "%s has an account with the role %s%s.", o.Name, o.Role, limitText(o.Limits))
		})
	})
}

// roleOf is the role of an account, and whether that is a machine's.
func roleOf(o apiclient.Operator) string {
	if kit.Given(o.Machine) {
		return string(o.Role) + ", machine"
	}
	return string(o.Role)
}

func labelsOf(l kit.Labels) *map[string]string {
	if len(l) == 0 {
		return nil
	}
	return new(map[string]string(l))
}

func limitText(limits map[string]string) string {
	if len(limits) == 0 {
		return ""
	}
	return ", for instances with " + kit.LabelText(limits)
}

func operatorList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Operator](client.ListOperators(ctx))
		if err != nil {
			return err
		}
		return operatorListing.Show(s, all, len(all))
	})
}

var operatorListing = kit.Listing[apiclient.Operator]{
	Head: []string{"NAME", "WHO", "ROLE", "LIMIT", "TEAMS", "SECOND FACTOR", "LAST SEEN", "STATE"},
	Name: func(o apiclient.Operator) string { return o.Name },
	None: "There is no account.",
	Cells: func(o apiclient.Operator) []string {
		state, factor, seen := "open", "no", "never"
		switch {
		case o.Leaving:
			state = "leaving"
		case o.Closed:
			state = "closed"
		}
		if o.Factor {
			factor = "yes"
		}
		if o.LastSeenAt != nil {
			seen = kit.Moment(*o.LastSeenAt)
		}
		return []string{
			o.Name,
			o.Title,
			roleOf(o),
			kit.LabelText(o.Limits),
			strings.Join(o.Teams, " "),
			factor,
			seen,
			state,
		}
	},
}

func operatorChange(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	role := f.String("role", "", "viewer, operator or admin")
	limits := kit.Labels{}
	f.Var(
		limits, "limit",
		"limit them to instances with this label, `name=value`, in place of the current limits; can be given several times",
	)
	free := f.Bool("no-limit", false, "remove all limits")
	newPassword := f.Bool("new-password", false, "ask for a new password")
	passwordFile := f.String("password-file", "", "`file` with a new password")
	issuer := f.String("issuer-name", "", "what the OpenID Connect issuer calls them")
	noFactor := f.Bool("forget-factor", false, "remove the second factor of a person who lost it")
	closed := f.Bool("close", false, "close the account at once, with its sessions and tokens")
	open := f.Bool("open", false, "open a closed account again")
	reason := f.String("reason", "", "why, for the daybook")
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c := apiclient.OperatorChange{
			Limits:     labelsOf(limits),
			IssuerName: kit.Optional(*issuer),
			Reason:     kit.Optional(*reason),
		}
		if *role != "" {
			c.Role = new(apiclient.Role(*role))
		}
		if *free {
			c.Limits = &map[string]string{}
		}
		if *newPassword || *passwordFile != "" {
			word, err := s.Secret("New password for "+args[0]+": ", *passwordFile)
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
		o, err := kit.Answer[apiclient.Operator](client.ChangeOperator(ctx, args[0], nil, c))
		if err != nil {
			return err
		}
		return keys.Record(s, o, o.Name, func() {
			state := "open"
			if o.Closed {
				state = "closed"
			}
			keys.Say(s, "%s: role %s%s; the account is %s.", o.Name, o.Role, limitText(o.Limits), state)
		})
	})
}

func operatorLeave(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	to := f.String("to", "", "the `successor`; starts the departure")
	reason := f.String("reason", "", "why, for the daybook")
	again := f.Bool("again", false, "resume a departure that left something to do")
	off := f.Bool("off", false, "cancel it, and open the account again; keys that were replaced stay replaced")
	yes := f.Bool("yes", false, "do not ask")
	wait := f.Bool("wait", false, "watch it to its end")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		l, err := kit.Answer[apiclient.Leaving](client.GetLeaving(ctx, args[0]))
		if err != nil {
			return err
		}
		switch {
		case *off:
			l, err = kit.Answer[apiclient.Leaving](client.CallOffLeaving(ctx, args[0]))
		case *to != "" || *again:
			showLeaving(s, l)
			if err := s.Confirm(
				*yes, fmt.Sprintf("This closes the account of %s now and removes their keys from all logins.", args[0]), args[0],
			); err != nil {
				return err
			}
			l, err = kit.Answer[apiclient.Leaving](client.BeginLeaving(
				ctx, args[0], apiclient.BeginLeaving{To: kit.Optional(*to), Reason: kit.Optional(*reason), Again: again},
			))
		}
		if err != nil {
			return err
		}
		if *wait && l.BegunAt != nil && !l.Closed {
			if l, err = watchLeaving(s, ctx, client, l); err != nil {
				return err
			}
		}
		if err := keys.Record(s, l, l.Person, func() { showLeaving(s, l) }); err != nil {
			return err
		}
		if !l.Closed && len(l.Items) > 0 {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	})
}

// watchLeaving tells how far the replacing is, until the account is closed or it waits for somebody.
func watchLeaving(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Leaving,
) (apiclient.Leaving, error) {
	watched := false
	for !l.Closed && l.Note == nil {
		if l.Rotation != nil && !watched {
			r, err := kit.Answer[apiclient.Rotation](client.GetRotation(ctx, *l.Rotation))
			if err != nil {
				return l, err
			}
			if err := rotate.WatchRotation(s, ctx, client, r, r.Id.String(), nil); err != nil {
				return l, err
			}
			watched = true
			if r, err = kit.Answer[apiclient.Rotation](client.GetRotation(ctx, *l.Rotation)); err != nil || r.EndedAt == nil {
				return l, err // it rests for longer than one would watch
			}
		}
		select {
		case <-ctx.Done():
			return l, ctx.Err()
		case <-time.After(time.Second):
		}
		next, err := kit.Answer[apiclient.Leaving](client.GetLeaving(ctx, l.Person))
		if err != nil {
			return l, err
		}
		l = next
	}
	return l, nil
}

func showLeaving(s *kit.Session, l apiclient.Leaving) {
	if s.Json || s.Quiet {
		return
	}
	switch {
	case l.Closed:
		keys.Say(s, "%s has left: none of their keys is in place, and the account is closed.", l.Person)
		return
	case l.BegunAt != nil:
		keys.Say(s,
			"%s is leaving; %s began it on %s, and %s follows.",
			l.Person,
			kit.Given(l.BegunBy),
			kit.Moment(*l.BegunAt),
			kit.Given(l.To),
		)
		if l.AccountClosed {
			keys.Say(s, "Their account is closed. Left to do: %s.", text.Counted(len(l.Items), "key line"))
		}
	case len(l.Items) == 0:
		keys.Say(s, "%s has no keys.", l.Person)
	default:
		keys.Say(s,
			"Without %s, %s would be shut and %s thin.",
			l.Person,
			text.Counted(len(l.Shut), "login"),
			fmt.Sprint(len(l.Thin)),
		)
	}
	t := kit.Table{Head: []string{"KEY", "LOGIN", "REACH NOW", "WITHOUT", "TO DO"}}
	for _, i := range l.Items {
		t.Add(i.Key, kit.Given(i.Login), string(kit.Given(i.Before)), string(kit.Given(i.After)), leavingWords[i.What])
	}
	if len(l.Items) > 0 {
		t.Write(s)
	}
	if len(l.TeamKeys) > 0 {
		keys.Say(s,
			"They may also have the keys of their teams: %s. Rotate those: plumlatch rotate plan -key NAME",
			strings.Join(l.TeamKeys, ", "),
		)
	}
	switch {
	case l.Note != nil:
		keys.Say(s, "It waits: %s", *l.Note)
	case l.Rotation != nil:
		keys.Say(s, "Watch it: plumlatch rotate watch %s", l.Rotation)
	case l.BegunAt == nil:
		keys.Say(s, "Begin it, and watch it to its end: plumlatch operator leave %s -to HOLDER -wait", l.Person)
	}
}

var leavingWords = map[apiclient.LeavingItemWhat]string{
	apiclient.LeavingItemWhatReplace:  "replace it with a key of the successor",
	apiclient.LeavingItemWhatWithdraw: "withdraw it; others keep the login solid, or it is missing",
	apiclient.LeavingItemWhatHandOver: "hand it over; its private key has never left the safe",
	apiclient.LeavingItemWhatRetire:   "retire it; it opens nothing",
}

func teamAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	title := f.String("title", "", "what the team is, such as \"the camera crew\"")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.AddTeam(
			ctx, &apiclient.AddTeamParams{IdempotencyKey: kit.NewRequestKey()},
			apiclient.NewTeam{Name: args[0], Title: kit.Optional(*title)},
		)
		return keys.Settled(s, r, err, "The team %s is there. Put somebody in: plumlatch team join %s NAME", args[0], args[0])
	})
}

func teamJoin(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.JoinTeam(ctx, args[0], args[1])
		return keys.Settled(s, r, err, "%s is in the team %s.", args[1], args[0])
	})
}

func teamPart(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.PartTeam(ctx, args[0], args[1])
		return keys.Settled(s,
			r,
			err,
			"%s is not in the team %s. They may still have its keys: plumlatch rotate plan -holder %s",
			args[1],
			args[0],
			args[0],
		)
	})
}

func teamDelete(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.DeleteTeam(ctx, args[0])
		return keys.Settled(s, r, err, "The team %s is gone.", args[0])
	})
}
