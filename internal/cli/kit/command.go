package kit

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
)

// Version is what the client calls itself.
var Version = "dev"

// Env is the world of one invocation.
type Env struct {
	In       *os.File
	Out, Err io.Writer
	Getenv   func(string) string
}

// Command is one action on a thing.
type Command struct {
	Name     string // such as "key new"
	Args     string // such as "NAME"
	Summary  string
	Detail   string
	Examples []string
	Min, Max int // how many arguments; max -1 is any number
	// NoNames says that -q is refused, as what the command shows has no name.
	NoNames bool
	// Flags adds the command's flags and returns what it does with them.
	Flags func(*flag.FlagSet) func(context.Context, *Session, []string) error
}

// Labels is a flag that can be given several times, as name=value.
type Labels map[string]string

func (l Labels) String() string { return "" }

func (l Labels) Set(s string) error {
	name, value, ok := strings.Cut(s, "=")
	if !ok || name == "" {
		return fmt.Errorf("a label is written name=value, not %q", s)
	}
	l[name] = value
	return nil
}

// Names is a flag that can be given several times.
type Names []string

func (n *Names) String() string { return strings.Join(*n, ",") }

func (n *Names) Set(s string) error {
	*n = append(*n, s)
	return nil
}
