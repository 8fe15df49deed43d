package finding

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"
)

// TestCatalogueIsWhole reads the identifiers off the source: each has a reason
// that is one sentence's clause, and no two are the same.
func TestCatalogueIsWhole(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "catalogue.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || len(spec.Values) == 0 {
			return true
		}
		id := strings.Trim(spec.Values[0].(*ast.BasicLit).Value, `"`)
		if why := lookup(ID(id)).Why; why == "" || strings.HasSuffix(why, ".") || seen[id] {
			t.Errorf("%s: reason %q, twice %v", id, why, seen[id])
		}
		seen[id] = true
		return true
	})
	if len(seen) < 20 {
		t.Errorf("only %d identifiers read", len(seen))
	}
}

func TestSeverities(t *testing.T) {
	list := []Finding{New(AlignStep, "sdb1", "x"), New(TableBackup, "sdb", "x"), New(DuplicateUUID, "sdb1", "x")}
	if Worst(list) != Error || Worst(list[:2]) != Warning || Worst(nil) != "" {
		t.Errorf("Worst: %s, %s, %s", Worst(list), Worst(list[:2]), Worst(nil))
	}
	if n := len(AtLeast(list, Warning)); n != 2 {
		t.Errorf("AtLeast(warning) keeps %d", n)
	}
	if added := Added(list[:1], list); len(added) != 2 || added[0].ID != TableBackup {
		t.Errorf("Added = %v", added)
	}
	line := func(at string) Finding { return New(FstabKind, "/etc/fstab:"+at, "the line says xfs") }
	if added := Added([]Finding{line("5")}, []Finding{line("4")}); len(added) != 0 {
		t.Errorf("a line that moved up is new: %v", added)
	}
	if added := Added([]Finding{line("5")}, []Finding{New(FstabKind, "/etc/fstab:5", "the line says ext4")}); len(added) != 1 {
		t.Errorf("another fault in the same line is not new: %v", added)
	}
	if _, err := ParseSeverity("fatal"); err == nil {
		t.Error("ParseSeverity(fatal) succeeded")
	}
}
