// Package connect holds the commands of logging in: connect, the settings of ssh, and why a login is refused.
package connect

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

var ConnectCommands = []kit.Command{
	{
		Name: "connect", NoNames: true, Args: "INSTANCE|LOGIN [-- COMMAND ...]", Min: 1, Max: -1, Flags: connect,
		Summary: "Log in with ssh, or run one command there, with the pinned host key",
		Detail: `It runs ssh on this machine. The host key is checked against the pinned ones under the
instance's name, so ssh asks nothing, even after the address has changed. The private
key is one on this machine or in the ssh-agent that opens the login. Its exit status is
that of ssh. -windows lists the same facts, for clients that read .ppk files.`,
		Examples: []string{
			"plumlatch connect atlas-web-1",
			"plumlatch connect root@gateway-1 -with ~/.ssh/oona",
			"plumlatch connect atlas-web-1 -- uptime",
			"plumlatch connect atlas-web-1 -sftp",
			"plumlatch connect atlas-web-1 -print scp",
			"plumlatch connect office-windows -windows",
		},
	},
	sshConfigCommand,
}

// knownHosts is the pinned host keys of an instance under its name.
func knownHosts(i apiclient.Instance) string {
	var b strings.Builder
	for _, h := range i.Connection.HostKeys {
		fmt.Fprintf(&b, "%s %s\n", i.Name, h.PublicKey)
	}
	return b.String()
}

// wayIn is how to log in somewhere with OpenSSH's clients.
type wayIn struct {
	name       string // under which its host keys are pinned
	connection apiclient.Connection
	identity   string // the file for -i
	pins       string // the file with the pinned host keys
	config     string // the file with the settings, where jump hosts are on the way; "" for straight
}

// clients are the programs of OpenSSH that can be run or printed.
var clients = []string{"ssh", "sftp", "scp"}

// words are the command line of one of the clients. For scp it is up to what is copied.
func (w wayIn) words(program string) []string {
	if w.config != "" {
		if program == "scp" {
			return []string{program, "-F", w.config, "--", "FILE", w.name + ":"}
		}
		return []string{program, "-F", w.config, "--", w.name}
	}
	port := "-P"
	if program == "ssh" {
		port = "-p"
	}
	target := w.connection.User + "@" + w.connection.Address
	if program != "ssh" && strings.Contains(w.connection.Address, ":") {
		target = w.connection.User + "@[" + w.connection.Address + "]"
	}
	words := []string{
		program, "-i", w.identity, "-o", "IdentitiesOnly=yes", "-o", "HostKeyAlias=" + w.name,
		"-o", "UserKnownHostsFile=" + w.pins, "-o", "StrictHostKeyChecking=yes",
		port, fmt.Sprint(w.connection.Port),
	}
	if program == "scp" {
		return append(words, "--", "FILE", target+":")
	}
	return append(words, "--", target) // so that nothing after it is taken for an option
}

func connect(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var held kit.AgentFlags
	held.Flags(f)
	with := f.String("with", "", "`file` with the private key; a matching one on this machine unless given")
	sftp := f.Bool("sftp", false, "run sftp instead of ssh, for files")
	print := f.String("print", "", "print the command line instead of running it: `ssh`, sftp or scp")
	windows := f.Bool("windows", false, "list the facts to enter, for clients that read .ppk files")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		switch {
		case *print != "" && !slices.Contains(clients, *print):
			return kit.Usage(fmt.Sprintf("-print is %s, not %q", strings.Join(clients, ", "), *print))
		case len(args) > 1 && (*sftp || *print != "" || *windows):
			return kit.Usage("a COMMAND goes with none of -sftp, -print and -windows")
		case held.Use && *with != "":
			return kit.Usage("-with and -agent exclude each other")
		}
		if err := held.Check(); err != nil {
			return err
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		w, openers, err := wayTo(s, ctx, client, args[0])
		if err != nil {
			return err
		}
		if w.identity = *with; w.identity == "" {
			w.identity, err = s.Identity(openers, held)
		}
		if err != nil && !*windows {
			return err
		}
		if w.identity == "" && !*windows {
			return kit.NoPrivateKey("that opens " + args[0])
		}
		if len(kit.Given(w.connection.Via)) > 0 && !*windows {
			if err := w.throughHops(s, ctx, client); err != nil {
				return err
			}
		}
		if *windows {
			tellWindows(s, w, w.identity)
			return nil
		}
		program := "ssh"
		if *sftp {
			program = "sftp"
		}
		switch {
		case s.Json:
			return s.WriteJSON(struct {
				Command    []string `json:"command"`
				KnownHosts string   `json:"known_hosts"`
			}{w.words(cmp.Or(*print, program)), w.pins})
		case *print != "":
			words := w.words(*print)
			for n, w := range words {
				words[n] = kit.ShellWord(w)
			}
			_, err := fmt.Fprintln(s.Env.Out, strings.Join(words, " "))
			return err
		}
		path, err := exec.LookPath(program)
		if err != nil {
			return kit.Missing("no-"+program, program+" is not on this machine", "Install the OpenSSH client")
		}
		words := w.words(program)
		if len(args) > 1 {
			words = append(words, args[1:]...)
		}
		return syscall.Exec(path, words, os.Environ())
	}
}

