//go:build proof

package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestProofManual: two readers of manual pages have nothing to say against any; one page is, at 80 columns,
// what it was; and who asks for a word finds the commands that are about it.
func TestProofManual(t *testing.T) {
	top := t.TempDir()
	dir := filepath.Join(top, "man8")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	var files []string
	for name, text := range pagesOf(t) {
		at := filepath.Join(dir, name)
		if !strings.HasSuffix(name, ".8") { // each section has a directory of its own
			at = filepath.Join(top, "man"+name[len(name)-1:], name)
			if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(at, text, 0o644); err != nil {
			t.Fatal(err)
		}
		files = append(files, at)
	}
	if out, err := exec.Command("mandoc", append([]string{"-Tlint", "-W", "warning"}, files...)...).CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("%v\n%s", err, out)
	}
	env := append(os.Environ(), "MANWIDTH=80", "MANROFFSEQ=", "LC_ALL=C.UTF-8", "MANPATH="+top)
	for _, at := range files {
		cmd := exec.Command("man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", "-Z", at)
		cmd.Env = env
		var complaints strings.Builder
		cmd.Stderr = &complaints
		if err := cmd.Run(); err != nil || complaints.Len() > 0 {
			t.Errorf("%s: %v\n%s", at, err, complaints.String())
		}
	}
	page, err := exec.Command("mandoc", "-Tascii", "-O", "width=80", filepath.Join(dir, "fundus-label.8")).Output()
	if err != nil {
		t.Fatal(err)
	}
	holdFile(t, filepath.Join("testdata", "label.8.txt"), plainPage(page))
	if out, err := exec.Command("mandb", "-q", "-u", top).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for word, want := range map[string][]string{"partition": {"fundus-format", "fundus-partition", "fundus-resize"}, "fstab": {"fundus-fstab", "fundus"}, "disk": {"fundus-prepare", "fundus-survey"}} {
		cmd := exec.Command("apropos", "-M", top, word)
		cmd.Env = env
		out, err := cmd.CombinedOutput()
		for _, name := range want {
			if err != nil || !strings.Contains("\n"+string(out), "\n"+name+" (") {
				t.Errorf("apropos %s: %v, no %s in\n%s", word, err, name, out)
			}
		}
	}
}

// plainPage is a page without what is struck over for bold letters and lines below.
func plainPage(page []byte) (out []byte) {
	for i, b := range page {
		switch {
		case b == '\b' && len(out) > 0:
			out = out[:len(out)-1]
		case b != '\b':
			out = append(out, page[i])
		}
	}
	return out
}
