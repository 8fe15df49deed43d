// Package structure holds the rules of the architecture: who may import whom,
// and what nobody may use. It reads the source alone.
package structure

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

type source struct {
	path    string // from the module's root
	pkg     string // import path inside the module
	imports []string
	file    *ast.File
	files   *token.FileSet
}

// parsed is the tree, read once for all rules.
var parsed = sync.OnceValues(func() (out []source, err error) {
	root := filepath.Join("..", "..")
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2 {
			return fs.SkipDir
		}
		if _, other := os.Stat(filepath.Join(path, "go.mod")); d.IsDir() && path != root && other == nil {
			return fs.SkipDir // a module of its own, which the program does not know
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, path)
		s := source{path: rel, pkg: "fundus/" + filepath.ToSlash(filepath.Dir(rel)), file: f, files: files}
		for _, i := range f.Imports {
			s.imports = append(s.imports, strings.Trim(i.Path.Value, `"`))
		}
		out = append(out, s)
		return err
	})
	return out, err
})

func sources(t *testing.T) []source {
	t.Helper()
	out, err := parsed()
	if err != nil || len(out) < 40 {
		t.Fatalf("%d sources read: %v", len(out), err)
	}
	return out
}

func under(path string, dirs ...string) bool {
	for _, d := range dirs {
		if path == d || strings.HasPrefix(path, d+"/") {
			return true
		}
	}
	return false
}

// TestImports holds each rule of the import graph.
func TestImports(t *testing.T) {
	small := []string{"github.com/google/uuid", "github.com/google/btree"}
	for _, s := range sources(t) {
		for _, i := range s.imports {
			std := !strings.Contains(strings.Split(i, "/")[0], ".") && !under(i, "fundus")
			deny := func(rule string) { t.Errorf("%s imports %s: %s", s.path, i, rule) }
			system := i == "syscall" || under(i, "golang.org/x/sys")
			switch {
			case under(s.pkg, "fundus/core") && !std && !under(i, "fundus/core") && !under(i, small...) && !(system && under(s.pkg, "fundus/core/block/file")):
				deny("core imports the standard library, core and small value libraries")
			case system && !under(s.pkg, "fundus/core/block/file", "fundus/internal/machine/live", "fundus/internal/oscall", "fundus/cmd/fundus", "fundus/test"):
				deny("system calls belong to block/file, machine/live and oscall")
			case under(s.pkg, "fundus/internal/task") && under(i, "fundus/internal/cli", "fundus/internal/view"):
				deny("a task knows neither commands nor views")
			case under(s.pkg, "fundus/internal/look") && under(i, "fundus/internal") && !under(i, "fundus/internal/machine", "fundus/internal/config"):
				deny("a look knows the machine and core")
			case under(s.pkg, "fundus/internal/task") && under(i, "fundus/internal/task") && i != "fundus/internal/task" && !chains(s.pkg, i):
				deny("a family of tasks knows no other")
			case under(s.pkg, "fundus/internal/view") && under(i, "fundus/core") && !under(i, "fundus/core/quantity", "fundus/core/finding", "fundus/core/progress", "fundus/core/inventory", "fundus/core/advice", "fundus/core/way", "fundus/core/refused") && i != "fundus/core/table":
				deny("a view is given results")
			case under(s.pkg, "fundus/core/fs") && under(i, "fundus/core/table"):
				deny("a file system knows no table")
			case under(s.pkg, "fundus/core/fs") && under(i, "fundus/core/fs") && i != "fundus/core/fs" && i != s.pkg:
				deny("a file system knows no other")
			case under(s.pkg, "fundus/core/verify", "fundus/core/boot") && under(i, "fundus/core/block", "fundus/core/table") && i != "fundus/core/block" && i != "fundus/core/table":
				deny("verify and rehearse compute on the inventory alone")
			}
		}
	}
}

// TestKindsAreFolders: each file system is one folder, and the list of kinds
// imports exactly those.
func TestKindsAreFolders(t *testing.T) {
	folders, listed := map[string]bool{}, map[string]bool{}
	for _, s := range sources(t) {
		if under(s.pkg, "fundus/core/fs") && s.pkg != "fundus/core/fs" {
			folders[s.pkg] = true
		}
		if s.pkg == "fundus/core/kind" {
			for _, i := range s.imports {
				listed[i] = true
			}
		}
	}
	for f := range folders {
		if !listed[f] {
			t.Errorf("%s is not in the list of kinds", f)
		}
	}
	if len(folders) < 4 {
		t.Errorf("only %d file systems found", len(folders))
	}
}

