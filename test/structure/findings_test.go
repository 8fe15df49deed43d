package structure

import (
	"go/ast"
	"path/filepath"
	"strings"
	"testing"

	"fundus/internal/look"
)

// TestFindingsAreListed: each kind of finding is declared in a findings.go, has a reason
// that is one clause, and is in the catalogue, once.
func TestFindingsAreListed(t *testing.T) {
	listed := look.Catalogue()
	seen := map[string]bool{}
	for _, e := range listed {
		if e.Why == "" || strings.HasSuffix(e.Why, ".") || e.Severity == "" || seen[string(e.ID)] {
			t.Errorf("%s: severity %q, reason %q, twice %v", e.ID, e.Severity, e.Why, seen[string(e.ID)])
		}
		seen[string(e.ID)] = true
	}
	declared := 0
	for _, s := range sources(t) {
		ast.Inspect(s.file, func(n ast.Node) bool {
			id, ok := entryID(n)
			if !ok {
				return true
			}
			if declared++; filepath.Base(s.path) != "findings.go" {
				t.Errorf("%s: a kind of finding is declared in findings.go", s.path)
			}
			if !seen[id] {
				t.Errorf("%s: %q is in no catalogue", s.path, id)
			}
			return true
		})
	}
	if declared != len(listed) || declared < 40 {
		t.Errorf("%d are declared, %d listed", declared, len(listed))
	}
}

// entryID gives the identifier of a literal of type finding.Entry, which begins with it.
func entryID(n ast.Node) (string, bool) {
	lit, ok := n.(*ast.CompositeLit)
	if !ok {
		return "", false
	}
	typ, ok := lit.Type.(*ast.SelectorExpr)
	if !ok || typ.Sel.Name != "Entry" {
		return "", false
	}
	if pkg, ok := typ.X.(*ast.Ident); !ok || pkg.Name != "finding" {
		return "", false
	}
	pair, ok := lit.Elts[0].(*ast.KeyValueExpr)
	if !ok {
		return "", true
	}
	value, ok := pair.Value.(*ast.BasicLit)
	if !ok {
		return "", true
	}
	return strings.Trim(value.Value, `"`), true
}
