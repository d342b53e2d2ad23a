package cli

import (
	"flag"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"plumlatch/internal/cli/kit"
)

const helpHead = `Plum Latch: which key opens which login, and how to stay able to get in.

Usage: plumlatch THING ACTION [flags] [args]

`

const helpFoot = `
Flags go before or after the arguments. Every command takes -json (for programs)
and -q (only names). On a narrow terminal tables leave columns out and cut long
cells: -wide shows all, -columns name,state those that you name. The service and
the token come from -server and -token-file, then PLUMLATCH_URL and
PLUMLATCH_TOKEN, then what sign-in has kept.
More on one command, with examples: plumlatch help key new
Or say what you want: plumlatch help locked out of a server

Exit status: 0 done, 1 failed, 2 wrong usage, 3 the answer is "not as it should be".
`

func help(env kit.Env, words []string) error {
	if len(words) == 0 {
		fmt.Fprint(env.Out, helpHead)
		for n, g := range groups() {
			if n > 0 {
				fmt.Fprintln(env.Out)
			}
			fmt.Fprintln(env.Out, g.heading)
			writeSummaries(env.Out, g.commands)
		}
		fmt.Fprint(env.Out, helpFoot)
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
		value, usage := flag.UnquoteUsage(f)
		if value == "value" {
			value = strings.ToUpper(strings.TrimPrefix(f.Name, "-"))
		}
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
