package structure

import (
	"go/ast"
	"go/token"
	"slices"
	"strconv"
	"testing"

	"fundus/core/kind"
)

// kindNames are the words by which somebody could ask for a kind.
func kindNames() map[string]bool {
	names := map[string]bool{"fenced": true, "FAT12": true, "FAT16": true, "FAT32": true, "vfat": true}
	for _, k := range kind.All() {
		for _, w := range slices.Concat([]string{k.Name}, k.Types) {
			names[w] = true
		}
		for _, m := range k.Makes {
			names[m.Word] = true
		}
	}
	return names
}

// TestKindsAreAskedForByWhatTheyCan: no rule outside the kinds compares a name: what
// Linux does with a content its probe says as data.
func TestKindsAreAskedForByWhatTheyCan(t *testing.T) {
	names := kindNames()
	for _, s := range sources(t) {
		if under(s.pkg, "fundus/core/fs", "fundus/core/probe", "fundus/core/kind", "fundus/core/fence", "fundus/test") || s.path == "core/table/types.go" {
			continue
		}
		deny := func(exprs ...ast.Expr) {
			for _, e := range exprs {
				if list, ok := e.(*ast.CompositeLit); ok {
					exprs = append(exprs, list.Elts...)
				}
			}
			for _, e := range exprs {
				literal, ok := e.(*ast.BasicLit)
				if !ok || literal.Kind != token.STRING {
					continue
				}
				if word, err := strconv.Unquote(literal.Value); err == nil && names[word] {
					t.Errorf("%s asks for the kind %q by its name", s.files.Position(literal.Pos()), word)
				}
			}
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.BinaryExpr:
				if x.Op == token.EQL || x.Op == token.NEQ {
					deny(x.X, x.Y)
				}
			case *ast.CaseClause:
				deny(x.List...)
			case *ast.CallExpr:
				if f, ok := x.Fun.(*ast.SelectorExpr); ok && slices.Contains([]string{"HasPrefix", "HasSuffix", "EqualFold", "Contains", "ContainsAny", "Index"}, f.Sel.Name) {
					deny(x.Args...)
				}
			}
			return true
		})
	}
}
