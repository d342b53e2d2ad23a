package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/restore"
)

const (
	// completeWithin is how long the service may take to tell names to a shell that completes a word.
	completeWithin = 2 * time.Second
	// namesKept is for how long names that were told are completed without asking again.
	namesKept = time.Minute
	// namesAtOnce is how many names are told at most.
	namesAtOnce = 200
)

// candidates is what the completion of a shell calls: it prints what the last of the words may become, one to a
// line. Nothing it cannot find out is an error, as nobody would read it.
func candidates(ctx context.Context, env kit.Env, words []string) error {
	if len(words) == 0 {
		return nil
	}
	for _, word := range Candidates(ctx, env, words[:len(words)-1], words[len(words)-1]) {
		fmt.Fprintln(env.Out, word)
	}
	return nil
}

// Candidates returns what a word after the words before it may become. None means that it may be a file.
func Candidates(ctx context.Context, env kit.Env, before []string, word string) []string {
	names, actions := things()
	switch {
	case len(before) == 0:
		return beginning(append(names, "help"), word)
	case before[0] == "help" && len(before) == 1:
		return beginning(names, word)
	case before[0] == "help" && len(before) == 2:
		return beginning(actions[before[1]], word)
	}
	c, rest, err := find(before)
	if err != nil {
		if len(before) == 1 {
			return beginning(actions[before[0]], word)
		}
		return nil
	}
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	(&kit.Session{}).Flags(fs)
	c.Flags(fs)
	if strings.HasPrefix(word, "-") {
		var flags []string
		fs.VisitAll(func(f *flag.Flag) { flags = append(flags, "-"+f.Name) })
		return beginning(flags, word)
	}
	given, value := argumentsOf(fs, rest)
	kind := ""
	if value != "" {
		kind = kindOfFlag[value]
	} else {
		kind = kindOfArgument(c, given)
	}
	return beginning(namesOf(ctx, env, kind, word), word)
}

