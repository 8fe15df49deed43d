package cli

import (
	"bytes"
	"context"
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
		{"undo |", "4 3"}, {"deed show |", "4 3 2 1"}, {"table new sdb --scheme |", "gpt mbr"}, {"format sdb2 ext4 --references |", "follow drop disable keep"},
		{"recover --direction |", "back forward"}, {"survey --kind |", "FAT32 GPT ext4"}, {"survey --sizes |", "iec si sectors bytes"}, {"fstab add sdb2 /srv --by |", "uuid label partuuid partlabel path"},
		{"completion |", "bash zsh fish"}, {"format sdb2 ext4 --lose |", "QW-11830 fernhill LS-20417 herbarium"}, {"partition edit sdb1 --set |", "boot grows no-firmware not-by-itself read-only required"},
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
