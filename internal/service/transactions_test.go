package service

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"
)

// TestNoTransactionAsksForASecondConnection reads the code: what runs within a transaction may not
// reach the store beside it, or enough requests at once each hold a connection and wait for another.
func TestNoTransactionAsksForASecondConnection(t *testing.T) {
	t.Parallel()
	files := token.NewFileSet()
	names, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	methods := map[string]*ast.FuncDecl{}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(files, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			if m, ok := d.(*ast.FuncDecl); ok && m.Recv != nil && len(m.Recv.List[0].Names) == 1 {
				methods[m.Name.Name] = m
			}
		}
	}
	// asks holds the methods that use the service's own store, by themselves or through others.
	asks := map[string]bool{"store": true}
	for grown := true; grown; {
		grown = false
		for name, m := range methods {
			if !asks[name] && len(reaches(m.Body, m.Recv.List[0].Names[0].Name, asks)) > 0 {
				asks[name], grown = true, true
			}
		}
	}
	if !asks["Key"] || asks["entry"] {
		t.Fatal("the code was not understood")
	}
	seen := 0
	for _, m := range methods {
		ast.Inspect(m.Body, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if f, ok := call.Fun.(*ast.SelectorExpr); !ok || f.Sel.Name != "InTx" {
				return true
			}
			seen++
			for _, at := range reaches(call.Args[1], m.Recv.List[0].Names[0].Name, asks) {
				t.Errorf(
					"%s: within a transaction, %s reaches the store beside it; use tx, or s.within(tx)",
					files.Position(at.Pos()),
					at.Sel.Name,
				)
			}
			return true
		})
	}
	if seen < 30 {
		t.Errorf("only %d transactions were found", seen)
	}
}

// reaches returns where the code uses one of the fields or methods of self.
func reaches(code ast.Node, self string, of map[string]bool) (found []*ast.SelectorExpr) {
	ast.Inspect(code, func(n ast.Node) bool {
		if at, ok := n.(*ast.SelectorExpr); ok {
			if id, ok := at.X.(*ast.Ident); ok && id.Name == self && of[at.Sel.Name] {
				found = append(found, at)
			}
		}
		return true
	})
	return found
}
