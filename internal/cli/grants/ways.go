package grants

import (
	"context"
	"flag"
	"fmt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// mostWays is at how many logins a way is accepted by one request.
const mostWays = 500

// WayCommands accept ways into logins beside keys.
var WayCommands = []kit.Command{
	{
		Name: "way accept", NoNames: true, Args: "WAY LOGIN...", Min: 2, Max: 10_000, Flags: wayAccept,
		Summary: "Accept a way into logins beside keys, such as a certificate authority that is wanted",
		Detail: `WAY is its name as openers -json and login show -json have it: a method such as password, the
fingerprint of an authority or of a key that a program names, a program; or its words, where it has no
name. An accepted way is still listed, with the person who accepted it and why, and no longer makes openers
and sweep end with 3. Once it is not as it was accepted, as with other principals, it counts again.`,
		Examples: []string{
			"plumlatch way accept password warden@pump -reason 'the console of the pump needs it'",
			"plumlatch reach -label team=atlas -q | xargs plumlatch way accept SHA256:… -reason 'our authority'",
		},
	},
	{
		Name: "way withdraw", NoNames: true, Args: "WAY LOGIN...", Min: 2, Max: 10_000, Flags: wayWithdraw,
		Summary:  "No longer accept a way into logins; the machines are not changed",
		Examples: []string{"plumlatch way withdraw password warden@pump"},
	},
}

func wayAccept(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return acceptWay(f, apiclient.AcceptWay{}, "accepted")
}

func wayWithdraw(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return acceptWay(f, apiclient.AcceptWay{Withdraw: new(true)}, "no longer accepted")
}

func acceptWay(
	f *flag.FlagSet, request apiclient.AcceptWay, is string,
) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		done := apiclient.AcceptedWays{Way: args[0], Logins: []string{}}
		for logins := args[1:]; len(logins) > 0; logins = logins[min(mostWays, len(logins)):] {
			request.Way, request.Reason, request.Logins = args[0], kit.Optional(*reason), logins[:min(mostWays, len(logins))]
			part, err := kit.Answer[apiclient.AcceptedWays](client.AcceptWay(ctx, request))
			if err != nil {
				return err
			}
			done.Logins, done.Changed = append(done.Logins, part.Logins...), done.Changed+part.Changed
		}
		switch {
		case s.Json:
			return s.WriteJSON(done)
		case s.Quiet:
			for _, l := range done.Logins {
				fmt.Fprintln(s.Env.Out, l)
			}
		default:
			fmt.Fprintf(
				s.Env.Out, "%s is %s at %s; %d changed.\n", args[0], is, text.Counted(len(done.Logins), "login"), done.Changed,
			)
		}
		return nil
	}
}
