package people

import (
	"context"
	"flag"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
)

// PasskeyCommands are about passkeys, which a browser adds.
var PasskeyCommands = []kit.Command{
	{
		Name: "passkey list", Flags: passkeyList,
		Summary:  "List the passkeys by which you sign in to the console",
		Detail:   "A passkey is added in the console, under Settings: the browser, or a hardware key, keeps its private key.",
		Examples: []string{"plumlatch passkey list"},
	},
	{
		Name: "passkey remove", Args: "NAME", Min: 1, Max: 1, Flags: passkeyRemove,
		Summary:  "Remove a passkey, so that nobody signs in with it",
		Examples: []string{"plumlatch passkey remove laptop"},
	},
}

func passkeyList(_ *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Passkey](client.ListPasskeys(ctx))
		if err != nil {
			return err
		}
		return kit.Listing[apiclient.Passkey]{
			Head: []string{"NAME", "FOR", "ADDED", "LAST USED"},
			Name: func(p apiclient.Passkey) string { return p.Name },
			None: "You have no passkey. Add one in the console, under Settings.",
			Cells: func(p apiclient.Passkey) []string {
				used := "never"
				if p.UsedAt != nil {
					used = kit.Moment(*p.UsedAt)
				}
				return []string{p.Name, p.Host, kit.Day(p.CreatedAt), used}
			},
		}.Show(s, all, len(all))
	})
}

func passkeyRemove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return kit.WithConfirmed(f, func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.RemovePasskey(ctx, args[0])
		return keys.Settled(s, r, err, "Nobody signs in with "+args[0]+" now.")
	})
}
