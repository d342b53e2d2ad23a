package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio"
)

var adoptCommands = []command{
	{
		name: "instance adopt", args: "NAME", min: 1, max: 1, flags: instanceAdopt,
		summary: "Bring in a machine that runs sshd, of any cloud or none",
		detail: `It asks the machine for its host keys and shows their fingerprints, to be compared with what
another way tells (the console of the machine, whoever set it up), before it pins them.
With -with FILE or -agent it logs in and reads who gets in today; with -steward it places
a steward key as well, by which the service sweeps and changes keys.`,
		examples: []string{"plumlatch instance adopt weather-mast -address 192.0.2.30 -login pi", "plumlatch instance adopt weather-mast -address mast.example -login pi -with ~/.ssh/oona -steward"},
	},
	{
		name: "instance steward", args: "NAME", min: 1, max: 1, flags: instanceSteward,
		summary:  "Place a steward key on an instance, with a private half that is here",
		detail:   "Withdraw it at any time: plumlatch grant withdraw steward-NAME NAME -with FILE",
		examples: []string{"plumlatch instance steward tide-gauge-1 -with ~/.ssh/oona"},
	},
	{name: "instance release", args: "NAME", min: 1, max: 1, flags: instanceRelease, summary: "Let the record of an adopted machine go; the machine is not touched", examples: []string{"plumlatch instance release weather-mast"}},
}

func instanceAdopt(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var h holderFlags
	h.flags(f)
	l := labels{}
	address := f.String("address", "", "its host name or `address`")
	user := f.String("login", "", "the OS `user` to log in as")
	port := f.Int("port", 22, "its SSH port")
	f.Var(l, "label", "a label, `name=value`; can be given several times")
	steward := f.Bool("steward", false, "place a steward key as well; needs -with or -agent")
	yes := f.Bool("yes", false, "take the host keys without being asked")
	return func(ctx context.Context, s *session, args []string) error {
		switch {
		case *address == "" || *user == "":
			return &usageError{"say where it is and as whom to log in: -address A -login USER"}
		case *steward && !h.given():
			return &usageError{"-steward needs a way in: -with FILE or -agent"}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		keys, err := sshio.HostKeys(ctx, *address, *port)
		if err != nil {
			return err
		}
		request := apiclient.AdoptInstance{Name: args[0], Address: *address, Port: port, LoginUser: *user, Learnt: new("first contact by the client")}
		var shown []string
		for _, k := range keys {
			request.HostKeys = append(request.HostKeys, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))))
			shown = append(shown, fmt.Sprintf("  %s  %s", ssh.FingerprintSHA256(k), k.Type()))
		}
		if len(l) > 0 {
			request.Labels = new(map[string]string(l))
		}
		if err := s.confirm(*yes, fmt.Sprintf("%s shows these host keys. Compare one of them with what another way tells:\n%s", *address, strings.Join(shown, "\n")), "yes"); err != nil {
			return err
		}
		i, err := answer[apiclient.Instance](client.AdoptInstance(ctx, request))
		if err != nil {
			return err
		}
		if !h.given() {
			return s.adopted(ctx, client, i)
		}
		halves, end, err := s.holder(h)
		if err != nil {
			return err
		}
		defer end()
		if *steward {
			if err := s.placeSteward(ctx, client, i.Name, halves); err != nil {
				return fmt.Errorf("%s is recorded, but: %w\nTry again: plumlatch instance steward %s", i.Name, err, i.Name)
			}
		}
		login, err := answer[apiclient.Login](client.GetLogin(ctx, i.Name))
		if err != nil {
			return err
		}
		if _, err := s.readAndReport(ctx, client, login, halves); err != nil {
			return fmt.Errorf("%s is recorded, but its files could not be read: %w", i.Name, err)
		}
		return s.adopted(ctx, client, i)
	}
}

func (s *session) adopted(ctx context.Context, client *apiclient.Client, i apiclient.Instance) error {
	l, err := answer[apiclient.Login](client.GetLogin(ctx, i.Name))
	switch {
	case err != nil:
		return err
	case s.json:
		return s.writeJSON(l)
	case s.quiet:
		fmt.Fprintln(s.env.Out, i.Name)
		return nil
	}
	fmt.Fprintf(s.env.Out, "%s is recorded, at %s.\n\n", i.Name, hostPort(i.Connection))
	s.showLogin(l)
	return nil
}

func instanceSteward(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var h holderFlags
	h.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		if !h.given() {
			return &usageError{"say with which private half: -with FILE or -agent"}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		halves, end, err := s.holder(h)
		if err != nil {
			return err
		}
		defer end()
		if err := s.placeSteward(ctx, client, args[0], halves); err != nil {
			return err
		}
		i, err := answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		return s.adopted(ctx, client, i)
	}
}

// placeSteward logs in first, so that no steward key is made for a machine that
// cannot be reached, then has one made and places its line.
func (s *session) placeSteward(ctx context.Context, client *apiclient.Client, instance string, halves []atHand) error {
	i, err := answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	session, half, err := enter(ctx, i.Connection, halves)
	if err != nil {
		return err
	}
	defer session.Close()
	grant, err := answer[apiclient.Grant](client.AddSteward(ctx, instance))
	if err != nil {
		return err
	}
	err = editLine(session, grant.Line, placeLine)
	if err != nil {
		return fmt.Errorf("the steward key %s is recorded, but its line was not placed: %w", grant.Key, err)
	}
	l, err := report(ctx, client, grant.Login, session)
	if err != nil {
		return err
	}
	_, err = s.reportEntry(ctx, client, l, session, half)
	return err
}

func instanceRelease(f *flag.FlagSet) func(context.Context, *session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		if err := s.confirm(*yes, fmt.Sprintf("This lets the record of %s go, with its grants. On the machine every key stays where it is, a steward key's line too.", args[0]), args[0]); err != nil {
			return err
		}
		if _, err := answerBytes(client.ReleaseInstance(ctx, args[0], &apiclient.ReleaseInstanceParams{Reason: optional(*reason)})); err != nil {
			return err
		}
		if !s.quiet && !s.json {
			fmt.Fprintf(s.env.Out, "The record of %s is gone.\n", args[0])
		}
		return nil
	}
}
