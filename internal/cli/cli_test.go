package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/cli/kit"
)

func TestFlagsGoBeforeBetweenAndAfterArguments(t *testing.T) {
	for _, args := range [][]string{
		{"-n", "3", "a", "b", "-v"}, {"a", "-n", "3", "-v", "b"}, {"a", "b", "-v", "-n=3"},
	} {
		fs := flag.NewFlagSet("t", flag.ContinueOnError)
		n, v := fs.Int("n", 0, ""), fs.Bool("v", false, "")
		got, err := parse(fs, args)
		if err != nil || *n != 3 || !*v || !slices.Equal(got, []string{"a", "b"}) {
			t.Errorf("%v: %v %d %v %v", args, got, *n, *v, err)
		}
	}
	fs := flag.NewFlagSet("t", flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	if got, err := parse(fs, []string{"a", "--", "-b", "c"}); err != nil || !slices.Equal(got, []string{"a", "-b", "c"}) {
		t.Errorf("after --: %v %v", got, err)
	}
	if _, err := parse(fs, []string{"a", "-unknown"}); err == nil {
		t.Error("an unknown flag was taken")
	}
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range commands() {
		if seen[c.Name] {
			t.Errorf("%s is there twice", c.Name)
		}
		seen[c.Name] = true
		if c.Summary == "" || len(c.Examples) == 0 {
			t.Errorf("%s has no summary or no example", c.Name)
		}
		for _, e := range c.Examples {
			if !strings.Contains(e, "plumlatch "+c.Name) {
				t.Errorf("the example %q is not of %s", e, c.Name)
			}
		}
		var out bytes.Buffer
		if status := Run(
			t.Context(), append([]string{"help"}, strings.Fields(c.Name)...),
			kit.Env{Out: &out, Err: &out, Getenv: os.Getenv},
		); status != 0 ||
			!strings.Contains(out.String(), c.Summary) {
			t.Errorf("help %s: %d %s", c.Name, status, &out)
		}
	}
}

func TestWrongUsageEndsWithStatusTwoAndSaysWhatToDo(t *testing.T) {
	for _, c := range []struct{ line, says string }{
		{"frob", `no command "frob"`}, {"key", "new, import, list"}, {"key new", "an argument is missing"},
		{"key show a b", `"b" is one argument too many`},
		{"key list -limit x", "plumlatch help key list"},
		{"key import a -label x -from y", "name=value"},
	} {
		var out bytes.Buffer
		status := Run(
			t.Context(),
			strings.Fields(c.line),
			kit.Env{Out: &out, Err: &out, Getenv: func(string) string { return "" }},
		)
		if status != kit.ExitUsage || !strings.Contains(out.String(), c.says) {
			t.Errorf("%s: %d %s", c.line, status, &out)
		}
	}
}

// TestEveryCommandThatAMessageNamesIsThere reads the sources of the service, the client
// and the console for commands that somebody is told to type.
func TestEveryCommandThatAMessageNamesIsThere(t *testing.T) {
	actions, named := map[string]map[string]bool{}, 0
	for _, c := range commands() {
		thing, action, _ := strings.Cut(c.Name, " ")
		if actions[thing] == nil {
			actions[thing] = map[string]bool{}
		}
		actions[thing][action] = true
	}
	told := regexp.MustCompile("plumlatch ([a-z][a-z-]*)(?: ([a-z][a-z-]*))?")
	broken := regexp.MustCompile(`["` + "`" + `] ?\+\s*["` + "`" + `]`) // over two lines
	look := func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".gen.go") || strings.HasSuffix(path, "_test.go") ||
			!strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, ".tsx") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range told.FindAllStringSubmatch(broken.ReplaceAllString(string(text), ""), -1) {
			of, there := actions[m[1]]
			if !there || of[""] { // no command, or one without an action, whose argument follows
				continue
			}
			if named++; !of[m[2]] {
				t.Errorf("%s tells to type %q, which is no command", path, m[0])
			}
		}
		return err
	}
	for _, folder := range []string{"../../internal", "../../console/src", "../../cmd"} {
		if err := filepath.WalkDir(folder, look); err != nil {
			t.Fatal(err)
		}
	}
	if named < 100 {
		t.Errorf("only %d commands were found", named)
	}
}

func TestErrorsAreJSONForPrograms(t *testing.T) {
	for args, code := range map[string]string{
		"key show -json":                          "usage",
		"rotate show nonsense -json -server x":    "usage",
		"key inspect /nowhere -json":              "no-such-file",
		"whoami -json -server http://127.0.0.1:1": "unreachable",
	} {
		var out, errs bytes.Buffer
		status := Run(t.Context(), strings.Fields(args), kit.Env{Out: &out, Err: &errs, Getenv: func(name string) string {
			if name == "PLUMLATCH_TOKEN" {
				return "x"
			}
			return ""
		}})
		var problem struct{ Code, Detail string }
		if err := json.Unmarshal(errs.Bytes(), &problem); err != nil || status == 0 || problem.Code != code ||
			problem.Detail == "" {
			t.Errorf("%s: %d %v\n%s%s", args, status, err, &out, &errs)
		}
	}
}
