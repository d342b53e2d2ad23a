package fleet

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

// HostKeyCommands are about the host keys that are pinned for an instance.
var HostKeyCommands = []kit.Command{
	{
		Name: "host-key show", Args: "INSTANCE", Min: 1, Max: 1, Flags: hostKeyShow,
		Summary: "Show the pinned host keys of an instance, how they were learnt, and those that were pinned before",
		Detail:  "With -sshfp it prints them as SSHFP records (RFC 4255) for the zone of a DNS server.",
		Examples: []string{
			"plumlatch host-key show tide-gauge-1",
			"plumlatch host-key show tide-gauge-1 -sshfp tide-gauge-1.wrackline.example.",
		},
	},
	{
		Name: "host-key expect", Args: "INSTANCE FINGERPRINT", Min: 2, Max: 2, Flags: hostKeyExpect,
		Summary: "Say which host key an instance will have, before it is set up again",
		Detail: `The change is accepted by itself once the machine shows just that host key. Until then the pinned ones count.
A machine that its cloud set up anew needs none of this where the cloud tells its boot output.`,
		Examples: []string{
			"plumlatch host-key expect tide-gauge-1 SHA256:… -reason 'set up again on Sunday'",
			"plumlatch host-key expect tide-gauge-1 SHA256:… -withdraw",
		},
	},
	{
		Name: "host-authority add", NoNames: true, Args: "NAME", Min: 1, Max: 1, Flags: hostAuthorityAdd,
		Summary: "Add a certificate authority whose host certificates vouch for host keys",
		Detail: `A host key that a machine shows with a certificate of it, valid and for the machine's name or address, is
pinned without a question: at adoption, and where it has changed. -from reads the public key, or the @cert-authority
line of known_hosts; - is the standard input.`,
		Examples: []string{
			"plumlatch host-authority add wrackline -from host-ca.pub -hosts '*.wrackline.example'",
			"grep '^@cert-authority' ~/.ssh/known_hosts | plumlatch host-authority add wrackline -from -",
		},
	},
	{
		Name: "host-authority list", Flags: hostAuthorityList,
		Summary:  "List the certificate authorities that vouch for host keys",
		Examples: []string{"plumlatch host-authority list"},
	},
	{
		Name: "host-authority remove", Args: "NAME", Min: 1, Max: 1, Flags: hostAuthorityRemove,
		Summary:  "Remove a host authority; what it has vouched for stays pinned",
		Examples: []string{"plumlatch host-authority remove wrackline -reason 'its key is compromised'"},
	},
	{
		Name: "host-key pin", Args: "INSTANCE", Min: 1, Max: 1, Flags: hostKeyPin,
		Summary: "Accept the host keys that a machine shows now, with the reason why they changed",
		Detail: `A changed host key stops everything until somebody says why: the machine was set up again, or
another one answers at its address. It asks the machine for its host keys from here, shows what came
and what went, and pins them once you agree. With -expect only the key with that fingerprint is pinned, and
only if the machine shows it. Grants and history stay; the machine is read again.`,
		Examples: []string{
			"plumlatch host-key pin tide-gauge-1 -reason 'set up again on 12 November'",
			"plumlatch host-key pin tide-gauge-1 -expect SHA256:… -reason 'set up again on 12 November'",
		},
	},
}

func hostKeyShow(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	name := f.String("sshfp", "", "print SSHFP records for this DNS `name`")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		keys, err := kit.Answer[apiclient.HostKeys](client.GetHostKeys(ctx, args[0]))
		switch {
		case err != nil:
			return err
		case *name != "":
			return showSSHFP(s, *name, keys)
		case s.Json:
			return s.WriteJSON(keys)
		case s.Quiet:
			for _, k := range keys.Pinned {
				fmt.Fprintln(s.Env.Out, k.Sha256)
			}
			return nil
		}
		showPinned(s, args[0], keys)
		return nil
	}
}

func showSSHFP(s *kit.Session, name string, keys apiclient.HostKeys) error {
	if strings.ContainsAny(name, " \t\r\n;\"()") {
		return kit.Usage(fmt.Sprintf("%q is no DNS name", name))
	}
	for _, k := range keys.Pinned {
		p, err := keypair.ReadLine(k.PublicKey)
		if err != nil {
			return err
		}
		fmt.Fprintf(s.Env.Out, "%s IN SSHFP %s\n", name, p.SSHFP())
	}
	return nil
}

