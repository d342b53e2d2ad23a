// Package people holds the commands about operators, sign-in and tokens.
package people

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
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/name"
)

var PeopleCommands = []kit.Command{
	{
		Name: "sign-in", Args: "[NAME]", Max: 1, Flags: signIn, Summary: "Sign in and keep a token on this machine",
		Detail: "The token is kept in ~/.config/plumlatch/sign-in.json with mode 0600; the password is not kept.",
		Examples: []string{
			"plumlatch sign-in ines -server https://latch.wrackline.example",
			"plumlatch sign-in marek -password-file ./secret",
		},
	},
	{
		Name:     "sign-out",
		Flags:    signOut,
		Summary:  "Revoke the kept token and delete it from this machine",
		Examples: []string{"plumlatch sign-out"},
	},
	{Name: "whoami", Flags: whoami, Summary: "Show who you are to the service", Examples: []string{"plumlatch whoami"}},
	{
		Name:     "holder list",
		Flags:    holderList,
		Summary:  "List the people and teams that have keys",
		Examples: []string{"plumlatch holder list"},
	},
	{
		Name:    "token new",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   tokenNew,
		Summary: "Make a token for a program; its secret is shown once",
		Examples: []string{
			"plumlatch token new nightly-report -role viewer -valid 30d",
			"plumlatch token new sweeper -only sweep -limit team=cameras",
			"plumlatch token new pipeline -for ci -only settle -charter field",
		},
	},
	{
		Name:     "token list",
		Flags:    tokenList,
		Summary:  "List your tokens, or everybody's",
		Examples: []string{"plumlatch token list", "plumlatch token list -all"},
	},
	{
		Name:     "token revoke",
		Args:     "ID",
		Min:      1,
		Max:      1,
		Flags:    tokenRevoke,
		Summary:  "Revoke a token",
		Examples: []string{"plumlatch token revoke 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
}

func signIn(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	passwordFile := f.String("password-file", "", "`file` with the password; asked for unless given")
	factor := f.String("code", "", "a `code` of your second factor, or a recovery code; asked for when needed")
	var valid kit.When
	f.Var(&valid, "valid", "`until` when the token is valid, such as 30d, friday or 2026-12-31; 30d unless given")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		server := serverHere(s)
		who := keys.LocalName()
		if len(args) == 1 {
			who = args[0]
		} else if kit.IsTerminal(s.Env.In) {
			fmt.Fprintf(s.Env.Err, "Name [%s]: ", who)
			if typed := kit.ReadLine(s.Env.In); typed != "" {
				who = typed
			}
		}
		password, err := askPassword(s, *passwordFile)
		if err != nil {
			return err
		}
		plain, err := s.Dial(server, "")
		if err != nil {
			return err
		}
		me, cookies, err := kit.SignInOnce(ctx, plain, who, password, *factor)
		if kit.Code(err) == "code-needed" && *factor == "" && kit.IsTerminal(s.Env.In) {
			fmt.Fprint(s.Env.Err, "Code of your second factor: ")
			me, cookies, err = kit.SignInOnce(ctx, plain, who, password, kit.ReadLine(s.Env.In))
		}
		if err != nil {
			return err
		}
		withCookie := kit.WithCookies(cookies)
		host, err := os.Hostname()
		if err != nil || host == "" {
			host = "machine"
		}
		tokenName := name.Suggest("sign-in-" + host)
		made, err := kit.Answer[apiclient.NewToken](plain.AddToken(
			ctx, &apiclient.AddTokenParams{IdempotencyKey: kit.NewRequestKey()},
			apiclient.AddToken{Name: tokenName, Days: new(valid.Days(30))}, withCookie,
		))
		if err != nil {
			return err
		}
		if _, err := kit.AnswerBytes(plain.SignOut(ctx, withCookie)); err != nil {
			return err
		}
		file, err := keep(s, kit.Kept{Server: server, Name: me.Name, Token: made.Secret, ID: made.Token.Id.String()})
		if err != nil {
			return err
		}
		fmt.Fprintf(
			s.Env.Out,
			"Signed in to %s as %s (%s). The token is in %s and is valid until %s.\n", server, me.Name, me.Role, file,
			kit.Day(*made.Token.ExpiresAt),
		)
		return nil
	}
}

// serverHere is the service's address, also for who is not signed in.
func serverHere(s *kit.Session) string {
	return cmp.Or(s.Server, s.Env.Getenv("PLUMLATCH_URL"), kit.DefaultServer)
}

func askPassword(s *kit.Session, file string) (string, error) { return s.Secret("Password: ", file) }

// keep writes the sign-in file whole or not at all.
func keep(s *kit.Session, k kit.Kept) (string, error) {
	file, err := s.KeptFile()
	if err != nil {
		return "", err
	}
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return "", err
	}
	return file, kit.WriteWhole(file, string(data)+"\n")
}

