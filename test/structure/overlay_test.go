package structure

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// overlay is the program with files and rows that are not there.
type overlay struct {
	t       *testing.T
	dir     string // of what is written for it
	root    string // of the project
	replace map[string]string
}

func newOverlay(t *testing.T) *overlay {
	t.Helper()
	root, err := filepath.Abs(filepath.Join("..", ".."))
	if err != nil {
		t.Fatal(err)
	}
	return &overlay{t, t.TempDir(), root, map[string]string{}}
}

// row puts a line in front of one that is there once.
func (o *overlay) row(path, before, row string) {
	o.t.Helper()
	full := filepath.Join(o.root, path)
	from := full
	if changed, ok := o.replace[full]; ok {
		from = changed
	}
	text, err := os.ReadFile(from)
	if err != nil {
		o.t.Fatal(err)
	}
	if n := strings.Count(string(text), before); n != 1 {
		o.t.Fatalf("the row found %d places in %s", n, path)
	}
	to := filepath.Join(o.dir, strings.ReplaceAll(path, "/", "-"))
	if err := os.WriteFile(to, []byte(strings.Replace(string(text), before, row+before, 1)), 0o644); err != nil {
		o.t.Fatal(err)
	}
	o.replace[full] = to
}

// file adds one of testdata.
func (o *overlay) file(path, from string) {
	o.t.Helper()
	source, err := filepath.Abs(filepath.Join("testdata", from))
	if err != nil {
		o.t.Fatal(err)
	}
	o.replace[filepath.Join(o.root, path)] = source
}

// written is the file that says all that to the compiler.
func (o *overlay) written() string {
	o.t.Helper()
	data, err := json.Marshal(map[string]any{"Replace": o.replace})
	at := filepath.Join(o.dir, "overlay.json")
	if err == nil {
		err = os.WriteFile(at, data, 0o644)
	}
	if err != nil {
		o.t.Fatal(err)
	}
	return at
}

func (o *overlay) run(words ...string) string {
	o.t.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir = o.root
	out, err := cmd.CombinedOutput()
	if err != nil {
		o.t.Fatalf("%v: %s", err, out)
	}
	return string(out)
}
