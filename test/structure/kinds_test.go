package structure

import (
	"go/ast"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
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

// TestANewKindIsOneFolderAndOneRow builds the program with a kind that is not there: its
// folder, and its row in the list. Everything else must follow.
func TestANewKindIsOneFolderAndOneRow(t *testing.T) {
	row := "\t\t{Name: \"sprout\", Makes: []Maker{{Word: \"sprout\", ID: fs.Serial, Settings: sprout.Settings, Traits: fs.NoTraits, Make: sprout.Make}}, Values: sprout.Values, Probe: sprout.Probe, Fields: sprout.Fields},\n"
	o := newOverlay(t)
	o.row("core/kind/kind.go", "\t\txfsKind(),\n", row)
	o.row("core/kind/kind.go", "\t\"fundus/core/fs\"\n", "\t\"fundus/core/fs/sprout\"\n")
	o.file("core/fs/sprout/sprout.go", "sprout.go.txt")
	dir := o.dir
	image := filepath.Join(dir, "seeds.img")
	if err := os.WriteFile(image, make([]byte, 1<<20), 0o644); err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(dir, "fundus")
	o.run("go", "build", "-overlay", o.written(), "-o", program, "./cmd/fundus")
	for _, c := range []struct{ words, want string }{
		{"settings sprout", "depth"},
		{"format " + image + " sprout depth=3KiB --label herbs --commit", "depth    3KiB   asked"},
		{"format " + image + " sprout depth=9KiB --lose=herbs --commit", "it takes 1KiB to 8KiB"},
		{"settings " + image, "depth  3KiB"},
		{"inspect " + image, "herbs"},
		{"inspect " + image + " --fields", "depth in bytes"},
		{"label " + image + " other --commit", "Fundus does not change its label"},
		{"inspect --configuration", "format.sprout.*"},
		{"__complete format x sprout ", "depth=\t1KiB to 8KiB"},
	} {
		cmd := exec.Command(program, append(strings.Fields(c.words), "--state", filepath.Join(dir, "state"))...)
		if strings.HasSuffix(c.words, " ") {
			cmd.Args = append(append([]string{program}, strings.Fields(c.words)...), "")
		}
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(strings.Join(strings.Fields(string(out)), " "), strings.Join(strings.Fields(c.want), " ")) { // lines are broken where paths are long
			t.Errorf("fundus %s lacks %q:\n%s", c.words, c.want, out)
		}
	}
}
