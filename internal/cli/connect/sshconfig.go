package connect

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"slices"
	"strings"
)

var sshConfigCommand = kit.Command{
	Name: "ssh-config", Flags: sshConfig,
	Summary: "Write an OpenSSH client config and known_hosts for all that you can open from here",
	Detail: `It looks which private keys are on this machine (~/.ssh and PLUMLATCH_KEYS) and in the
ssh-agent, and writes one Host entry for each instance that they open, with pinned host
keys. Where jump hosts are on the way it says so by ProxyJump, and has entries for them too. Include the file it names
at the top of ~/.ssh/config.`,
	Examples: []string{"plumlatch ssh-config", "plumlatch ssh-config -label team=atlas"},
}

func sshConfig(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "only instances with this label, `name=value`")
	print := f.Bool("print", false, "print the config instead of writing the files")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		c, err := SshConfigOf(s, ctx, client, *label)
		if err != nil {
			return err
		}
		if *print {
			fmt.Fprint(s.Env.Out, c.config)
			return nil
		}
		if err := c.Write(); err != nil {
			return err
		}
		switch {
		case s.Json:
			return s.WriteJSON(struct {
				Config     string `json:"config"`
				KnownHosts string `json:"known_hosts"`
				Instances  int    `json:"instances"`
			}{c.file, c.pinsFile, c.instances})
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, c.file)
			return nil
		}
		fmt.Fprintf(
			s.Env.Out,
			"%s that you can open from here %s in %s, with %s.\nPut this line at the top of "+
				"~/.ssh/config, once:\n\n  Include %s\n\nThen type: ssh NAME\n",
			text.Counted(c.instances, "instance"),
			map[bool]string{true: "is", false: "are"}[c.instances == 1],
			s.Shown(c.file),
			text.Counted(strings.Count(c.pins, "\n"), "pinned host key"),
			configWord(c.file),
		)
		return nil
	}
}

// sshConfigFiles are an OpenSSH client config and its known_hosts, as they will be written.
type sshConfigFiles struct {
	file, pinsFile string
	config, pins   string
	instances      int
}

func (c sshConfigFiles) Write() error {
	return errors.Join(kit.WriteWhole(c.pinsFile, c.pins), kit.WriteWhole(c.file, c.config))
}

// SshConfigOf makes the config for all instances that can be opened from here.
func SshConfigOf(s *kit.Session, ctx context.Context, client *apiclient.Client, label string) (sshConfigFiles, error) {
	var c sshConfigFiles
	files, err := openedFromHere(s, ctx, client)
	if err != nil {
		return c, err
	}
	instances, _, err := kit.Fetch[apiclient.Instance](
		ctx,
		kit.Paging{Limit: 1, All: true},
		func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			return client.ListInstances(
				ctx, &apiclient.ListInstancesParams{After: after, Limit: &limit, Total: count, Label: kit.Optional(label)},
			)
		},
	)
	if err != nil {
		return c, err
	}
	dir, err := s.ConfigDir()
	if err != nil {
		return c, err
	}
	c.file, c.pinsFile = filepath.Join(dir, "ssh_config"), filepath.Join(dir, "known_hosts")
	var config, pins strings.Builder
	var hops []apiclient.Hop // on the way to what is written
	written := map[string]bool{}
	fmt.Fprintln(&config, "# Written by plumlatch ssh-config; the next one replaces it.")
	for _, i := range instances {
		file := files[i.Name]
		if file == "" || i.Connection.Address == "" {
			continue
		}
		c.instances++
		entry := hostEntry{
			name: i.Name, user: i.Connection.User, address: i.Connection.Address, port: i.Connection.Port, identity: file,
			pins: c.pinsFile, jump: jumpList(i.Connection),
		}
		config.WriteString(entry.text())
		pins.WriteString(knownHosts(i))
		written[i.Name] = true
		hops = append(hops, kit.Given(i.Connection.Via)...)
	}
	for _, h := range hops {
		if kit.Given(h.Hidden) || written[h.Instance] {
			continue
		}
		written[h.Instance] = true
		config.WriteString(hopEntry(h, files[h.Instance], c.pinsFile).text())
		pins.WriteString(knownHosts(hopInstance(h)))
	}
	c.config, c.pins = config.String(), pins.String()
	return c, nil
}

