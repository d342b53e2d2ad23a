package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
)

// The exit statuses.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	// exitNotAsItShould is for scripts: the answer is that something is not as
	// it should be.
	exitNotAsItShould = 3
)

// Version is what the client calls itself.
var Version = "dev"

// Env is the world of one invocation.
type Env struct {
	In       *os.File
	Out, Err io.Writer
	Getenv   func(string) string
}

// command is one action on a thing.
type command struct {
	name     string // such as "key new"
	args     string // such as "NAME"
	summary  string
	detail   string
	examples []string
	min, max int // how many arguments; max -1 is any number
	// flags adds the command's flags and returns what it does with them.
	flags func(*flag.FlagSet) func(context.Context, *session, []string) error
}

// group is commands that are listed under one heading.
type group struct {
	heading  string
	commands []command
}

// usageError is an error about how the command was written.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

// quietError ends with a status after everything has been said.
type quietError struct{ status int }

func (e *quietError) Error() string { return "" }

// labels is a flag that can be given several times, as name=value.
type labels map[string]string

func (l labels) String() string { return "" }

func (l labels) Set(s string) error {
	name, value, ok := strings.Cut(s, "=")
	if !ok || name == "" {
		return fmt.Errorf("a label is written name=value, not %q", s)
	}
	l[name] = value
	return nil
}

// names is a flag that can be given several times.
type names []string

func (n *names) String() string { return strings.Join(*n, ",") }

func (n *names) Set(s string) error {
	*n = append(*n, s)
	return nil
}
