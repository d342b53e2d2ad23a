package cli

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// banned is a pattern that people are not to read, with what to write instead.
type banned struct {
	*regexp.Regexp
	instead string
}

func readBanned(t *testing.T) []banned {
	t.Helper()
	text, err := os.ReadFile("testdata/banned.txt")
	if err != nil {
		t.Fatal(err)
	}
	var out []banned
	for line := range strings.Lines(string(text)) {
		pattern, instead, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if !ok || strings.HasPrefix(line, "#") {
			continue
		}
		out = append(out, banned{regexp.MustCompile(`(?i)` + pattern), instead})
	}
	return out
}

// textsOf returns the string literals of a Go file that have a blank in them, by their lines.
func textsOf(path string) (map[string]string, error) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	ast.Inspect(file, func(n ast.Node) bool {
		if _, imports := n.(*ast.ImportSpec); imports {
			return false
		}
		if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
			if s, err := strconv.Unquote(lit.Value); err == nil && strings.Contains(s, " ") {
				out[fmt.Sprintf("%s:%d", path, set.Position(lit.Pos()).Line)] = s
			}
		}
		return true
	})
	return out, nil
}

// passedOver are folders without texts for people, or with the history of decisions.
var passedOver = []string{
	"node_modules", ".git", ".demo", "decisions", "dist", "bench", "e2e", "migrations", "testdata",
}

// TestTextsArePlain walks all messages and help of the service and the client, the texts of the console and the
// docs, for words that no engineer would write to another.
func TestTextsArePlain(t *testing.T) {
	patterns, read := readBanned(t), 0
	// What may be there: the names of things, and what is not for people.
	allowed := regexp.MustCompile(
		`stand-in|standing-key|plan-outrun|StandingKey|Outrun|I hold the private key|plum latch master key mark`,
	)
	check := func(where, text string) {
		read++
		text = allowed.ReplaceAllString(text, "")
		for _, b := range patterns {
			if found := b.FindString(text); found != "" {
				t.Errorf("%s says %q; write: %s\n\t%s", where, found, b.instead, strings.TrimSpace(text))
			}
		}
	}
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && slices.Contains(passedOver, d.Name()):
			return filepath.SkipDir
		case strings.Contains(path, ".gen.") || strings.HasSuffix(path, "_test.go") || d.IsDir():
			return nil
		case strings.HasSuffix(path, ".go"):
			texts, err := textsOf(path)
			for where, text := range texts {
				check(where, text)
			}
			return err
		case strings.HasSuffix(path, ".tsx"), strings.HasSuffix(path, ".md"), strings.HasSuffix(path, "api/openapi.yaml"),
			d.Name() == "sentences.txt":
			text, err := os.ReadFile(path)
			n := 0
			for line := range strings.Lines(string(text)) {
				n++
				check(fmt.Sprintf("%s:%d", path, n), line)
			}
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if read < 5000 {
		t.Errorf("only %d texts were read", read)
	}
}
