package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// aboutCommands are about the client itself. They are a function since they list all
// commands, themselves among them.
func aboutCommands() []kit.Command {
	return []kit.Command{
		{
			Name: "completion", NoNames: true,
			Args:    "SHELL",
			Min:     1,
			Max:     1,
			Flags:   completion,
			Summary: "Print a shell completion script for bash, zsh or fish",
			Examples: []string{
				"source <(plumlatch completion bash)",
				"plumlatch completion zsh > ~/.zfunc/_plumlatch",
				"plumlatch completion fish > ~/.config/fish/completions/plumlatch.fish",
			},
		},
		{
			Name: "version", NoNames: true,
			Flags:    version,
			Summary:  "Show the version of this client",
			Examples: []string{"plumlatch version", "plumlatch version -json"},
		},
		{
			Name: "reference", NoNames: true,
			Flags:    reference,
			Summary:  "Write the reference of every command as Markdown",
			Examples: []string{"plumlatch reference > reference.md"},
		},
		{
			Name:     "manual",
			Args:     "DIR",
			Min:      1,
			Max:      1,
			Flags:    manual,
			Summary:  "Write a manual page for every command into a folder",
			Examples: []string{"plumlatch manual ./man1"},
		},
	}
}

// flagsOf returns the flags of a command, those of every command among them, by name.
func flagsOf(c kit.Command) []*flag.Flag {
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	(&kit.Session{}).Flags(fs)
	c.Flags(fs)
	var out []*flag.Flag
	fs.VisitAll(func(f *flag.Flag) { out = append(out, f) })
	return out
}

// things are the first words of all commands with the second words of each; a command of
// one word has "" among them.
func things() (names []string, actions map[string][]string) {
	actions = map[string][]string{}
	for _, c := range commands() {
		thing, action, _ := strings.Cut(c.Name, " ")
		if !slices.Contains(names, thing) {
			names = append(names, thing)
		}
		actions[thing] = append(actions[thing], action)
	}
	slices.Sort(names)
	return names, actions
}

func completion(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, args []string) error {
		write := map[string]func() string{"bash": bashCompletion, "zsh": zshCompletion, "fish": fishCompletion}[args[0]]
		if write == nil {
			return kit.Usage(fmt.Sprintf("there is no completion for %q: bash, zsh or fish", args[0]))
		}
		_, err := fmt.Fprint(s.Env.Out, write())
		return err
	}
}

// wordCases writes the cases of a shell's case statement: what may follow the first word, and
// which flags a command has.
func wordCases(line string) string {
	var b strings.Builder
	names, actions := things()
	for _, thing := range names {
		if list := strings.TrimSpace(strings.Join(actions[thing], " ")); list != "" {
			fmt.Fprintf(&b, line, thing, list)
		}
	}
	return b.String()
}

func flagCases(line string) string {
	var b strings.Builder
	for _, c := range commands() {
		var flags []string
		for _, f := range flagsOf(c) {
			flags = append(flags, "-"+f.Name)
		}
		fmt.Fprintf(&b, line, c.Name, strings.Join(flags, " "))
	}
	return b.String()
}

func bashCompletion() string {
	names, _ := things()
	return `# Completes plumlatch in bash: source <(plumlatch completion bash)
_plumlatch() {
	local cur=${COMP_WORDS[COMP_CWORD]} first=${COMP_WORDS[1]:-} words=
	if [ "$COMP_CWORD" = 1 ]; then
		words="help version ` + strings.Join(names, " ") + `"
	elif [ "${cur:0:1}" = - ]; then
		case "$first ${COMP_WORDS[2]:-}" in
` + flagCases("\t\t\"%s\"*) words=\"%s\" ;;\n") + `		esac
	elif [ "$COMP_CWORD" = 2 ]; then
		case "$first" in
` + wordCases("\t\t%s) words=\"%s\" ;;\n") + `		esac
	fi
	COMPREPLY=($(compgen -W "$words" -- "$cur"))
	[ ${#COMPREPLY[@]} -gt 0 ] || COMPREPLY=($(compgen -f -- "$cur"))
}
complete -F _plumlatch plumlatch
`
}

func zshCompletion() string {
	names, _ := things()
	return `#compdef plumlatch
# Completes plumlatch in zsh: put it as _plumlatch into a folder of $fpath.
local -a candidates
if (( CURRENT == 2 )); then
	candidates=(help version ` + strings.Join(names, " ") + `)
elif [[ $words[CURRENT] == -* ]]; then
	case "$words[2] $words[3]" in
` + flagCases("\t\"%s\"*) candidates=(%s) ;;\n") + `	esac
elif (( CURRENT == 3 )); then
	case $words[2] in
` + wordCases("\t%s) candidates=(%s) ;;\n") + `	esac
fi
(( $#candidates )) && compadd -- $candidates || _files
`
}

