//go:build proof

package cli

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestProofShells: the scripts complete in a bash that has no helpers and in a zsh, in the middle
// of an option as well.
func TestProofShells(t *testing.T) {
	// The program is stood in for by one that answers a list.
	answers := "fundus() { printf 'gpt\\tone\\nmbr\\tother\\n:4\\n'; }\n"
	shells := map[string][]string{
		"bash": {"--norc", "--noprofile", "-c", answers + `compopt() { :; }; source "$SCRIPT"
COMP_LINE=$LINE COMP_POINT=${#LINE} COMP_TYPE=9; __start_fundus; for r in "${COMPREPLY[@]}"; do echo "${r%% *}"; done`},
		"zsh": {"-f", "-c", answers + `compdef() { :; }; source "$SCRIPT"
_describe() { for c in $completions; do print -r -- ${c%%:*}; done; }
words=("${(@s: :)LINE}") CURRENT=$#words; _fundus`},
	}
	for shell, args := range shells {
		path, err := exec.LookPath(shell)
		if err != nil {
			t.Fatal(err)
		}
		script := filepath.Join(t.TempDir(), shell)
		var text bytes.Buffer
		e := *newWorld(t).env
		e.Out, e.Err = &text, &text
		if code := Run(context.Background(), &e, []string{"completion", shell}); code != 0 {
			t.Fatal(text.String())
		}
		if err := os.WriteFile(script, text.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		for line, want := range map[string]string{"fundus table new sdb --scheme g": "gpt", "fundus table new sdb --scheme=m": "mbr", "fundus table ": "gpt mbr"} {
			run := exec.Command(path, args...)
			run.Env = []string{"SCRIPT=" + script, "LINE=" + line}
			out, err := run.CombinedOutput()
			got := strings.Join(strings.Fields(string(out)), " ")
			if shell == "zsh" && err == nil { // narrows the list itself
				got = strings.Join(slices.DeleteFunc(strings.Fields(got), func(w string) bool { return !slices.Contains(strings.Fields(want), w) }), " ")
			}
			if err != nil || got != want {
				t.Errorf("%s: %s: %q, %v, want %q", shell, line, out, err, want)
			}
		}
	}
}
