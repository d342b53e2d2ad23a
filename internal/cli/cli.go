// Package cli holds the commands of the client, plumlatch. Key material is made
// and kept on the engineer's machine; only public halves are sent.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"plumlatch/internal/core/text"
)

func groups() []group {
	return []group{
		{"Keys", keyCommands},
		{"Key files on this machine, without a service", offlineCommands},
		{
			"Which key opens what, and how safe each login is",
			slices.Concat(openingCommands, traceCommands, reachCommands, mapCommands, sweepCommands),
		},
		{"Letting in, and proving", slices.Concat(grantCommands, settleCommands, proveCommands)},
		{"Replacing keys", slices.Concat(rotateCommands, ruleCommands)},
		{"Getting in", slices.Concat(connectCommands, whyCommands)},
		{"Getting back in, where the private key is lost", restoreCommands},
		{"Instances", slices.Concat(instanceCommands, passwordCommands, adoptCommands)},
		{"What is going on and what was done", slices.Concat(runCommands, daybookCommands, receiverCommands)},
		{"Who keeps what, and the safe", custodyCommands},
		{"People and tokens", slices.Concat(peopleCommands, operatorCommands)},
		{"About this client", aboutCommands()},
	}
}

func commands() []command {
	var all []command
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	return all
}

// Run carries out the command line and returns the exit status.
func Run(ctx context.Context, args []string, env Env) int {
	err := run(ctx, args, env)
	var usage *usageError
	var quiet *quietError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &quiet):
		return quiet.status
	}
	status := exitFailed
	if errors.As(err, &usage) {
		status = exitUsage
	}
	switch {
	case slices.ContainsFunc(args, func(a string) bool { return strings.TrimLeft(a, "-") == "json" && a != "json" }):
		writeProblem(env.Err, err)
	case status == exitUsage:
		fmt.Fprintln(env.Err, "plumlatch:", text.PlainLines(err.Error()))
	default:
		writeError(env.Err, err)
	}
	return status
}

func run(ctx context.Context, args []string, env Env) error {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		return help(env, args[min(len(args), 1):])
	}
	if args[0] == "version" || args[0] == "-version" || args[0] == "--version" {
		fmt.Fprintln(env.Out, "plumlatch", Version)
		return nil
	}
	c, rest, err := find(args)
	if err != nil {
		return err
	}
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	s := &session{env: env}
	s.flags(fs)
	do := c.flags(fs)
	positional, err := parse(fs, rest)
	if errors.Is(err, flag.ErrHelp) {
		writeHelp(env.Out, c)
		return nil
	}
	if err != nil {
		return &usageError{fmt.Sprintf("%s: %v\nSee: plumlatch help %s", c.name, err, c.name)}
	}
	if len(positional) < c.min || c.max >= 0 && len(positional) > c.max {
		return &usageError{fmt.Sprintf("%s: %s\nUsage: plumlatch %s %s", c.name, countProblem(c, positional), c.name, c.args)}
	}
	return do(ctx, s, positional)
}

func countProblem(c command, given []string) string {
	if len(given) < c.min {
		return "an argument is missing"
	}
	return fmt.Sprintf("%q is one argument too many", given[c.max])
}

// find takes the words of a command off the front of args.
func find(args []string) (command, []string, error) {
	for _, n := range []int{2, 1} {
		if len(args) < n {
			continue
		}
		name := strings.Join(args[:n], " ")
		for _, c := range commands() {
			if c.name == name {
				return c, args[n:], nil
			}
		}
	}
	var actions []string
	for _, c := range commands() {
		if thing, action, ok := strings.Cut(c.name, " "); ok && thing == args[0] {
			actions = append(actions, action)
		}
	}
	if len(actions) > 0 {
		return command{}, nil, &usageError{
			fmt.Sprintf("say what to do with a %s: %s\nSee: plumlatch help %s", args[0], strings.Join(actions, ", "), args[0]),
		}
	}
	return command{}, nil, &usageError{fmt.Sprintf("there is no command %q\nSee: plumlatch help", args[0])}
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
