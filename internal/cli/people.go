package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/name"
)

var peopleCommands = []command{
	{
		name: "sign-in", args: "[NAME]", max: 1, flags: signIn, summary: "Sign in and keep a token on this machine",
		detail: "The token is kept in ~/.config/plumlatch/sign-in.json with mode 0600; the password is not kept.",
		examples: []string{
			"plumlatch sign-in ines -server https://latch.wrackline.example",
			"plumlatch sign-in marek -password-file ./secret",
		},
	},
	{
		name:     "sign-out",
		flags:    signOut,
		summary:  "Revoke the kept token and forget it",
		examples: []string{"plumlatch sign-out"},
	},
	{name: "whoami", flags: whoami, summary: "Show who you are to the service", examples: []string{"plumlatch whoami"}},
	{
		name:     "keeper list",
		flags:    keeperList,
		summary:  "List the persons and teams that hold keys",
		examples: []string{"plumlatch keeper list"},
	},
	{
		name:    "token new",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   tokenNew,
		summary: "Make a token for a program; its secret is shown once",
		examples: []string{
			"plumlatch token new nightly-report -role viewer -days 30",
			"plumlatch token new sweeper -only sweep -limit team=cameras",
		},
	},
	{
		name:     "token list",
		flags:    tokenList,
		summary:  "List your tokens, or everybody's",
		examples: []string{"plumlatch token list", "plumlatch token list -all"},
	},
	{
		name:     "token revoke",
		args:     "ID",
		min:      1,
		max:      1,
		flags:    tokenRevoke,
		summary:  "End a token at once",
		examples: []string{"plumlatch token revoke 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
}

func signIn(f *flag.FlagSet) func(context.Context, *session, []string) error {
	passwordFile := f.String("password-file", "", "`file` that holds the password; asked for unless given")
	factor := f.String("code", "", "of your second factor, or a recovery code; asked for where it is needed")
	days := f.Int("days", 30, "how long the token holds")
	return func(ctx context.Context, s *session, args []string) error {
		server := s.serverHere()
		who := localName()
		if len(args) == 1 {
			who = args[0]
		} else if isTerminal(s.env.In) {
			fmt.Fprintf(s.env.Err, "Name [%s]: ", who)
			if typed := readLine(s.env.In); typed != "" {
				who = typed
			}
		}
		password, err := s.password(*passwordFile)
		if err != nil {
			return err
		}
		plain, err := s.dial(server, "")
		if err != nil {
			return err
		}
		me, cookies, err := signInOnce(ctx, plain, who, password, *factor)
		if code(err) == "code-needed" && *factor == "" && isTerminal(s.env.In) {
			fmt.Fprint(s.env.Err, "Code of your second factor: ")
			me, cookies, err = signInOnce(ctx, plain, who, password, readLine(s.env.In))
		}
		if err != nil {
			return err
		}
		withCookie := withCookies(cookies)
		host, err := os.Hostname()
		if err != nil || host == "" {
			host = "machine"
		}
		tokenName := name.Suggest("sign-in-" + host)
		made, err := answer[apiclient.NewToken](
			plain.AddToken(
				ctx,
				&apiclient.AddTokenParams{IdempotencyKey: newRequestKey()},
				apiclient.AddToken{Name: tokenName, Days: days},
				withCookie,
			),
		)
		if err != nil {
			return err
		}
		if _, err := answerBytes(plain.SignOut(ctx, withCookie)); err != nil {
			return err
		}
		file, err := s.keep(kept{Server: server, Name: me.Name, Token: made.Secret, ID: made.Token.Id.String()})
		if err != nil {
			return err
		}
		fmt.Fprintf(
			s.env.Out,
			"Signed in to %s as %s (%s). The token is in %s and holds until %s.\n",
			server,
			me.Name,
			me.Role,
			file,
			day(*made.Token.ExpiresAt),
		)
		return nil
	}
}

// serverHere is the service's address, also for who is not signed in.
func (s *session) serverHere() string {
	return cmp.Or(s.server, s.env.Getenv("PLUMLATCH_URL"), defaultServer)
}

func (s *session) password(file string) (string, error) { return s.secret("Password: ", file) }

// keep writes the sign-in file whole or not at all.
func (s *session) keep(k kept) (string, error) {
	file, err := s.keptFile()
	if err != nil {
		return "", err
	}
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return "", err
	}
	return file, writeWhole(file, string(data)+"\n")
}

func signOut(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, _ []string) error {
		k, err := s.readKept()
		if err != nil {
			return err
		}
		if k.Token == "" {
			fmt.Fprintln(s.env.Out, "There is no kept sign-in.")
			return nil
		}
		client, err := s.dial(k.Server, k.Token)
		if err != nil {
			return err
		}
		_, err = answerBytes(client.RevokeToken(ctx, k.ID))
		if err != nil && !gone(err) {
			return fmt.Errorf("the token could not be revoked, so it is kept: %w", err)
		}
		file, err := s.keptFile()
		if err != nil {
			return err
		}
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		fmt.Fprintf(s.env.Out, "Signed out of %s; the token is revoked.\n", k.Server)
		return nil
	}
}

