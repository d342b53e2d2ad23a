package store

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestSQLThatIsWrittenOutSaysWhy reads the package: a function that gives SQL to the database says in its comment
// why GORM does not.
func TestSQLThatIsWrittenOutSaysWhy(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	beneath := []string{"fence.go", "pools.go", "limit.go"} // what GORM's own statements go through
	raw := []string{"Raw", "Exec", "ExecContext", "Query", "QueryContext", "QueryRow", "QueryRowContext"}
	found := 0
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") || slices.Contains(beneath, name) {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				if s, ok := call.Fun.(*ast.SelectorExpr); ok && slices.Contains(raw, s.Sel.Name) {
					found++
					if !strings.Contains(f.Doc.Text(), "Raw") {
						t.Errorf("%s: %s gives SQL to the database, and its comment does not say why GORM cannot", name, f.Name.Name)
					}
				}
				return true
			})
		}
	}
	if found == 0 {
		t.Error("no SQL was found")
	}
}
