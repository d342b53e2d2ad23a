package people

import (
	"context"
	"flag"
	"fmt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
)

// MailCommands are about where a person gets mail.
var MailCommands = []kit.Command{
	{
		Name:     "mail show",
		Flags:    mailShow,
		Summary:  "Show where you get mail about what you have to do",
		Detail:   "It ends with status 3 if no confirmed address gets mail, or if the last mail could not be sent.",
		Examples: []string{"plumlatch mail show"},
	},
	{
		Name:    "mail set",
		Args:    "ADDRESS",
		Min:     1,
		Max:     1,
		Flags:   mailSet,
		Summary: "Get mail at an address, once you have confirmed it",
		Detail: `A code is sent to the address. You then get one mail a day at most, where there is something to do:
a key to take out of the safe, to bring or to prove. What keeps you out is sent at once. A mail
names keys, and nothing else of them.`,
		Examples: []string{"plumlatch mail set oona@wrackline.example"},
	},
	{
		Name:     "mail confirm",
		Args:     "CODE",
		Min:      1,
		Max:      1,
		Flags:    mailConfirm,
		Summary:  "Confirm your address with the code of the mail",
		Examples: []string{"plumlatch mail confirm 3Jx7vXzq0mE1bq2cPq4tq2W6m8uYw5aVv1a0bC9dE8"},
	},
	{
		Name:     "mail forget",
		Flags:    mailForget,
		Summary:  "Stop your mail",
		Examples: []string{"plumlatch mail forget"},
	},
}

func mailShow(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		m, err := kit.Answer[apiclient.Mail](client.GetMail(ctx))
		if err != nil {
			return err
		}
		return showMail(s, m)
	}
}

func showMail(s *kit.Session, m apiclient.Mail) error {
	switch {
	case s.Json:
		if err := s.WriteJSON(m); err != nil {
			return err
		}
	case s.Quiet:
		if m.Address != nil {
			fmt.Fprintln(s.Env.Out, *m.Address)
		}
	case !m.Enabled:
		fmt.Fprintln(s.Env.Out, "This service sends no mail. Start it with -smtp HOST:PORT and -smtp-from ADDRESS.")
	case m.Address == nil:
		fmt.Fprintln(s.Env.Out, "You get no mail. To get it:  plumlatch mail set ADDRESS")
	default:
		confirmed, sent := "not yet; the code is in the mail:  plumlatch mail confirm CODE", "none"
		if m.ConfirmedAt != nil {
			confirmed = kit.Moment(*m.ConfirmedAt)
		}
		if m.SentAt != nil {
			sent = kit.Moment(*m.SentAt)
		}
		s.Facts("Address", *m.Address, "Confirmed", confirmed, "Last mail", sent, "Problem", kit.Given(m.Problem))
	}
	if !m.Enabled || m.ConfirmedAt == nil || m.Problem != nil {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

func mailSet(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		m, err := kit.Answer[apiclient.Mail](client.SetMail(ctx, apiclient.SetMail{Address: args[0]}))
		switch {
		case err != nil:
			return err
		case m.Problem != nil:
			return fmt.Errorf("the code could not be sent to %s: %s; try again in a minute", args[0], *m.Problem)
		case s.Json:
			return s.WriteJSON(m)
		case m.ConfirmedAt != nil:
			keys.Say(s, "You get mail at %s already.", args[0])
		default:
			keys.Say(s, "A code was sent to %s. Confirm it:  plumlatch mail confirm CODE", args[0])
		}
		return nil
	})
}

func mailConfirm(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		r, err := client.ConfirmMail(ctx, apiclient.ConfirmMail{Code: args[0]})
		return keys.Settled(s, r, err, "Confirmed. You get mail when there is something to do.")
	}
}

func mailForget(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		r, err := client.ForgetMail(ctx)
		return keys.Settled(s, r, err, "You get no mail any longer.")
	}
}