func whoami(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		me, err := answer[apiclient.Me](client.GetMe(ctx))
		if err != nil {
			return err
		}
		switch {
		case s.json:
			return s.writeJSON(me)
		case s.quiet:
			fmt.Fprintln(s.env.Out, me.Name)
		default:
			only := ""
			if me.Only != nil {
				only = *me.Only + " alone"
			}
			s.facts(
				"Name",
				me.Name,
				"Role",
				string(me.Role),
				"Limited to",
				labelText(me.Limits),
				"For",
				only,
				"Second factor",
				map[bool]string{true: "yes", false: "no"}[me.Factor],
				"By",
				string(me.By),
				"Service",
				me.Service,
				"Cloud",
				me.Cloud,
			)
		}
		return nil
	}
}

func keeperList(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		keepers, err := answer[[]apiclient.Keeper](client.ListKeepers(ctx))
		if err != nil {
			return err
		}
		return keeperListing.show(s, keepers, len(keepers))
	}
}

var keeperListing = listing[apiclient.Keeper]{
	head: []string{"NAME", "KIND", "WHO", "MEMBERS", "STATE"},
	name: func(k apiclient.Keeper) string { return k.Name },
	none: "There is no keeper yet.",
	cells: func(k apiclient.Keeper) []string {
		state := ""
		if given(k.Left) {
			state = "has left"
		}
		return []string{k.Name, string(k.Kind), k.Title, strings.Join(given(k.Members), " "), state}
	},
}

func tokenNew(f *flag.FlagSet) func(context.Context, *session, []string) error {
	role := f.String("role", "", "viewer, operator or admin; yours unless given")
	days := f.Int("days", 90, "how long it holds, at most 366")
	only := f.String("only", "", "sweep or read: for a machine that may do nothing else")
	limits := labels{}
	f.Var(limits, "limit", "`name=value` of the instances that it sees; may be given several times")
	return withConfirmed(f, func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		request := apiclient.AddToken{Name: args[0], Days: days}
		request.Limits = labelsOf(limits)
		if *only != "" {
			request.Only = new(apiclient.AddTokenOnly(*only))
		}
		if *role != "" {
			request.Role = new(apiclient.Role(*role))
		}
		made, err := answer[apiclient.NewToken](
			client.AddToken(ctx, &apiclient.AddTokenParams{IdempotencyKey: newRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(made)
		}
		if s.quiet {
			fmt.Fprintln(s.env.Out, made.Secret)
			return nil
		}
		fmt.Fprintf(
			s.env.Out,
			"%s (%s) holds until %s. Its secret, shown only now:\n%s\n",
			made.Token.Name,
			made.Token.Role,
			day(*made.Token.ExpiresAt),
			made.Secret,
		)
		return nil
	})
}

func tokenList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	all := f.Bool("all", false, "those of everybody; for admins")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		tokens, err := answer[[]apiclient.Token](client.ListTokens(ctx, &apiclient.ListTokensParams{All: all}))
		if err != nil {
			return err
		}
		return tokenListing.show(s, tokens, len(tokens))
	}
}

var tokenListing = listing[apiclient.Token]{
	head: []string{"NAME", "WHOSE", "MAY", "MADE", "HOLDS UNTIL", "LAST USED", "ID"},
	name: func(k apiclient.Token) string { return k.Name },
	none: "You have no token.",
	cells: func(k apiclient.Token) []string {
		until, used := "no end", "never"
		if k.ExpiresAt != nil {
			until = day(*k.ExpiresAt)
		}
		if k.LastUsedAt != nil {
			used = moment(*k.LastUsedAt)
		}
		may := string(k.Role)
		if k.Only != nil {
			may = *k.Only + " alone"
		}
		if len(k.Limits) > 0 {
			may += ", " + labelText(k.Limits)
		}
		return []string{k.Name, k.Person, may, day(k.CreatedAt), until, used, k.Id.String()}
	},
}

func tokenRevoke(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		if _, err := answerBytes(client.RevokeToken(ctx, args[0])); err != nil {
			return err
		}
		if !s.quiet && !s.json {
			fmt.Fprintln(s.env.Out, "The token is revoked.")
		}
		return nil
	}
}
