package service

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"
)

// useCases are the packages of the use cases by what their services are called in each other.
var useCases = map[string]string{
	"journal":  "journal",
	"safes":    "safekeeping",
	"people":   "people",
	"keys":     "keys",
	"fleet":    "fleet",
	"runs":     "work",
	"reading":  "reading",
	"access":   "access",
	"rotate":   "rotate",
	"replace":  "replace",
	"rules":    "rules",
	"reentry":  "reentry",
	"closings": "closing",
	"route":    "route",
	"leaving":  "leaving",
	"notify":   "notify",
}

// storeUsers are the methods of the use cases that use the store beside a transaction, by
// themselves or through others: "" is the field itself.
type storeUsers struct {
	methods map[string]map[string]*ast.FuncDecl // by package and name
	asks    map[[2]string]bool
}

// TestNoTransactionAsksForASecondConnection reads the code: what runs within a transaction may not
// reach the store beside it, or enough requests at once each hold a connection and wait for another.
func TestNoTransactionAsksForASecondConnection(t *testing.T) {
	t.Parallel()
	files := token.NewFileSet()
	u := storeUsers{methods: map[string]map[string]*ast.FuncDecl{}, asks: map[[2]string]bool{}}
	for _, pkg := range useCases {
		u.methods[pkg] = methodsIn(t, files, pkg)
	}
	for grown := true; grown; {
		grown = false
		for pkg, methods := range u.methods {
			for name, m := range methods {
				if !u.asks[[2]string{pkg, name}] && len(u.reaches(pkg, m.Body, m)) > 0 {
					u.asks[[2]string{pkg, name}], grown = true, true
				}
			}
		}
	}
	for method, want := range map[[2]string]bool{
		{"keys", "Key"}: true, {"access", "AddGrant"}: true, {"leaving", "BeginLeaving"}: true, {"journal", "Entry"}: false,
	} {
		if u.asks[method] != want {
			t.Fatalf("that %s.%s uses the store is judged %t, want %t", method[0], method[1], !want, want)
		}
	}
	seen := 0
	for pkg, methods := range u.methods {
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
				for _, at := range u.reaches(pkg, call.Args[1], m) {
					t.Errorf(
						"%s: within a transaction, %s reaches the store beside it; use tx", files.Position(at.Pos()), at.Sel.Name,
					)
				}
				return true
			})
		}
	}
	if seen < 30 {
		t.Errorf("%d transactions were found, want 30 at least", seen)
	}
}

func methodsIn(t *testing.T, files *token.FileSet, pkg string) map[string]*ast.FuncDecl {
	t.Helper()
	names, err := filepath.Glob(pkg + "/*.go")
	if err != nil || len(names) == 0 {
		t.Fatalf("no files in %s: %v", pkg, err)
	}
	out := map[string]*ast.FuncDecl{}
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
				out[m.Name.Name] = m
			}
		}
	}
	return out
}

// reaches returns where the code of a method uses the store, or a method that does.
func (u *storeUsers) reaches(pkg string, code ast.Node, m *ast.FuncDecl) (found []*ast.SelectorExpr) {
	self := m.Recv.List[0].Names[0].Name
	ast.Inspect(code, func(n ast.Node) bool {
		at, ok := n.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		switch x := at.X.(type) {
		case *ast.Ident:
			if x.Name == self && (at.Sel.Name == "store" || u.asks[[2]string{pkg, at.Sel.Name}]) {
				found = append(found, at)
			}
		case *ast.SelectorExpr: // of another use case
			id, ok := x.X.(*ast.Ident)
			if ok && id.Name == self && u.asks[[2]string{useCases[x.Sel.Name], at.Sel.Name}] {
				found = append(found, at)
			}
		}
		return true
	})
	return found
}
