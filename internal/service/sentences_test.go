package service_test

import (
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

	"plumlatch/internal/core/daybook"
)

// TestWhatTheDaybookIsToldHasASentence reads the code of the use cases: every name under which
// something is told has a sentence, the facts given there are those the sentence needs, and no
// sentence is of something that nobody tells.
func TestWhatTheDaybookIsToldHasASentence(t *testing.T) {
	known := daybook.Told()
	words, err := os.ReadFile("../core/daybook/sentences.txt")
	if err != nil {
		t.Fatal(err)
	}
	var said []string // every literal of the code, and the beginnings of those put together
	calls := 0
	walk(t, func(file *ast.File, at func(ast.Node) string) {
		ast.Inspect(file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				if s, err := strconv.Unquote(lit.Value); err == nil {
					said = append(said, s)
				}
			}
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 6 {
				return true
			}
			if sel, ok := call.Fun.(*ast.SelectorExpr); !ok || sel.Sel.Name != "Entry" && sel.Sel.Name != "note" {
				return true
			}
			calls++
			lit, ok := call.Args[1].(*ast.BasicLit)
			if !ok {
				return true
			}
			told, err := strconv.Unquote(lit.Value)
			if err != nil || !slices.Contains(known, told) {
				t.Errorf("%s: sentences.txt has no %s", at(call), lit.Value)
				return true
			}
			facts := factsOf(call.Args[5])
			if facts == nil {
				return true // made elsewhere
			}
			for _, need := range needs(string(words), told) {
				if !slices.Contains(facts, need) {
					t.Errorf("%s: the sentence of %s needs the fact %s", at(call), told, need)
				}
			}
			return true
		})
	})
	if calls < 80 {
		t.Fatalf("only %d entries were found in the code", calls)
	}
	for _, name := range known {
		if !slices.ContainsFunc(said, func(s string) bool {
			return s == name || strings.HasSuffix(s, ".") && strings.HasPrefix(name, s) ||
				strings.HasPrefix(s, ":") && strings.HasSuffix(name, s)
		}) {
			t.Errorf("nothing tells of %s", name)
		}
	}
}

// walk calls visit with every file of the use cases that is no test.
func walk(t *testing.T, visit func(*ast.File, func(ast.Node) string)) {
	t.Helper()
	set := token.NewFileSet()
	at := func(n ast.Node) string { return set.Position(n.Pos()).String() }
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(set, path, nil, 0)
		if err == nil {
			visit(file, at)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// factsOf returns the names of the facts that are written out; nil where they are not.
func factsOf(e ast.Expr) []string {
	if id, ok := e.(*ast.Ident); ok && id.Name == "nil" {
		return []string{}
	}
	lit, ok := e.(*ast.CompositeLit)
	if !ok {
		return nil
	}
	names := []string{}
	for _, el := range lit.Elts {
		if kv, ok := el.(*ast.KeyValueExpr); ok {
			if key, ok := kv.Key.(*ast.BasicLit); ok {
				name, _ := strconv.Unquote(key.Value)
				names = append(names, name)
			}
		}
	}
	return names
}

var (
	optional = regexp.MustCompile(`\[[^\]]*\]`)
	field    = regexp.MustCompile(`\{\??(\w+)[^}]*\}`)
)

// needs returns the facts without which the sentence of a name would have a hole.
func needs(file, told string) (names []string) {
	for line := range strings.Lines(file) {
		name, words, _ := strings.Cut(strings.TrimSpace(line), " ")
		if name != told {
			continue
		}
		for _, f := range field.FindAllStringSubmatch(optional.ReplaceAllString(words, ""), -1) {
			if !slices.Contains([]string{"person", "subject", "why"}, f[1]) {
				names = append(names, f[1])
			}
		}
	}
	return names
}
