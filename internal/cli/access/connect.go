package access

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
)

var ConnectCommands = []kit.Command{
	{
		Name: "connect", Args: "INSTANCE", Min: 1, Max: 1, Flags: connect,
		Summary: "Print or run the ssh command for an instance, with its pinned host key",
		Detail: `The host key is checked against the pinned ones under the instance's name, so that ssh asks
nothing, also after the address has changed. -windows tells the same in words, for clients
that read .ppk files.`,
		Examples: []string{
			"plumlatch connect atlas-web-1",
			"plumlatch connect tide-gauge-1 -with ~/.ssh/oona -run",
			"plumlatch connect office-windows -windows",
		},
	},
	{
		Name: "ssh-config", Flags: sshConfig,
		Summary: "Write an OpenSSH client config and known_hosts for all that you can open from here",
		Detail: `It looks which private keys are on this machine (~/.ssh and PLUMLATCH_KEYS) and writes one
Host entry for each instance that they open, with pinned host keys. Include the file it
names at the top of ~/.ssh/config.`,
		Examples: []string{"plumlatch ssh-config", "plumlatch ssh-config -label team=atlas"},
	},
}

// knownHosts is the pinned host keys of an instance under its name.
func knownHosts(i apiclient.Instance) string {
	var b strings.Builder
	for _, h := range i.Connection.HostKeys {
		fmt.Fprintf(&b, "%s %s\n", i.Name, h.PublicKey)
	}
	return b.String()
}

// WriteWhole writes a file with mode 0600, whole or not at all.
func WriteWhole(path, text string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".plumlatch-*")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	_, err = temp.WriteString(text)
	if err := errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return err
	}
	return os.Rename(temp.Name(), path)
}

func connect(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	with := f.String("with", "", "`file` with the private key; one that opens it is looked for unless given")
	run := f.Bool("run", false, "run ssh instead of printing the command")
	windows := f.Bool("windows", false, "tell it in words, for clients that read .ppk files")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		if i.State != apiclient.InstanceStateRunning {
			return kit.Conflict(
				"wrong-state", fmt.Sprintf("%s is %s", i.Name, i.State), "Start it: plumlatch instance start "+i.Name,
			)
		}
		if *with == "" {
			openers, err := kit.Answer[apiclient.OpeningPage](
				client.ListOpeners(ctx, i.Name, &apiclient.ListOpenersParams{Limit: new(kit.PageSize)}),
			)
			if err != nil {
				return err
			}
			if *with = s.FileFor(openers.Items); *with == "" && !*windows {
				return noPrivateKey("that opens " + i.Name)
			}
		}
		if *windows {
			tellWindows(s, i, *with)
			return nil
		}
		dir, err := s.ConfigDir()
		if err != nil {
			return err
		}
		pins := filepath.Join(dir, "known_hosts.d", i.Name)
		if err := WriteWhole(pins, knownHosts(i)); err != nil {
			return err
		}
		words := []string{
			"ssh",
			"-i",
			*with,
			"-o",
			"IdentitiesOnly=yes",
			"-o",
			"HostKeyAlias=" + i.Name,
			"-o",
			"UserKnownHostsFile=" + pins,
			"-o",
			"StrictHostKeyChecking=yes",
			"-p",
			fmt.Sprint(i.Connection.Port),
			i.Connection.User + "@" + i.Connection.Address,
		}
		if *run {
			program, err := exec.LookPath("ssh")
			if err != nil {
				return fmt.Errorf("ssh is not on this machine: %w", err)
			}
			return syscall.Exec(program, words, os.Environ())
		}
		if s.Json {
			return s.WriteJSON(struct {
				Command    []string `json:"command"`
				KnownHosts string   `json:"known_hosts"`
			}{words, pins})
		}
		for n, w := range words {
			words[n] = kit.ShellWord(w)
		}
		fmt.Fprintln(s.Env.Out, strings.Join(words, " "))
		return nil
	}
}

// tellWindows says what a client with a form for each field wants to know.
func tellWindows(s *kit.Session, i apiclient.Instance, file string) {
	key := "the .ppk file of your private key"
	if file != "" && !strings.HasSuffix(file, ".ppk") {
		key = fmt.Sprintf("make it: plumlatch key convert %s -to ppk3 -out %s.ppk", s.Shown(file), i.Name)
	}
	if strings.HasSuffix(file, ".ppk") {
		key = file
	}
	s.Facts(
		"Host name", i.Connection.Address, "Port", fmt.Sprint(i.Connection.Port), "User name", i.Connection.User,
		"Private key file", key,
	)
	fmt.Fprintln(
		s.Env.Out, "\nAt the first connection the client shows the host key's fingerprint. It must be one of these:",
	)
	for _, h := range i.Connection.HostKeys {
		fmt.Fprintf(s.Env.Out, "  %s  %s\n", h.Sha256, h.Algorithm)
	}
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
			"%d instances that you can open from here are in %s, with %d pinned host keys.\nPut this line at the top of "+
				"~/.ssh/config, once:\n\n  Include %s\n\nThen type: ssh NAME\n",
			c.instances,
			s.Shown(c.file),
			strings.Count(c.pins, "\n"),
			configWord(c.file),
		)
		return nil
	}
}

// sshConfigFiles are an OpenSSH client config and its known_hosts, as they are to be written.
type sshConfigFiles struct {
	file, pinsFile string
	config, pins   string
	instances      int
}

func (c sshConfigFiles) Write() error {
	return errors.Join(WriteWhole(c.pinsFile, c.pins), WriteWhole(c.file, c.config))
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
	fmt.Fprintln(&config, "# Written by plumlatch ssh-config; the next one replaces it.")
	for _, i := range instances {
		file := files[i.Name]
		if file == "" || i.Connection.Address == "" {
			continue
		}
		c.instances++
		fmt.Fprintf(
			&config,
			"\nHost %s\n  HostName %s\n  Port %d\n  User %s\n  IdentityFile %s\n  IdentitiesOnly yes\n  HostKeyAlias %s\n  "+
				"UserKnownHostsFile %s\n  StrictHostKeyChecking yes\n",
			i.Name,
			i.Connection.Address,
			i.Connection.Port,
			i.Connection.User,
			configWord(file),
			i.Name,
			configWord(c.pinsFile),
		)
		pins.WriteString(knownHosts(i))
	}
	c.config, c.pins = config.String(), pins.String()
	return c, nil
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
			name, err := s.RecordOf(ctx, client, kit.AtHand{Public: k})
			if err != nil {
				return nil, err
			}
			if name == "" {
				continue
			}
			openings, _, err := kit.Fetch[apiclient.Opening](
				ctx,
				kit.Paging{Limit: 1, All: true},
				func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
					return client.ListOpens(ctx, name, &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
				},
			)
			if err != nil {
				return nil, err
			}
			for _, o := range openings {
				if _, there := out[o.Instance]; !there &&
					slices.Contains([]apiclient.Status{apiclient.StatusInPlace, apiclient.StatusUnswept}, o.Status) {
					out[o.Instance] = private
				}
			}
		}
	}
	return out, nil
}
