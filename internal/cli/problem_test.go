package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fundus/core/refused"
	"fundus/internal/machine"
)

// unseen are exported errors that reach nobody as they are: they end a walk, are of tests, or the
// caller says what they come to.
func unseen() []string {
	return []string{"block.ErrUnaligned", "block.ErrLimit", "block.ErrMapping", "fence.ErrNone", "gpt.ErrNone", "machine.ErrUnclaimed", "several.ErrEmpty", "several.ErrNested", "task.ErrUndecoded",
		"oscall.ErrWritten", "oscall.ErrNoRun", "oscall.ErrLeft"}
}

// TestEveryRefusalHasAKind: each rule of machines and each exported error of the program stands for an
// identifier, or is among those that nobody sees; and none is there that is not declared.
func TestEveryRefusalHasAKind(t *testing.T) {
	data, err := os.ReadFile("../machine/rules.go")
	if err != nil {
		t.Fatal(err)
	}
	rules := regexp.MustCompile(`(?m)^\tRule\w+ +Rule = "([^"]+)"`).FindAllStringSubmatch(string(data), -1)
	for _, m := range rules {
		if id := ofRules()[machine.Rule(m[1])]; !slices.Contains(refused.IDs(), id) || id == refused.Other {
			t.Errorf("the rule %s stands for %q", m[1], id)
		}
	}
	source, err := os.ReadFile("problem.go")
	if err != nil || len(rules) < 20 {
		t.Fatal(len(rules), err)
	}
	declared := 0
	for _, root := range []string{"../../core", ".."} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			pkg := filepath.Base(filepath.Dir(path))
			for _, m := range regexp.MustCompile(`(?m)^(?:var |\t)(Err[A-Z]\w*) += (?:errors\.New|fmt\.Errorf)\(`).FindAllStringSubmatch(string(text), -1) {
				name := pkg + "." + m[1]
				declared++
				told := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\b`).Match(source)
				if told == slices.Contains(unseen(), name) {
					t.Errorf("%s: it stands for an identifier: %v", name, told)
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if declared < 100 {
		t.Errorf("only %d errors are declared", declared)
	}
}
