package route_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/core/restore"
)

// TestNoCodeAsksWhichRouteItIs reads the code: what one route does differently is in its own file, so
// that another one is a file and a line, and nothing is forgotten.
func TestNoCodeAsksWhichRouteItIs(t *testing.T) {
	names := map[string]bool{
		"StandingKey": true, "GuestAgent": true, "MetadataKeys": true, "BrowserShell": true, "Password": true,
		"HelperDisk": true, "Replacement": true, "WindowsPassword": true,
	}
	if len(names) != len(restore.All) {
		t.Fatalf("core has %d routes, and this test knows %d", len(restore.All), len(names))
	}
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	read := 0
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || strings.HasPrefix(file, "route_") {
			continue
		}
		read++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			at, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if of, ok := at.X.(*ast.Ident); ok && of.Name == "restore" && names[at.Sel.Name] {
				t.Errorf("%s names the route %s; that belongs in a field of route", set.Position(at.Pos()), at.Sel.Name)
			}
			return true
		})
	}
	if read < 6 {
		t.Errorf("%d files were read, want 6 at least", read)
	}
}