// TestOnlyMainExits: nothing below main ends the program or writes past the
// writers that it was given, and only the deed and the machines claim devices.
func TestOnlyMainExits(t *testing.T) {
	for _, s := range sources(t) {
		ast.Inspect(s.file, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			pkg, _ := sel.X.(*ast.Ident)
			if pkg != nil && pkg.Name == "os" && !under(s.pkg, "fundus/cmd/fundus", "fundus/test/kernel/guest", "fundus/test/run") {
				switch sel.Sel.Name {
				case "Stdout", "Stderr", "Stdin", "Exit", "Args":
					t.Errorf("%s uses os.%s", s.path, sel.Sel.Name)
				}
			}
			if pkg != nil && pkg.Name == "exec" && !under(s.pkg, "fundus/test") {
				t.Errorf("%s runs another program", s.path)
			}
			if sel.Sel.Name == "Claim" && !under(s.pkg, "fundus/internal/deed", "fundus/internal/machine", "fundus/core") {
				t.Errorf("%s claims a device: only deeds and machines do", s.path)
			}
			return true
		})
	}
}

// TestTasksPlanAgainstWhatWouldBe: a task goes by the machine as it would be after what
// was planned before it, so that tasks chain. As it is now is for the comparison alone,
// which the planner makes.
func TestTasksPlanAgainstWhatWouldBe(t *testing.T) {
	calls := 0
	for _, s := range sources(t) {
		if !under(s.pkg, "fundus/internal/task") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Before" {
				if calls++; filepath.Base(s.path) != "plan.go" {
					t.Errorf("%s: a task asks for the machine as it is now: use Now", s.path)
				}
			}
			return true
		})
	}
	if calls == 0 {
		t.Error("nobody compares with the machine as it was")
	}
}

// TestPackagesAreDocumented: every package says what it models.
func TestPackagesAreDocumented(t *testing.T) {
	documented := map[string]bool{}
	for _, s := range sources(t) {
		documented[s.pkg] = documented[s.pkg] || s.file.Doc != nil
	}
	for pkg, ok := range documented {
		if !ok {
			t.Errorf("%s has no package comment", pkg)
		}
	}
}

// TestFilesAndFunctionsStaySmall: a file has at most 800 lines and a function at
// most 80.
func TestFilesAndFunctionsStaySmall(t *testing.T) {
	for _, s := range sources(t) {
		fset, f := s.files, s.file
		if n := fset.Position(f.FileEnd).Line; n > 800 {
			t.Errorf("%s has %d lines", s.path, n)
		}
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok {
				if n := fset.Position(fn.End()).Line - fset.Position(fn.Pos()).Line + 1; n > 80 {
					t.Errorf("%s: %s has %d lines", s.path, fn.Name.Name, n)
				}
			}
		}
	}
}

// TestFilesAreToldApartInOnePlace: one file is told from another by device and inode, and that
// in one place for the machine and one for what an open device is; nobody compares what a loop
// device shows as the path of its file.
func TestFilesAreToldApartInOnePlace(t *testing.T) {
	homes := map[string][]string{
		// As a name that is shown, as a sign that there is one, and as a place below a mount.
		"loop/backing_file": {"internal/machine/live/hardware.go", "internal/machine/live/act.go", "internal/machine/live/holders.go"},
		`"backing_file")`:   {"internal/oscall/fileid.go"},
		"os.SameFile(":      {"core/block/file/file.go"}, // of two that are open
	}
	seen := map[string]bool{}
	for _, s := range sources(t) {
		text, err := os.ReadFile(filepath.Join("..", "..", s.path))
		if err != nil {
			t.Fatal(err)
		}
		for word, at := range homes {
			if !strings.Contains(string(text), word) || strings.HasPrefix(s.path, "test/") {
				continue
			}
			if seen[word] = true; !slices.Contains(at, s.path) {
				t.Errorf("%s says %s: files are told apart by oscall.IDOf", s.path, word)
			}
		}
	}
	if len(seen) != len(homes) {
		t.Errorf("found only %v", seen)
	}
}

// chains reports whether the first family of tasks plans requests of the second, in front of
// its own or behind: a resize goes through tables and file systems, and what is mounted for
// good has a line; what prepares a disk goes the whole road. Nothing goes the other way.
func chains(family, other string) bool {
	switch family {
	case "fundus/internal/task/all", "fundus/internal/task/space", "fundus/internal/task/prepare":
		return true
	}
	return family == "fundus/internal/task/mount" && other == "fundus/internal/task/boot"
}