func showPinned(s *kit.Session, instance string, keys apiclient.HostKeys) {
	if len(keys.Pinned) == 0 {
		fmt.Fprintf(s.Env.Out, "No host key of %s is pinned.\n", instance)
	} else {
		t := kit.Table{Head: []string{"HOST KEY", "TYPE", "PINNED", "LEARNT FROM"}, Wraps: []string{"LEARNT FROM"}}
		for _, k := range keys.Pinned {
			t.Add(k.Sha256, k.Algorithm, kit.Moment(k.PinnedAt), k.Learnt)
		}
		t.Write(s)
	}
	if len(kit.Given(keys.Expected)) > 0 {
		fmt.Fprintln(s.Env.Out)
	}
	for _, e := range kit.Given(keys.Expected) {
		s.Below("", fmt.Sprintf(
			"Expected from %s on, by %s: %s (%s)", kit.Moment(e.At), e.By, e.Sha256, e.Reason,
		), kit.AsItIs)
	}
	if len(keys.Former) == 0 {
		return
	}
	fmt.Fprintln(s.Env.Out, "\nNo longer pinned:")
	t := kit.Table{Head: []string{"HOST KEY", "TYPE", "PINNED", "REPLACED", "WHY"}, Wraps: []string{"WHY"}}
	for _, k := range keys.Former {
		t.Add(
			k.Sha256, k.Algorithm, kit.Moment(k.PinnedAt), kit.Moment(k.ReplacedAt)+" by "+k.ReplacedBy, k.Reason,
		)
	}
	t.Write(s)
}

func hostKeyPin(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	expect := f.String("expect", "", "pin only the host key with this `fingerprint`, if the machine shows it")
	reason := f.String("reason", "", "why it changed, for the daybook")
	yes := f.Bool("yes", false, "take the host keys without being asked")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		if i.Connection.Address == "" {
			return kit.Refused(
				"no-address",
				i.Name+" has no address while it is "+string(i.State),
				"Start it first: plumlatch instance start "+i.Name,
			)
		}
		shown, err := sshio.HostKeys(ctx, s.Unpinned(i.Connection, nil))
		if err != nil {
			return err
		}
		request := apiclient.PinHostKeys{
			Reason: kit.Optional(*reason), Learnt: "machine itself, accepted by a person",
		}
		if *expect != "" {
			if shown, err = expected(shown, *expect); err != nil {
				return err
			}
			request.Learnt = "machine itself, with the fingerprint that was expected"
		}
		came, went := differing(shown, i.Connection.HostKeys)
		if len(came)+len(went) > 0 && *expect == "" {
			if err := s.Confirm(*yes, whatChanged(i.Name, came, went), "yes"); err != nil {
				return err
			}
		}
		for _, k := range shown {
			request.HostKeys = append(request.HostKeys, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))))
		}
		keys, err := kit.Answer[apiclient.HostKeys](client.PinHostKeys(ctx, i.Name, request))
		switch {
		case err != nil:
			return err
		case s.Json:
			return s.WriteJSON(keys)
		case s.Quiet:
			return nil
		case len(came)+len(went) == 0:
			fmt.Fprintf(s.Env.Out, "%s shows the host keys that are pinned; nothing changed.\n", i.Name)
			return nil
		}
		showPinned(s, i.Name, keys)
		fmt.Fprintf(
			s.Env.Out,
			"\nThe service reads it again by itself where it can; else:  plumlatch sweep %s -with FILE\n",
			i.Name,
		)
		return nil
	}
}

// expected returns the one host key that has the fingerprint.
func expected(shown []ssh.PublicKey, fingerprint string) ([]ssh.PublicKey, error) {
	d, ok := keypair.ReadFingerprint(fingerprint)
	if !ok || d.Kind != "sha256" {
		return nil, kit.Usage("-expect needs a SHA-256 fingerprint, such as SHA256:…")
	}
	n := slices.IndexFunc(shown, func(k ssh.PublicKey) bool {
		return slices.Equal(keypair.Public{Blob: k.Marshal()}.SHA256(), d.Sum)
	})
	if n >= 0 {
		return shown[n : n+1], nil
	}
	var has []string
	for _, k := range shown {
		has = append(has, ssh.FingerprintSHA256(k))
	}
	return nil, kit.Refused(
		"not-the-expected", "the machine does not show that host key; it shows "+strings.Join(has, ", "),
		"Nothing was pinned. Find out which machine answers there",
	)
}

// differing returns the fingerprints of host keys that are shown and not pinned, and the other way round.
func differing(shown []ssh.PublicKey, pinned []apiclient.HostKey) (came, went []string) {
	for _, k := range shown {
		print := ssh.FingerprintSHA256(k)
		if !slices.ContainsFunc(pinned, func(p apiclient.HostKey) bool { return p.Sha256 == print }) {
			came = append(came, print+"  "+k.Type())
		}
	}
	for _, p := range pinned {
		if !slices.ContainsFunc(shown, func(k ssh.PublicKey) bool { return ssh.FingerprintSHA256(k) == p.Sha256 }) {
			went = append(went, p.Sha256+"  "+p.Algorithm)
		}
	}
	return came, went
}

func whatChanged(name string, came, went []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s shows other host keys than those that are pinned.\n", name)
	for _, k := range came {
		fmt.Fprintf(&b, "  new     %s\n", k)
	}
	for _, k := range went {
		fmt.Fprintf(&b, "  pinned  %s, which it no longer shows\n", k)
	}
	b.WriteString("Compare a new one with what another way tells: the machine's console, or the person who set it up.")
	return b.String()
}
