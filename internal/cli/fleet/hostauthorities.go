package fleet

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/hostcert"
	"plumlatch/internal/sshio"
)

func hostKeyExpect(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why it has another one from some time on, for the daybook")
	withdraw := f.Bool("withdraw", false, "it is expected no longer")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		all, err := kit.Answer[apiclient.HostKeys](client.ExpectHostKey(ctx, args[0], apiclient.ExpectHostKey{
			Sha256: args[1], Reason: *reason, Withdraw: withdraw,
		}))
		if err != nil {
			return err
		}
		return keys.Record(s, all, args[1], func() { showPinned(s, args[0], all) })
	})
}

const maxAuthority = 64 << 10

func hostAuthorityAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	from := f.String("from", "", "the `file` with its public key, or its @cert-authority line")
	hosts := f.String("hosts", "", "the `patterns` of host names and addresses that it vouches for, with commas between")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if *from == "" {
			return kit.Usage("say where its public key is: -from FILE")
		}
		text, err := keys.ReadText(s, *from, "the public key", maxAuthority)
		if err != nil {
			return err
		}
		a, err := kit.Answer[apiclient.HostAuthority](client.AddHostAuthority(ctx, apiclient.AddHostAuthority{
			Name: args[0], PublicKey: strings.TrimSpace(text), Hosts: kit.Optional(*hosts), Reason: kit.Optional(*reason),
		}))
		if err != nil {
			return err
		}
		return keys.Record(s, a, a.Name, func() { keys.Say(s, "%s (%s) vouches for %s.", a.Name, a.Sha256, a.Hosts) })
	})
}

func hostAuthorityList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.HostAuthority](client.ListHostAuthorities(ctx))
		if err != nil {
			return err
		}
		return hostAuthorityListing.Show(s, all, len(all))
	})
}

var hostAuthorityListing = kit.Listing[apiclient.HostAuthority]{
	Head: []string{"NAME", "HOSTS", "FINGERPRINT", "ADDED"},
	Name: func(a apiclient.HostAuthority) string { return a.Name },
	None: "There is no host authority: each host key is pinned by itself. Add one: plumlatch help host-authority add",
	Cells: func(a apiclient.HostAuthority) []string {
		return []string{a.Name, a.Hosts, a.Sha256, kit.Moment(a.AddedAt) + " by " + a.AddedBy}
	},
}

func hostAuthorityRemove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		params := apiclient.RemoveHostAuthorityParams{Reason: kit.Optional(*reason)}
		if _, err := kit.AnswerBytes(client.RemoveHostAuthority(ctx, args[0], &params)); err != nil {
			return err
		}
		return keys.Record(s, struct{}{}, args[0], func() { keys.Say(s, "%s vouches for no host key any longer.", args[0]) })
	})
}

// vouched looks whether a host authority vouches for a host key of the machine, and takes that alone then.
func (m *found) vouched(s *kit.Session, ctx context.Context, client *apiclient.Client, t sshio.Target) error {
	all, err := kit.Answer[[]apiclient.HostAuthority](client.ListHostAuthorities(ctx))
	if err != nil || len(all) == 0 {
		return err
	}
	certificates, err := sshio.HostCertificates(ctx, t)
	if err != nil {
		return nil // its plain host keys are there
	}
	for _, c := range certificates {
		for _, a := range all {
			read, _, err := hostcert.Read(a.PublicKey)
			if err != nil {
				return fmt.Errorf("the host authority %s: %w", a.Name, err)
			}
			read.Hosts = a.Hosts
			if hostcert.Vouches(c, read, []string{m.Name, m.Address}, time.Now()) == nil {
				m.keys, m.learnt, m.sure = []ssh.PublicKey{c.Key}, "host certificate of the authority "+a.Name, true
				return nil
			}
		}
	}
	return nil
}
