package cli

import (
	"bytes"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"plumlatch/internal/cli/kit"
)

var update = flag.Bool("update", false, "write docs/reference.md again")

// TestTheReferenceIsThatOfTheCode compares docs/reference.md with the commands.
func TestTheReferenceIsThatOfTheCode(t *testing.T) {
	const file = "../../docs/reference.md"
	if *update {
		if err := os.WriteFile(file, []byte(Reference()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if text, err := os.ReadFile(file); err != nil || string(text) != Reference() {
		t.Errorf("docs/reference.md is not what the commands say (%v): go test ./internal/cli -run Reference -update", err)
	}
}

func TestWordsAreCompletedWithoutAService(t *testing.T) {
	env := kit.Env{Getenv: func(string) string { return "" }}
	for typed, want := range map[string]string{
		"rest":              "restore",
		"key hand":          "hand-over hand-overs",
		"key new -purp":     "-purpose",
		"reach -wor":        "-worry",
		"daybook check -he": "-head",
		"token new x -on":   "-only",
		"help key hand":     "hand-over hand-overs",
		"completion ":       "bash fish zsh",
		"restore start x -route ": "browser-shell guest-agent helper-disk metadata-keys password replacement " +
			"standing-key windows-password",
		"key new a": "",
		"frob x":    "",
	} {
		words := strings.Split(typed, " ")
		got := strings.Join(Candidates(t.Context(), env, words[:len(words)-1], words[len(words)-1]), " ")
		if got != want {
			t.Errorf("%q completes to %q, want %q", typed, got, want)
		}
	}
}

func TestEveryCommandHasAManualPage(t *testing.T) {
	dir := t.TempDir()
	var out bytes.Buffer
	if status := Run(t.Context(), []string{"manual", dir}, kit.Env{Out: &out, Err: &out, Getenv: os.Getenv}); status != 0 {
		t.Fatal(&out)
	}
	pages, err := filepath.Glob(dir + "/*.1")
	if err != nil || len(pages) != len(commands()) {
		t.Fatalf("%d pages for %d commands, %v", len(pages), len(commands()), err)
	}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			if strings.HasPrefix(line, ".") && !strings.Contains(".TH .SH .TP .B .nf .fi", strings.Fields(line)[0]) {
				t.Errorf("%s: %q would be taken for a request", page, line)
			}
		}
	}
}

// shellWords cuts a line of a shell into words, as far as the docs need it.
func shellWords(line string) []string {
	var out []string
	var word strings.Builder
	quote, begun := rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '"' || r == '\''):
			quote, begun = r, true
		case quote == 0 && strings.ContainsRune("|><;#&", r):
			r = '\n'
			fallthrough
		case quote == 0 && (r == ' ' || r == '\n'):
			if begun {
				out = append(out, word.String())
			}
			word.Reset()
			begun = false
			if r == '\n' {
				return out
			}
		default:
			begun = true
			word.WriteRune(r)
		}
	}
	if begun {
		out = append(out, word.String())
	}
	return out
}

// TestTheDocsShowCommandsThatAreThere reads every command in the docs as the client does.
func TestTheDocsShowCommandsThatAreThere(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	shown := 0
	for _, file := range append(files, "../../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			typed, ok := strings.CutPrefix(line, "    ")
			typed = strings.TrimPrefix(strings.TrimPrefix(typed, "$ "), "bin/")
			if !ok || !strings.HasPrefix(typed, "plumlatch ") || strings.Contains(typed, "(client)") ||
				strings.HasPrefix(typed, "plumlatch THING") {
				continue
			}
			words := shellWords(typed)[1:]
			if len(words) == 0 || words[0] == "help" || words[0] == "version" {
				continue
			}
			shown++
			c, rest, err := find(words)
			if err != nil {
				t.Errorf("%s: %s%v", file, line, err)
				continue
			}
			fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
			fs.SetOutput(&bytes.Buffer{})
			(&kit.Session{}).Flags(fs)
			c.Flags(fs)
			if strings.Contains(file, "reference") && strings.Contains(strings.Join(rest, " "), "[") ||
				len(rest) > 0 && rest[0] == strings.Fields(c.Args + " -")[0] {
				continue // the usage, and not an example
			}
			if args, err := parse(fs, rest); err != nil || len(args) < c.Min || c.Max >= 0 && len(args) > c.Max {
				t.Errorf("%s: %s%v, with %d arguments", file, line, err, len(args))
			}
		}
	}
	if shown < 150 {
		t.Errorf("only %d commands are shown", shown)
	}
}

// TestSecurityNotesNameTestsThatAreThere looks for each test that the security notes and the decisions name.
func TestSecurityNotesNameTestsThatAreThere(t *testing.T) {
	pages, err := filepath.Glob("../../docs/decisions/*.md")
	if err != nil {
		t.Fatal(err)
	}
	var notes []byte
	for _, page := range append(pages, "../../docs/security.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		notes = append(notes, text...)
	}
	there, err := exec.CommandContext(
		t.Context(), "grep", "-rhoE", `^func (Test|Fuzz)\w+`, "--include=*_test.go", "../..",
	).
		Output()
	if err != nil {
		t.Fatal(err)
	}
	names := regexp.MustCompile(`\b(Test|Fuzz)[A-Z]\w+`).FindAllString(string(notes), -1)
	if len(names) < 40 {
		t.Errorf("only %d tests are named", len(names))
	}
	for _, name := range names {
		if !strings.Contains(string(there), "func "+name+"\n") {
			t.Errorf("the docs name %s, which is not there", name)
		}
	}
}

// TestTheArchitectureNamesFilesThatAreThere reads docs/architecture.md and the decisions.
func TestTheArchitectureNamesFilesThatAreThere(t *testing.T) {
	root := filepath.Join("..", "..")
	pages, err := filepath.Glob(filepath.Join(root, "docs", "decisions", "*.md"))
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`((?:internal|cmd|api|console|e2e|bench|docs)/[A-Za-z0-9_./-]+)`")
	found := 0
	for _, page := range append(pages, filepath.Join(root, "docs", "architecture.md")) {
		data, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range named.FindAllStringSubmatch(string(data), -1) {
			found++
			if _, err := os.Stat(filepath.Join(root, filepath.FromSlash(m[1]))); err != nil {
				t.Errorf("%s names %s, and there is no such file", filepath.Base(page), m[1])
			}
		}
	}
	if found < 40 {
		t.Errorf("%d files are named, want 40 at least", found)
	}
}