// wayTo returns the way to an instance or a login, with its host keys pinned in a file, and what opens it.
func wayTo(
	s *kit.Session, ctx context.Context, client *apiclient.Client, name string,
) (wayIn, []apiclient.Opening, error) {
	var w wayIn
	_, instance, isLogin := strings.Cut(name, "@")
	if !isLogin {
		instance = name
	}
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return w, nil, err
	}
	if i.State != apiclient.InstanceStateRunning {
		remedy := "Start it: plumlatch instance start " + i.Name
		if i.State == apiclient.InstanceStateLaunching || i.State == apiclient.InstanceStateStarting {
			remedy = "Wait for it: plumlatch run watch " + i.Name
		}
		return w, nil, kit.Conflict("wrong-state", fmt.Sprintf("%s is %s", i.Name, i.State), remedy)
	}
	w.name, w.connection = i.Name, i.Connection
	var openers []apiclient.Opening
	if isLogin {
		l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, name))
		if err != nil {
			return w, nil, err
		}
		w.connection, openers = l.Connection, l.Openers
	} else {
		l, err := kit.Answer[apiclient.OpeningPage](
			client.ListOpeners(ctx, i.Name, &apiclient.ListOpenersParams{Limit: new(kit.PageSize)}),
		)
		if err != nil {
			return w, nil, err
		}
		openers = l.Items
	}
	dir, err := s.ConfigDir()
	if err != nil {
		return w, nil, err
	}
	w.pins = filepath.Join(dir, "known_hosts.d", i.Name)
	return w, openers, kit.WriteWhole(w.pins, knownHosts(i))
}

// throughHops writes the settings by which ssh passes through the jump hosts. Yours are read after them.
func (w *wayIn) throughHops(s *kit.Session, ctx context.Context, client *apiclient.Client) error {
	entry := hostEntry{
		name: w.name, user: w.connection.User, address: w.connection.Address, port: w.connection.Port,
		identity: w.identity, pins: w.pins, jump: jumpList(w.connection),
	}
	config, pins := entry.text(), knownHosts(apiclient.Instance{Name: w.name, Connection: w.connection})
	for _, h := range kit.Given(w.connection.Via) {
		identity, err := s.HopIdentity(ctx, client, h.Instance)
		if err != nil {
			return err
		}
		if identity == "" {
			identity = w.identity
		}
		config += hopEntry(h, identity, w.pins).text()
		pins += knownHosts(hopInstance(h))
	}
	if own := filepath.Join(s.Env.Getenv("HOME"), ".ssh", "config"); fileThere(own) {
		config += "\nHost *\n  Include " + configWord(own) + "\n"
	}
	w.config = strings.TrimSuffix(w.pins, w.name) + w.name + ".config"
	return errors.Join(kit.WriteWhole(w.pins, pins), kit.WriteWhole(w.config, config))
}

func fileThere(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

// tellWindows says what a client with a form for each field wants to know.
func tellWindows(s *kit.Session, w wayIn, file string) {
	key := "the .ppk file of your private key"
	if file != "" && !strings.HasSuffix(file, ".ppk") {
		key = fmt.Sprintf("make it: plumlatch key convert %s -to ppk3 -out %s.ppk", s.Shown(file), w.name)
	}
	if strings.HasSuffix(file, ".ppk") {
		key = file
	}
	s.Facts(
		"Host name", w.connection.Address, "Port", fmt.Sprint(w.connection.Port), "User name", w.connection.User,
		"Private key file", key, "By way of", strings.ReplaceAll(jumpList(w.connection), ",", ", then "),
	)
	fmt.Fprintln(
		s.Env.Out, "\nAt the first connection the client shows the host key's fingerprint. It must be one of these:",
	)
	for _, h := range w.connection.HostKeys {
		fmt.Fprintf(s.Env.Out, "  %s  %s\n", h.Sha256, h.Algorithm)
	}
}
