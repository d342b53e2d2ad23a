// Package cli is the client, plumlatch: it finds the command, reads its flags, and says what came of it. The
// commands are in the packages below, by subject, over package kit. Key material is made and kept on the
// engineer's machine; only public keys are sent.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/charters"
	"plumlatch/internal/cli/clouds"
	"plumlatch/internal/cli/connect"
	"plumlatch/internal/cli/fleet"
	"plumlatch/internal/cli/grants"
	"plumlatch/internal/cli/journal"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/cli/offline"
	"plumlatch/internal/cli/people"
	"plumlatch/internal/cli/restore"
	"plumlatch/internal/cli/rotate"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
)

// group is commands that are listed under one heading.
type group struct {
	heading  string
	commands []kit.Command
}

func groups() []group {
	return []group{
		{"Keys", keys.KeyCommands},
		{"Key files on this machine, without a service", offline.OfflineCommands},
		{
			"Which key opens what, and how safe each login is",
			slices.Concat(
				access.OpeningCommands,
				access.ReportCommands,
				access.HolderCommands,
				keys.TraceCommands,
				access.GlanceCommands,
				access.ReachCommands,
				access.MapCommands,
				access.SweepCommands,
			),
		},
		{
			"Granting access and proving keys",
			slices.Concat(grants.GrantCommands, grants.SettleCommands, grants.WayCommands, grants.ProveCommands),
		},
		{"Access as a file", charters.Commands()},
		{"Replacing keys", slices.Concat(rotate.RotateCommands, rotate.RuleCommands)},
		{"Logging in", slices.Concat(connect.ConnectCommands, connect.WhyCommands, connect.VisitCommands)},
		{"Getting back in after a lost key", restore.RestoreCommands},
		{"Clouds", clouds.CloudCommands},
		{"Instances", slices.Concat(
			fleet.InstanceCommands,
			clouds.BringInCommands, clouds.KeyCommands,
			fleet.JumpCommands,
			fleet.HostKeyCommands,
			restore.PasswordCommands,
			fleet.AdoptCommands,
		)},
		{
			"Work in progress and the daybook",
			slices.Concat(journal.RunCommands, journal.DaybookCommands, journal.SubscriberCommands),
		},
		{"Holders, consent and the safe", keys.CustodyCommands},
		{"People and tokens", slices.Concat(
			people.PeopleCommands, people.OperatorCommands, people.PasskeyCommands, people.MailCommands,
		)},
		{"About this client", aboutCommands()},
	}
}

func commands() []kit.Command {
	var all []kit.Command
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	return all
}

// Run carries out the command line and returns the exit status.
func Run(ctx context.Context, args []string, env kit.Env) int {
	err := run(ctx, args, env)
	var quiet *kit.QuietError
	switch {
	case err == nil || errors.As(err, &quiet):
	case slices.ContainsFunc(args, func(a string) bool { return strings.TrimLeft(a, "-") == "json" && a != "json" }):
		kit.WriteProblem(env.Err, err)
	case kit.Status(err) == kit.ExitUsage:
		fmt.Fprintln(env.Err, "plumlatch:", text.PlainLines(err.Error()))
	default:
		kit.WriteError(env.Err, err)
	}
	return kit.Status(err)
}

func run(ctx context.Context, args []string, env kit.Env) (err error) {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		return help(env, args[min(len(args), 1):])
	}
	if args[0] == "-version" || args[0] == "--version" {
		args[0] = "version"
	}
	if args[0] == "candidates" { // of the completion of a shell, and in no list
		return candidates(ctx, env, args[1:])
	}
	c, rest, err := find(args)
	if err != nil {
		return err
	}
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	s := &kit.Session{Env: env}
	s.Flags(fs)
	do := c.Flags(fs)
	positional, err := parse(fs, rest)
	if errors.Is(err, flag.ErrHelp) {
		writeHelp(env.Out, c)
		return nil
	}
	if err != nil {
		return kit.Usage(fmt.Sprintf("%s: %v\nSee: plumlatch help %s", c.Name, err, c.Name))
	}
	if len(positional) < c.Min || c.Max >= 0 && len(positional) > c.Max {
		return kit.Usage(fmt.Sprintf("%s: %s\nUsage: plumlatch %s %s", c.Name, countProblem(c, positional), c.Name, c.Args))
	}
	if s.Quiet && c.NoNames {
		return kit.Usage(fmt.Sprintf("%s: -q writes only names, and here are none; use -json", c.Name))
	}
	if pager := kit.NewPager(env, shows(c) && !s.NoPager && !s.Json); pager != nil {
		s.Env.Out = pager
		defer func() { err = errors.Join(err, pager.Close()) }()
	}
	if err := do(ctx, s, positional); err != nil {
		return s.DidYouMean(ctx, err)
	}
	return s.Fault()
}