func signOut(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		k, err := s.ReadKept()
		if err != nil {
			return err
		}
		if k.Token == "" {
			fmt.Fprintln(s.Env.Out, "There is no kept sign-in.")
			return nil
		}
		client, err := s.Dial(k.Server, k.Token)
		if err != nil {
			return err
		}
		_, err = kit.AnswerBytes(client.RevokeToken(ctx, k.ID))
		if err != nil && !kit.Gone(err) {
			return fmt.Errorf("the token could not be revoked, so it is kept: %w", err)
		}
		file, err := s.KeptFile()
		if err != nil {
			return err
		}
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		fmt.Fprintf(s.Env.Out, "Signed out of %s; the token is revoked.\n", k.Server)
		return nil
	}
}

func whoami(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		me, err := kit.Answer[apiclient.Me](client.GetMe(ctx))
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			return s.WriteJSON(me)
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, me.Name)
		default:
			only := ""
			if me.Only != nil {
				only = *me.Only + " alone"
			}
			s.Facts(
				"Name", me.Name, "Role", string(me.Role), "Limited to", kit.LabelText(me.Limits), "For", only,
				"Second factor", map[bool]string{true: "yes", false: "no"}[me.Factor], "By", string(me.By), "Service",
				me.Service, "Cloud", me.Cloud,
			)
		}
		return nil
	}
}

func holderList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		holders, err := kit.Answer[[]apiclient.Holder](client.ListHolders(ctx))
		if err != nil {
			return err
		}
		return holderListing.Show(s, holders, len(holders))
	}
}

var holderListing = kit.Listing[apiclient.Holder]{
	Head: []string{"NAME", "KIND", "WHO", "MEMBERS", "STATE"},
	Name: func(k apiclient.Holder) string { return k.Name },
	None: "There is no holder yet.",
	Cells: func(k apiclient.Holder) []string {
		state := ""
		if kit.Given(k.Left) {
			state = "has left"
		}
		return []string{k.Name, string(k.Kind), k.Title, strings.Join(kit.Given(k.Members), " "), state}
	},
}

func tokenNew(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	role := f.String("role", "", "viewer, operator or admin; yours unless given")
	var valid kit.When
	f.Var(&valid, "valid", "`until` when it is valid, such as 90d, friday or 2026-12-31; 90d unless given, at most 366d")
	only := f.String("only", "", "sweep, read, compare or settle: the only thing that the token allows")
	charter := f.String("charter", "", "with -only settle: the `charter` that it settles")
	unsigned := f.Bool("unsigned", false, "with -only settle: a signature by a person is not needed")
	of := f.String("for", "", "the `machine` account that has it; you unless given")
	limits := kit.Labels{}
	f.Var(limits, "limit", "limit it to instances with this label, `name=value`; can be given several times")
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		request := apiclient.AddToken{Name: args[0], Days: new(valid.Days(90))}
		request.Limits = labelsOf(limits)
		request.Charter, request.For = kit.Optional(*charter), kit.Optional(*of)
		if *unsigned {
			request.Unsigned = unsigned
		}
		if *only != "" {
			request.Only = new(apiclient.AddTokenOnly(*only))
		}
		if *role != "" {
			request.Role = new(apiclient.Role(*role))
		}
		made, err := kit.Answer[apiclient.NewToken](
			client.AddToken(ctx, &apiclient.AddTokenParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(made)
		}
		if s.Quiet {
			fmt.Fprintln(s.Env.Out, made.Secret)
			return nil
		}
		fmt.Fprintf(
			s.Env.Out,
			"%s (%s) is valid until %s. Its secret, shown only now:\n%s\n", made.Token.Name, made.Token.Role,
			kit.Day(*made.Token.ExpiresAt), made.Secret,
		)
		return nil
	})
}

func tokenList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	all := f.Bool("all", false, "everybody's; for admins")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		tokens, err := kit.Answer[[]apiclient.Token](client.ListTokens(ctx, &apiclient.ListTokensParams{All: all}))
		if err != nil {
			return err
		}
		return tokenListing.Show(s, tokens, len(tokens))
	}
}

var tokenListing = kit.Listing[apiclient.Token]{
	Head: []string{"NAME", "WHOSE", "MAY", "MADE", "VALID UNTIL", "LAST USED", "ID"},
	Name: func(k apiclient.Token) string { return k.Name },
	None: "You have no token.",
	Cells: func(k apiclient.Token) []string {
		until, used := "no end", "never"
		if k.ExpiresAt != nil {
			until = kit.Day(*k.ExpiresAt)
		}
		if k.LastUsedAt != nil {
			used = kit.Moment(*k.LastUsedAt)
		}
		may := string(k.Role)
		if k.Only != nil {
			may = *k.Only + " alone"
		}
		if k.Charter != nil {
			may = "settle " + *k.Charter + " alone"
			if kit.Given(k.Unsigned) {
				may += ", unsigned"
			}
		}
		if len(k.Limits) > 0 {
			may += ", " + kit.LabelText(k.Limits)
		}
		return []string{k.Name, k.Person, may, kit.Day(k.CreatedAt), until, used, k.Id.String()}
	},
}

func tokenRevoke(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if _, err := kit.AnswerBytes(client.RevokeToken(ctx, args[0])); err != nil {
			return err
		}
		if !s.Quiet && !s.Json {
			fmt.Fprintln(s.Env.Out, "The token is revoked.")
		}
		return nil
	}
}