func fishCompletion() string {
	var b strings.Builder
	b.WriteString("# Completes plumlatch in fish.\n")
	quote := func(s string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(s) + "'"
	}
	names, actions := things()
	for _, thing := range names {
		fmt.Fprintf(&b, "complete -c plumlatch -n __fish_use_subcommand -f -a %s\n", thing)
		for _, action := range actions[thing] {
			if action == "" {
				continue
			}
			c, _, err := find([]string{thing, action})
			if err != nil {
				continue // a name that is not there is never listed
			}
			fmt.Fprintf(
				&b,
				"complete -c plumlatch -n '__fish_seen_subcommand_from %s; "+
					"and test (count (commandline -opc)) = 2' -f -a %s -d %s\n",
				thing,
				action,
				quote(c.Summary),
			)
		}
	}
	for _, c := range commands() {
		seen := "__fish_seen_subcommand_from " + strings.ReplaceAll(c.Name, " ", "; and __fish_seen_subcommand_from ")
		for _, f := range flagsOf(c) {
			_, usage := flag.UnquoteUsage(f)
			fmt.Fprintf(&b, "complete -c plumlatch -n '%s' -o %s -d %s\n", seen, f.Name, quote(usage))
		}
	}
	return b.String()
}

// reference writes all commands as Markdown, under the headings of the help.
func reference(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, _ []string) error {
		_, err := fmt.Fprint(s.Env.Out, Reference())
		return err
	}
}

// Reference is every command of the client as Markdown.
func Reference() string {
	var b strings.Builder
	b.WriteString(
		"# The client's commands\n\nThis page is made from the code: `plumlatch reference`. The same is told by `plumlatch " +
			"help COMMAND`, and by manual\npages that `plumlatch manual DIR` writes.\n\nEvery command takes `-json` (for " +
			"programs: see [programs.md](programs.md)), `-q` (only\nnames), `-wide` (all columns " +
			"in full), `-columns name,state` (these columns), `-server URL` and\n`-token-file FILE`. Exit " +
			"status: 0 done, 1 failed, 2 wrong usage, 3 the answer is \"not as it\nshould be\".\n",
	)
	for _, g := range groups() {
		fmt.Fprintf(&b, "\n## %s\n", g.heading)
		for _, c := range g.commands {
			fmt.Fprintf(&b, "\n### %s\n\n%s.", c.Name, c.Summary)
			if c.Detail != "" {
				fmt.Fprintf(&b, " %s", strings.ReplaceAll(c.Detail, "\n", " "))
			}
			fmt.Fprintf(&b, "\n\n    %s\n", strings.TrimSpace("plumlatch "+c.Name+" "+c.Args))
			writeFlagTable(&b, c)
			b.WriteString("\nExamples:\n\n")
			for _, e := range c.Examples {
				fmt.Fprintf(&b, "    %s\n", e)
			}
		}
	}
	return b.String()
}

// everyFlag are those that each command has.
var everyFlag = []string{"json", "q", "server", "token-file", "wide", "columns"}

func writeFlagTable(b *strings.Builder, c kit.Command) {
	first := true
	for _, f := range flagsOf(c) {
		if slices.Contains(everyFlag, f.Name) {
			continue
		}
		if first {
			b.WriteString("\n| flag | |\n| --- | --- |\n")
			first = false
		}
		value, usage := flag.UnquoteUsage(f)
		fmt.Fprintf(
			b, "| `%s` | %s%s |\n", strings.TrimSpace("-"+f.Name+" "+value), strings.ReplaceAll(usage, "|", `\|`),
			defaultText(f),
		)
	}
}

func defaultText(f *flag.Flag) string {
	switch f.DefValue {
	case "", "false", "0", "0s":
		return ""
	}
	return fmt.Sprintf("; `%s` unless given", f.DefValue)
}

// manual writes a page for each command in the man macros.
func manual(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, args []string) error {
		if err := os.MkdirAll(args[0], 0o755); err != nil {
			return err
		}
		for _, c := range commands() {
			name := "plumlatch-" + strings.ReplaceAll(c.Name, " ", "-")
			if err := os.WriteFile(filepath.Join(args[0], name+".1"), []byte(manPage(name, c)), 0o644); err != nil {
				return err
			}
		}
		keys.Say(s,
			"%s in %s. Read one: man %s",
			text.Counted(len(commands()), "manual page"),
			args[0],
			filepath.Join(args[0], "plumlatch-reach.1"),
		)
		return nil
	}
}

// roff writes a text so that nothing in it is taken for a request or an escape.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s)
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

func manPage(name string, c kit.Command) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		".TH %s 1 \"\" \"Plum Latch\" \"Plum Latch\"\n.SH NAME\n%s \\- %s\n.SH SYNOPSIS\n.B plumlatch %s\n[flags] %s\n",
		strings.ToUpper(name), roff(name), roff(c.Summary), roff(c.Name), roff(c.Args),
	)
	if c.Detail != "" {
		fmt.Fprintf(&b, ".SH DESCRIPTION\n%s\n", roff(c.Detail))
	}
	b.WriteString(".SH FLAGS\n")
	for _, f := range flagsOf(c) {
		value, usage := flag.UnquoteUsage(f)
		fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff(strings.TrimSpace("-"+f.Name+" "+value)), roff(usage))
	}
	b.WriteString(".SH EXAMPLES\n.nf\n")
	for _, e := range c.Examples {
		b.WriteString(roff(e) + "\n")
	}
	b.WriteString(".fi\n.SH EXIT STATUS\n0 done, 1 failed, 2 wrong usage, 3 the answer is \"not as it should be\".\n")
	return b.String()
}

func version(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(_ context.Context, s *kit.Session, _ []string) error {
		if s.Json {
			return s.WriteJSON(struct {
				Version string `json:"version"`
			}{kit.Version})
		}
		_, err := fmt.Fprintln(s.Env.Out, "plumlatch", kit.Version)
		return err
	}
}
