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
		write := map[string]func() string{
			"bash": bashCompletion, "zsh": zshCompletion, "fish": fishCompletion}[args[0]]
		if write == nil {
			return kit.Usage(fmt.Sprintf("there is no completion for %q: bash, zsh or fish", args[0]))
		}
		_, err := fmt.Fprint(s.Env.Out, write())
		return err
	}
}

// The scripts ask the client itself what a word may become: it knows its commands and flags, and asks the
// service for names. Where it has nothing to say, a file is completed.

func bashCompletion() string {
	return `# Completes plumlatch in bash: source <(plumlatch completion bash)
_plumlatch() {
	local typed=${COMP_LINE:0:COMP_POINT} cur keep
	local -a before
	read -ra before <<<"$typed"
	if [[ $typed == *[[:space:]] ]]; then
		cur=
	else
		cur=${before[-1]}
		unset 'before[-1]'
	fi
	mapfile -t COMPREPLY < <(plumlatch candidates "${before[@]:1}" "$cur" 2>/dev/null)
	if [ ${#COMPREPLY[@]} -eq 0 ]; then
		mapfile -t COMPREPLY < <(compgen -f -- "$cur")
		compopt -o filenames
	fi
	keep=${cur%"${cur##*[@:=]}"} # what bash takes for words before this one
	COMPREPLY=("${COMPREPLY[@]#"$keep"}")
}
complete -F _plumlatch plumlatch
`
}

func zshCompletion() string {
	return `#compdef plumlatch
# Completes plumlatch in zsh: put it as _plumlatch into a folder of $fpath, or: source <(plumlatch completion zsh)
_plumlatch() {
	local -a found
	found=("${(@f)$(plumlatch candidates "${(@)words[2,CURRENT-1]}" "${words[CURRENT]}" 2>/dev/null)}")
	found=(${found:#})
	(( $#found )) && compadd -- $found || _files
}
compdef _plumlatch plumlatch
`
}

func fishCompletion() string {
	return `# Completes plumlatch in fish.
function __plumlatch_words
	set -l found (plumlatch candidates (commandline -opc)[2..-1] (commandline -ct) 2>/dev/null)
	if test (count $found) -gt 0
		printf '%s\n' $found
	else
		__fish_complete_path (commandline -ct)
	end
end
complete -c plumlatch -f -a '(__plumlatch_words)'
`
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
			"in full), `-columns name,state` (these columns), `-no-pager`, `-server URL` and\n`-token-file FILE`. Exit " +
			"status: see [programs.md](programs.md).\n",
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

// exitStatuses are what the statuses of every command mean, from 0 on.
var exitStatuses = []string{
	"done, or as it should be", "failed", "wrong usage", "the answer is \"not as it should be\"", "there is no such thing",
	"refused by a rule or a right", "it conflicts with what is there", "the service or a cloud cannot be reached",
}

// everyFlag are those that each command has.
var everyFlag = []string{"json", "q", "server", "token-file", "wide", "columns", "no-pager"}

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
		value, usage := valueOf(f)
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
		value, usage := valueOf(f)
		fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff(strings.TrimSpace("-"+f.Name+" "+value)), roff(usage))
	}
	b.WriteString(".SH EXAMPLES\n.nf\n")
	for _, e := range c.Examples {
		b.WriteString(roff(e) + "\n")
	}
	b.WriteString(".fi\n.SH EXIT STATUS\n")
	for n, what := range exitStatuses {
		fmt.Fprintf(&b, ".TP\n.B %d\n%s\n", n, roff(what))
	}
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