// beginning returns those of the words that begin so, each once.
func beginning(words []string, with string) []string {
	var out []string
	for _, w := range words {
		if w != "" && strings.HasPrefix(w, with) {
			out = append(out, w)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// argumentsOf returns how many arguments are among the words of a command, and the flag whose value comes next.
func argumentsOf(fs *flag.FlagSet, words []string) (arguments int, value string) {
	for n := 0; n < len(words); n++ {
		name, isFlag := strings.CutPrefix(words[n], "-")
		f := fs.Lookup(strings.TrimPrefix(name, "-"))
		switch {
		case !isFlag:
			arguments++
		case f == nil:
		default:
			if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
				continue
			}
			if n++; n == len(words) {
				return arguments, f.Name
			}
		}
	}
	return arguments, ""
}

// kindOfFlag says names of what the value of a flag is; what is not here is a file, or completed by nobody.
var kindOfFlag = map[string]string{
	"key": "key", "to": "key", "lost": "key", "instance": "instance", "holder": "holder", "person": "holder",
	"of": "holder", "route": "route", "image": "image", "size": "size", "zone": "zone",
}

// ofThing are the names that the first word of a command is about.
var ofThing = map[string]string{
	"key": "key", "instance": "instance", "operator": "holder", "team": "holder", "rule": "rule",
	"subscriber": "subscriber", "rotate": "key",
}

// kindOfArgument says names of what the next argument of a command is.
func kindOfArgument(c kit.Command, given int) string {
	thing, action, _ := strings.Cut(c.Name, " ")
	if slices.Contains([]string{"new", "import", "add", "launch", "adopt"}, action) && thing != "grant" && given == 0 {
		return "" // it names what is new
	}
	kinds := strings.Fields(strings.Trim(strings.ReplaceAll(c.Args, "...", ""), "[] "))
	if len(kinds) == 0 {
		return ""
	}
	kind, _, _ := strings.Cut(strings.Trim(kinds[min(given, len(kinds)-1)], "[]"), "|")
	switch kind {
	case "NAME", "TEAM":
		if thing == "team" && given == 1 {
			return "holder"
		}
		return ofThing[thing]
	case "KEY", "LOGIN", "INSTANCE", "HOLDER":
		if c.Name == "prove" {
			return "key"
		}
		return strings.ToLower(kind)
	case "SHELL":
		return "shell"
	}
	return ""
}

// namesOf returns names of a kind, as far as the service tells them in time.
func namesOf(ctx context.Context, env kit.Env, kind, word string) []string {
	switch kind {
	case "":
		return nil
	case "shell":
		return []string{"bash", "zsh", "fish"}
	case "route":
		var out []string
		for _, w := range restore.All {
			out = append(out, string(w.Route))
		}
		return out
	}
	s := &kit.Session{Env: env}
	file := namesFile(s, kind, word)
	if names, ok := keptNames(file); ok {
		return names
	}
	ctx, cancel := context.WithTimeout(ctx, completeWithin)
	defer cancel()
	client, err := s.Connect()
	if err != nil {
		return nil
	}
	names, err := askNames(ctx, client, kind, word)
	if err != nil {
		return nil
	}
	if text, err := json.Marshal(names); err == nil && file != "" {
		_ = kit.WriteWhole(file, string(text)) // where it cannot be kept, it is asked again
	}
	return names
}

// namesFile is where the names of a kind are kept, for this service and this token.
func namesFile(s *kit.Session, kind, word string) string {
	dir := s.Env.Getenv("XDG_CACHE_HOME")
	if home, err := s.Home(); dir == "" && err == nil {
		dir = filepath.Join(home, ".cache")
	}
	kept, _ := s.ReadKept() // unreadable is as none
	of := sha256.Sum256([]byte(strings.Join([]string{
		s.Env.Getenv("PLUMLATCH_URL"), s.Env.Getenv("PLUMLATCH_TOKEN"), kept.Server, kept.Token, kind, word,
	}, "\n")))
	return filepath.Join(dir, "plumlatch", "names", hex.EncodeToString(of[:12])+".json")
}

func keptNames(file string) ([]string, bool) {
	info, err := os.Stat(file)
	if err != nil || time.Since(info.ModTime()) > namesKept {
		return nil, false
	}
	data, err := os.ReadFile(file)
	var names []string
	return names, err == nil && json.Unmarshal(data, &names) == nil
}

// askNames asks the service for the names of a kind that begin with word, or for the first of all.
func askNames(ctx context.Context, client *apiclient.Client, kind, word string) ([]string, error) {
	var catalogue apiclient.Catalogue
	var err error
	if kind == "image" || kind == "size" || kind == "zone" {
		all := &apiclient.GetCatalogueParams{}
		if catalogue, err = kit.Answer[apiclient.Catalogue](client.GetCatalogue(ctx, all)); err != nil {
			return nil, err
		}
	}
	switch kind {
	case "image":
		return each(catalogue.Images, func(i apiclient.Image) string { return i.Name }), nil
	case "size":
		return each(catalogue.Sizes, func(z apiclient.Size) string { return z.Name }), nil
	case "zone":
		return each(catalogue.Zones, func(z apiclient.Zone) string { return z.Name }), nil
	case "rule":
		return asked[apiclient.RotationRule](
			client.ListRotationRules(ctx),
		)(
			func(r apiclient.RotationRule) string { return r.Name },
		)
	case "cloud":
		return asked[apiclient.Cloud](client.ListClouds(ctx))(func(c apiclient.Cloud) string { return c.Name })
	case "subscriber":
		return asked[apiclient.Subscriber](client.ListSubscribers(ctx))(func(r apiclient.Subscriber) string { return r.Name })
	case "holder":
		return asked[apiclient.Holder](client.ListHolders(ctx))(func(h apiclient.Holder) string { return h.Name })
	}
	if word != "" {
		found, err := kit.Answer[[]apiclient.Named](
			client.ListNames(ctx, &apiclient.ListNamesParams{Q: word, Limit: new(50)}),
		)
		var names []string
		for _, n := range found {
			if string(n.Kind) == kind || kind == "login" && n.Kind == apiclient.NamedKindInstance {
				names = append(names, n.Name)
			}
		}
		return names, err
	}
	limit := new(namesAtOnce)
	switch kind {
	case "key":
		l, err := kit.Answer[kit.Page[apiclient.Key]](client.ListKeys(ctx, &apiclient.ListKeysParams{Limit: limit}))
		return each(l.Items, func(k apiclient.Key) string { return k.Name }), err
	case "instance":
		l, err := kit.Answer[kit.Page[apiclient.Instance]](
			client.ListInstances(ctx, &apiclient.ListInstancesParams{Limit: limit}),
		)
		return each(l.Items, func(i apiclient.Instance) string { return i.Name }), err
	case "login":
		l, err := kit.Answer[kit.Page[apiclient.LoginReach]](client.GetReach(ctx, &apiclient.GetReachParams{Limit: limit}))
		return each(l.Items, func(l apiclient.LoginReach) string { return l.Login }), err
	}
	return nil, nil
}

// asked reads a whole list of an answer into names.
func asked[T any](r *http.Response, err error) func(func(T) string) ([]string, error) {
	all, err := kit.Answer[[]T](r, err)
	return func(name func(T) string) ([]string, error) { return each(all, name), err }
}

func each[T any](all []T, name func(T) string) []string {
	out := make([]string, len(all))
	for n, one := range all {
		out[n] = name(one)
	}
	return out
}
