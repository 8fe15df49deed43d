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

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// offered are the words that a shell is given for the line, without what describes them.
func offered(w *world, words ...string) (out []string) {
	var b bytes.Buffer
	e := *w.env
	e.o, e.Out, e.Err = options{}, &b, &bytes.Buffer{}
	Run(context.Background(), &e, append([]string{"__complete"}, words...))
	for line := range strings.Lines(b.String()) {
		if word, _, _ := strings.Cut(strings.TrimSpace(line), "\t"); !strings.HasPrefix(word, ":") {
			out = append(out, word)
		}
	}
	return out
}

// TestCompletion: each word is offered what fits it and nothing that would be refused.
func TestCompletion(t *testing.T) {
	w := newWorld(t)
	transcript(w, `$ fundus bench new fernhill --host fernhill
$ fundus bench disk add sdb --size 4GiB --serial LS-20417
$ fundus table new sdb --commit --quiet
$ fundus partition add sdb --size 1GiB --size 1GiB --commit --quiet
$ fundus format sdb1 ext4 --label herbarium --commit --quiet
$ fundus fstab add sdb1 /srv/herbarium --commit --quiet
$ fundus mount /srv/herbarium
$ fundus format sdb2 ext4
`)
	for _, c := range []struct{ line, want string }{
		{"format |", "sda2 sdb2"}, {"format sdb2 |", "ext4 ext3 ext2 xfs fat swap"}, {"format sdb2 swap page=|", "page=4KiB page=8KiB page=16KiB page=32KiB page=64KiB for=any"}, {"table new |", "sda sdb"}, {"resize |", "sda1 sda2 sdb1 sdb2"},
		{"unmount |", "/ /srv/herbarium"}, {"mount sdb2 |", ""}, {"mount |", "sda2 / /srv/herbarium"}, {"fstab remove |", "/ /srv/herbarium"}, {"inspect |", "sda sda1 sda2 sdb sdb1 sdb2"},
		{"undo |", "4 3 2 1"}, {"deed show |", "4 3 2 1"}, {"table new sdb --scheme |", "gpt mbr"}, {"format sdb2 ext4 --references |", "follow drop disable keep"},
		{"recover --direction |", "back forward"}, {"survey --kind |", "FAT32 GPT ext4"}, {"survey --sizes |", "iec si sectors bytes"}, {"fstab add sdb2 /srv --by |", "uuid label partuuid partlabel path"},
		{"completion |", "bash zsh fish"}, {"format sdb2 ext4 --lose |", "QW-11830 fernhill LS-20417 herbarium"}, {"partition edit sdb1 --set |", "boot grow-file-system no-auto no-firmware read-only required"},
	} {
		words := strings.Split(strings.TrimSuffix(c.line, "|"), " ")
		got := strings.Join(offered(w, words...), " ")
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.line, got, c.want)
		}
	}
	if got := offered(w, "commit", ""); len(got) != 1 || len(got[0]) != 8 {
		t.Errorf("drafts: %v", got)
	}
	if got := offered(w, "partition", "add", "sdb", "--type", "e"); !slices.Contains(got, "esp") {
		t.Errorf("types: %v", got)
	}
}

// TestEveryWordIsCompleted: no command that takes words leaves them to file names, and no
// option of a fixed list has none.
func TestEveryWordIsCompleted(t *testing.T) {
	walk(NewRoot(bareEnv()), func(c *cobra.Command) {
		if takes := useOf(c) != strings.ToLower(useOf(c)); takes && !c.HasSubCommands() && c.ValidArgsFunction == nil && len(c.ValidArgs) == 0 && !strings.HasPrefix(useOf(c), "fundus bench") && c.Name() != "types" {
			t.Errorf("%s: nothing is offered for its words", useOf(c))
		}
		c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			if _, ok := c.GetFlagCompletionFunc(f.Name); !ok && strings.Contains(f.Usage, " or ") && strings.Contains(f.Usage, ":") && f.Value.Type() == "string" && !strings.Contains(f.Usage, "`") {
				t.Errorf("%s --%s: %s, and nothing is offered", c.CommandPath(), f.Name, f.Usage)
			}
		})
	})
}

// TestShells: the scripts complete in a bash that has no helpers and in a zsh, in the middle
// of an option as well.
func TestShells(t *testing.T) {
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
			t.Logf("there is no %s", shell)
			continue
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