// hostEntry is a Host entry of an OpenSSH client config (ssh_config(5)).
type hostEntry struct {
	name, user, address string
	port                int
	identity            string // the file for IdentityFile; "" for what ssh tries by itself
	pins                string
	jump                string // for ProxyJump; "" for straight
}

func (e hostEntry) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "\nHost %s\n  HostName %s\n  Port %d\n  User %s\n", e.name, e.address, e.port, e.user)
	if e.identity != "" {
		fmt.Fprintf(&b, "  IdentityFile %s\n  IdentitiesOnly yes\n", configWord(e.identity))
	}
	fmt.Fprintf(
		&b, "  HostKeyAlias %s\n  UserKnownHostsFile %s\n  StrictHostKeyChecking yes\n", e.name, configWord(e.pins),
	)
	if e.jump != "" {
		fmt.Fprintf(&b, "  ProxyJump %s\n", e.jump)
	}
	return b.String()
}

// hopEntry is that of a jump host. In a row of them ssh says itself by way of which each is reached.
func hopEntry(h apiclient.Hop, identity, pins string) hostEntry {
	return hostEntry{
		name: h.Instance, user: h.User, address: h.Address, port: h.Port, identity: identity, pins: pins, jump: "none",
	}
}

func hopInstance(h apiclient.Hop) apiclient.Instance {
	return apiclient.Instance{Name: h.Instance, Connection: apiclient.Connection{HostKeys: h.HostKeys}}
}

// jumpList is the jump hosts of a connection, as ProxyJump has them.
func jumpList(c apiclient.Connection) string {
	var names []string
	for _, h := range kit.Given(c.Via) {
		if !kit.Given(h.Hidden) {
			names = append(names, h.Instance)
		}
	}
	return strings.Join(names, ",")
}

// configWord quotes a word for an OpenSSH client config where it needs it.
func configWord(w string) string {
	if strings.ContainsAny(w, " \t") {
		return `"` + w + `"`
	}
	return w
}

// openedFromHere returns, by instance, the file of a private key on this
// machine that opens it.
func openedFromHere(s *kit.Session, ctx context.Context, client *apiclient.Client) (map[string]string, error) {
	out := map[string]string{}
	for _, dir := range s.KeyDirs() {
		pubs, err := filepath.Glob(filepath.Join(dir, "*.pub"))
		if err != nil {
			return nil, err
		}
		for _, pub := range pubs {
			private := strings.TrimSuffix(pub, ".pub")
			data, err := os.ReadFile(pub)
			if err != nil || len(data) > keypair.MaxTextBytes {
				continue
			}
			k, err := keypair.ReadLine(string(data))
			if _, missing := os.Stat(private); err != nil || missing != nil {
				continue
			}
			if err := addOpened(s, ctx, client, k, private, out); err != nil {
				return nil, err
			}
		}
	}
	return out, openedByAgent(s, ctx, client, out)
}

// openedByAgent adds what the keys of the ssh-agent open, if one is running.
func openedByAgent(s *kit.Session, ctx context.Context, client *apiclient.Client, out map[string]string) error {
	if s.Env.Getenv("SSH_AUTH_SOCK") == "" {
		return nil
	}
	held, err := s.AgentKeys(kit.AgentFlags{})
	if err != nil {
		return nil // an agent that is gone, or has no key, opens nothing
	}
	for _, k := range held {
		identity, err := s.AgentIdentity(k)
		if err != nil {
			return err
		}
		if err := addOpened(s, ctx, client, k, identity, out); err != nil {
			return err
		}
	}
	return nil
}

// addOpened adds the instances that a key opens and that are not yet there, with the file for ssh.
func addOpened(
	s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	k keypair.Public,
	identity string,
	out map[string]string,
) error {
	name, err := s.RecordOf(ctx, client, kit.AtHand{Public: k})
	if err != nil || name == "" {
		return err
	}
	openings, _, err := kit.Fetch[apiclient.Opening](
		ctx,
		kit.Paging{Limit: 1, All: true},
		func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			return client.ListOpens(ctx, name, &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
		},
	)
	if err != nil {
		return err
	}
	for _, o := range openings {
		if _, there := out[o.Instance]; !there &&
			slices.Contains([]apiclient.Status{apiclient.StatusInPlace, apiclient.StatusUnswept}, o.Status) {
			out[o.Instance] = identity
		}
	}
	return nil
}