// shows reports whether a command only shows what there is, so that a pager may hold it until it is whole.
func shows(c kit.Command) bool {
	words := strings.Fields(c.Name)
	return slices.Contains([]string{
		"list", "show", "history", "report", "plan", "routes", "rehearse", "map", "due", "asked", "loss", "reach",
		"openers", "opens", "find", "trace", "hand-overs", "inspect", "reference",
	}, words[len(words)-1])
}

func countProblem(c kit.Command, given []string) string {
	if len(given) < c.Min {
		return "an argument is missing"
	}
	return fmt.Sprintf("%q is one argument too many", given[c.Max])
}

// find takes the words of a command off the front of args.
func find(args []string) (kit.Command, []string, error) {
	for _, n := range []int{2, 1} {
		if len(args) < n {
			continue
		}
		name := strings.Join(args[:n], " ")
		for _, c := range commands() {
			if c.Name == name {
				return c, args[n:], nil
			}
		}
	}
	var actions []string
	for _, c := range commands() {
		if thing, action, ok := strings.Cut(c.Name, " "); ok && thing == args[0] {
			actions = append(actions, action)
		}
	}
	if len(actions) > 0 {
		if len(args) > 1 && !strings.HasPrefix(args[1], "-") {
			if meant := name.Nearest(args[1], actions); len(meant) > 0 {
				return kit.Command{}, nil, kit.Usage(
					fmt.Sprintf("there is no command %q\nDid you mean: plumlatch %s %s", args[0]+" "+args[1], args[0], meant[0]),
				)
			}
		}
		return kit.Command{}, nil, kit.Usage(
			fmt.Sprintf("say what to do with a %s: %s\nSee: plumlatch help %s", args[0], strings.Join(actions, ", "), args[0]),
		)
	}
	return kit.Command{}, nil, noCommand(args)
}

// noCommand is the failure of a command that is not there, with those that may be meant.
func noCommand(words []string) error {
	typed := strings.Join(words[:min(2, len(words))], " ")
	var meant []string
	if len(words) > 1 { // such as list keys
		for _, c := range commands() {
			if c.Name == words[1]+" "+words[0] || c.Name == strings.TrimSuffix(words[1], "s")+" "+words[0] {
				meant = append(meant, c.Name)
			}
		}
	}
	var names []string
	for _, c := range commands() {
		names = append(names, c.Name)
	}
	things, _ := things()
	meant = append(meant, name.Nearest(typed, names)...)
	meant = append(meant, name.Nearest(words[0], things)...)
	see := "See: plumlatch help"
	if len(meant) > 0 {
		see = "Did you mean: plumlatch " + strings.Join(slices.Compact(meant[:min(3, len(meant))]), ", plumlatch ")
	}
	return kit.Usage(fmt.Sprintf("there is no command %q\n%s", typed, see))
}

// parse takes flags before, between and after the arguments.
func parse(fs *flag.FlagSet, args []string) ([]string, error) {
	var positional []string
	for {
		if err := fs.Parse(args); err != nil {
			return nil, err
		}
		if fs.NArg() == 0 {
			return positional, nil
		}
		if rest := fs.Args(); len(args) > len(rest) && args[len(args)-len(rest)-1] == "--" {
			return append(positional, rest...), nil
		}
		positional = append(positional, fs.Arg(0))
		args = fs.Args()[1:]
	}
}
