package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"

	"plumlatch/internal/cli/kit"
)

const helpHead = `Plum Latch: which key opens which login, and how to stay able to get in.

Usage: plumlatch THING ACTION [flags] [args]

`

const helpFoot = `
Every command takes -json, -q (only names), -wide, -columns a,b and -no-pager. The
service and the token come from flags, from PLUMLATCH_URL and PLUMLATCH_TOKEN, or
from sign-in. Exit statuses: plumlatch help statuses

One command with examples:  plumlatch help key new
Everything, one line each:  plumlatch help -all
What you want to do:        plumlatch help locked out of a server
`

func help(env kit.Env, words []string) (err error) {
	noPager := slices.Contains(words, "-no-pager")
	words = slices.DeleteFunc(slices.Clone(words), func(w string) bool { return w == "-no-pager" })
	if pager := kit.NewPager(env, !noPager); pager != nil {
		env.Out = pager
		defer func() { err = errors.Join(err, pager.Close()) }()
	}
	if len(words) == 0 {
		fmt.Fprint(env.Out, helpHead)
		for _, g := range groups() {
			writeGroup(env.Out, g)
		}
		fmt.Fprint(env.Out, helpFoot)
		return nil
	}
	if len(words) == 1 && words[0] == "statuses" {
		for n, what := range exitStatuses {
			fmt.Fprintf(env.Out, "%d  %s\n", n, what)
		}
		return nil
	}
	if words[0] == "-all" || words[0] == "--all" {
		for n, g := range groups() {
			if n > 0 {
				fmt.Fprintln(env.Out)
			}
			fmt.Fprintln(env.Out, g.heading)
			writeSummaries(env.Out, g.commands)
		}
		return nil
	}
	wanted := strings.Join(words, " ")
	var of []kit.Command
	for _, c := range commands() {
		if c.Name == wanted {
			writeHelp(env.Out, c)
			return nil
		}
		if strings.HasPrefix(c.Name, wanted+" ") {
			of = append(of, c)
		}
	}
	if len(of) == 0 && suggest(env.Out, words) {
		return nil
	}
	if len(of) == 0 {
		return kit.Missing(
			"no-such-command", fmt.Sprintf("nothing here fits %q", wanted), "See what there is: plumlatch help",
		)
	}
	writeSummaries(env.Out, of)
	fmt.Fprintln(env.Out, "\nExamples:")
	for _, c := range of {
		for _, e := range c.Examples {
			fmt.Fprintln(env.Out, "  "+e)
		}
	}
	return nil
}

// writeGroup writes the commands of a group by their things, in lines of at most 79 columns.
func writeGroup(w io.Writer, g group) {
	fmt.Fprintln(w, g.heading)
	var things []string
	actions := map[string][]string{}
	for _, c := range g.commands {
		thing, action, _ := strings.Cut(c.Name, " ")
		if _, there := actions[thing]; !there {
			things = append(things, thing)
		}
		actions[thing] = append(actions[thing], action)
	}
	line := ""
	for _, thing := range things {
		words := strings.TrimSpace(thing + " " + strings.Join(actions[thing], ", "))
		words = strings.ReplaceAll(words, " , ", " or with ") // a thing that is a command by itself, too
		if line != "" && len(line)+3+len(words) <= overviewWidth {
			line += "   " + words
			continue
		}
		writeFolded(w, line)
		line = words
	}
	writeFolded(w, line)
}

// overviewWidth is how many columns the overview has, of a terminal of 80.
const overviewWidth = 76

// writeFolded writes a line, folded at blanks where it is too long.
func writeFolded(w io.Writer, line string) {
	indent := "  "
	for len(line) > overviewWidth {
		at := strings.LastIndexByte(line[:overviewWidth], ' ')
		fmt.Fprintln(w, indent+line[:at])
		line, indent = line[at+1:], "    "
	}
	if line != "" {
		fmt.Fprintln(w, indent+line)
	}
}

// writeSummaries writes one line for each command, all aligned alike.
func writeSummaries(w io.Writer, of []kit.Command) {
	const width = 24
	for _, c := range of {
		fmt.Fprintf(w, "  %-*s  %s\n", width, strings.TrimSpace(c.Name+" "+c.Args), c.Summary)
	}
}

func writeHelp(w io.Writer, c kit.Command) {
	fmt.Fprintf(w, "%s.\n\nUsage: plumlatch %s %s\n", c.Summary, c.Name, c.Args)
	if c.Detail != "" {
		fmt.Fprintf(w, "\n%s\n", c.Detail)
	}
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Flags(fs)
	t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	first := true
	fs.VisitAll(func(f *flag.Flag) {
		if first {
			fmt.Fprint(w, "\nFlags:\n")
			first = false
		}
		value, usage := valueOf(f)
		fmt.Fprintf(t, "  -%s %s\t%s\n", f.Name, value, usage)
	})
	t.Flush()
	if len(c.Examples) > 0 {
		fmt.Fprint(w, "\nExamples:\n")
		for _, e := range c.Examples {
			fmt.Fprintln(w, "  "+e)
		}
	}
}

// valueOf returns what a flag's value is called, and the flag's usage. What has no name of its own is called as the
// flag, in capitals.
func valueOf(f *flag.Flag) (value, usage string) {
	value, usage = flag.UnquoteUsage(f)
	if value == "value" || value == "string" || value == "int" {
		value = strings.ToUpper(f.Name)
	}
	return value, usage
}
