package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// small is the terminal on which the whole of an answer has to be seen.
const smallRows, smallColumns = 24, 80

// TestPagesFit: every page of help is read without scrolling on 24 rows of 80 columns, its examples
// unbroken.
func TestPagesFit(t *testing.T) {
	pages := 0
	page := func(words ...string) {
		var out bytes.Buffer
		e := bareEnv()
		e.Out, e.Err = &out, &out
		if code := Run(context.Background(), e, append([]string{"help"}, words...)); code != 0 {
			t.Errorf("help %s: exit %d", strings.Join(words, " "), code)
		}
		pages++
		fitsScreen(t, "help "+strings.Join(words, " "), out.String(), smallRows-1) // the prompt takes one
	}
	for _, words := range []string{"", "common", "terms", "codes"} {
		page(strings.Fields(words)...)
	}
	walk(NewRoot(bareEnv()), func(c *cobra.Command) { page(strings.Fields(c.CommandPath())[1:]...) })
	if pages < 70 {
		t.Errorf("only %d pages", pages)
	}
}

// TestDraftsFit: the drafts of common changes, with a question behind them, too.
func TestDraftsFit(t *testing.T) {
	w := newWorld(t)
	seedBank(w)
	transcript(w, "$ fundus bench disk add sdn --size 64GiB --serial LS-20418\n")
	for _, line := range []string{
		"table new sdc --scheme gpt", "partition add sdb --size 2GiB --size 1GiB", "partition remove sdb2", "format sdb1 xfs --label mosses",
		"resize sdb1 max", "adjust sdb1 uuid=new reserved=1%", "label sdb1 plates", "erase sdc", "fstab add sdc /media/fieldcard --automount --idle=60s",
		"unit add sdc /media/fieldcard --automount --idle=60s --device-wait=5s", "mount sdc /srv/card --persist --make --owner 7:7 --mode 2770 --link /card", "undo", "swap add /srv/swap 1GiB --persist",
		"prepare sdn --as xfs --mount /srv/pollen --owner 7:7 --mode 2770 --link /pollen", "prepare sdn --as ext4 --mount /srv/pollen --record unit --automount --idle=60s",
	} {
		text, code := w.wide(smallColumns, line+" --draft")
		if code != 0 {
			t.Errorf("%s: exit %d: %s", line, code, text)
		}
		fitsScreen(t, line, text, smallRows-2)
	}
}

// TestNarrowAndWide: what is looked at most is as wide as the terminal, whether that is a telephone's, the
// usual one or a wide one; nothing of a row is broken by the terminal.
func TestNarrowAndWide(t *testing.T) {
	w := newWorld(t)
	seedBank(w)
	transcript(w, "$ append fernhill/root/etc/fstab UUID=5eed5eed-0000-4000-8000-000000000bad /srv/a-place-with-a-long-name/and-one-below ext4 defaults,noatime 0 2\n")
	for _, columns := range []int{40, 80, 120} {
		for _, line := range []string{"survey", "inspect sdb1", "inspect sdb", "verify", "verify --explain", "rehearse --all", "fstab list", "fstab check", "partition list sdb", "partition list sdb --identifiers", "deed list", "swap list", "unit list"} {
			text, _ := w.wide(columns, line)
			if strings.TrimSpace(text) == "" {
				t.Errorf("%s: nothing", line)
			}
			width(t, line, text, columns)
		}
	}
}

// seedBank is a bench with a disk in use, one that is a file system whole, swap, and a line for it.
func seedBank(w *world) {
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --model \"Larkspur S300\" --serial LS-20417\n$ fundus bench disk add sdc --size 4GiB --serial TA-7731 --removable --bus usb\n"+
		"$ fundus table new sdb --commit\n$ fundus partition add sdb --size 3GiB --name herbarium --commit\n$ fundus partition add sdb --size 1GiB --type swap --commit\n"+
		"$ fundus format sdb1 ext4 --label herbarium --commit\n$ fundus format sdb2 swap --label fern-swap --commit\n$ fundus format sdc ext4 --label FIELDCARD --commit\n"+
		"$ fundus fstab add sdb1 /srv/herbarium --commit\n$ fundus fstab add sdb2 swap --commit\n")
}

// wide runs a line on a terminal of a width.
func (w *world) wide(columns int, line string) (string, int) {
	var out bytes.Buffer
	e := *w.env
	e.o = options{}
	e.Out, e.Err, e.Width, e.Height, e.Terminal = &out, &out, columns+1, smallRows, true
	code := Run(context.Background(), &e, splitWords(line))
	return out.String(), code
}

// fitsScreen holds a text to a number of rows of 80 columns.
func fitsScreen(t *testing.T, name, words string, rows int) {
	t.Helper()
	if n := strings.Count(strings.TrimRight(words, "\n"), "\n") + 1; n > rows {
		t.Errorf("%s has %d rows:\n%s", name, n, words)
	}
	width(t, name, words, smallColumns)
}

// width holds every line to a number of columns, but for commands to be copied and single words.
func width(t *testing.T, name, words string, columns int) {
	t.Helper()
	for line := range strings.SplitSeq(words, "\n") {
		if n := text.StringWidthWithoutEscSequences(line); n > columns && len(strings.Fields(line)) > 2 && !strings.HasPrefix(strings.TrimSpace(line), "fundus ") {
			t.Errorf("%s at %d columns: %d: %s", name, columns, n, line)
		}
	}
}
