package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"
)

// answer runs a command with somebody at the terminal.
func (w *world) answer(typed, line string) (int, string) {
	var out bytes.Buffer
	e := *w.env
	e.o = options{}
	e.Out, e.Err, e.In, e.Ask = &out, &out, strings.NewReader(typed), true
	return Run(context.Background(), &e, splitWords(line)), out.String()
}

// TestQuestions: what is lost must be typed as it stands in the draft, else yes; anything else ends it, and nothing is stored.
func TestQuestions(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 1GiB --serial LS-20417\n")
	for _, c := range []struct {
		typed, line string
		exit        int
		shows       string
	}{
		{"no\n", "table new sdb", 1, "bench fernhill, sdb (LS-20417): type yes to go ahead"},
		{"\n", "table new sdb", 1, "nothing was typed"},
		{"", "table new sdb", 1, "fundus: stopped"},
		{"yes\n", "table new sdb", 0, "done"},
		{"yes\n", "partition add sdb", 0, "done"},
		{"yes\n", "format sdb1 ext4 --label herbarium", 0, "done"},
		{"yes\n", "partition edit sdb1 --name seeds", 0, "done"},
		{"y\n", "partition edit sdb1 --name mosses", 1, `"y" is not "yes"`},
		{"yes\n", "format sdb1 ext4 --label mosses", 1, `"yes" is not "herbarium"`},
		{"herbarium\n", "format sdb1 ext4 --lose=wrong", 1, "--lose=wrong names nothing that is lost; what is: herbarium"},
		{"", "format sdb1 ext4 --label mosses", 1, "type herbarium to destroy sdb1 (ext4 herbarium,"},
		{"herbarium\n", "format sdb1 ext4", 0, "done"},
		{"0417\n", "partition remove sdb1", 0, "type 0417 to destroy"},
		{"yes\n", "undo", 0, "done"},
	} {
		code, out := w.answer(c.typed, c.line)
		out = strings.Join(strings.Fields(out), " ")
		if code != c.exit || !strings.Contains(out, c.shows) || code == 1 && !strings.Contains(out, "nothing was changed") {
			t.Errorf("%s, answered %q: exit %d, want %d with %q:\n%s", c.line, c.typed, code, c.exit, c.shows, out)
		}
		if strings.Contains(out, "commit ") {
			t.Errorf("%s, answered %q: a draft was stored:\n%s", c.line, c.typed, out)
		}
	}
	if _, out := w.answer("", "draft list"); !strings.Contains(out, "no drafts") {
		t.Errorf("drafts are left: %s", out)
	}
}

// TestSerialConsole: 80 columns without UTF-8 get ASCII, no line is longer than
// 79 columns, and text from a disk cannot play tricks.
func TestSerialConsole(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 1GiB --serial \"LS\x1b[2J20417\" --model \"Tansy \u202eT40\"\n"+
		"$ fundus table new sdb --commit\n$ fundus partition add sdb --size 500MiB --name \"a\x1b[31mb\" --commit\n$ fundus format sdb1 ext4 --label \"x\ay\" --commit\n"+
		"$ fundus bench disk add sdc --size 1GiB\n$ fundus bench disk fault sdc --hangs\n")
	w.env.Getenv = func(name string) string { return map[string]string{"FUNDUS_BENCH": "fernhill", "LANG": "C"}[name] }
	w.env.Terminal, w.env.Width = true, 80
	for _, line := range []string{"survey", "inspect sdb1", "rehearse", "verify", "partition add sdb --draft", "deed list", "partition list sdb",
		"survey --unused", "survey --all --kind ext4", "inspect sda", "inspect sdb1 --fields --bytes=0x400+200", "inspect --configuration", "verify --severity=note"} {
		_, out := w.answer("", line)
		out = strings.NewReplacer("\x1b[1m", "", "\x1b[0m", "", "\x1b[32m", "", "\x1b[33m", "", "\x1b[90m", "", "\x1b[31;1m", "").Replace(out)
		for l := range strings.Lines(out) {
			if l = strings.TrimRight(l, "\n"); len(l) > 80 && line != "deed list" {
				t.Errorf("%s: %d columns: %q", line, len(l), l)
			}
			for _, r := range l {
				if r < ' ' || r > '~' {
					t.Errorf("%s: %q in %q", line, r, l)
					break
				}
			}
		}
	}
}

// TestDemo: the demo does what it shows: six steps in a minute's reading, every chapter, and an end at
// each pause.
func TestDemo(t *testing.T) {
	w := newWorld(t)
	length := func(out string) int { return strings.Count(unhurried(out), "\n") }
	code, out := w.answer("\n\n\n\n\n\n\n", "demo")
	if n := length(out); code != 0 || n > 75 || strings.Count(out, "\n$ fundus ") < 6 { // with the pauses
		t.Errorf("exit %d, %d lines:\n%s", code, n, out)
	}
	out = w.fundus("demo")
	if n := length(out); n > 60 {
		t.Errorf("%d lines:\n%s", n, out)
	}
	if code, out := w.answer("q\n", "demo"); code != 0 || strings.Contains(out, "2. Format") {
		t.Errorf("q: exit %d:\n%s", code, out)
	}
	if testing.Short() { // beside the race detector, which the transcripts are for
		return
	}
	if out := w.fundus("demo all --keep kept"); !w.exists("kept/bench.yaml") || strings.Contains(out, "went wrong") {
		t.Errorf("%s", out)
	}
	if out := w.fundus("demo boots"); !strings.Contains(out, "Four mistakes") || strings.Contains(out, "seed bank on a hill") {
		t.Errorf("%s", out)
	}
	if code, out := w.answer("", "demo garden"); code != 2 || !strings.Contains(out, "fundus demo --list") {
		t.Errorf("exit %d: %s", code, out)
	}
}

// TestFits: a change on a disk of twelve partitions, with its question, stands on a terminal
// of 24 rows and 80 columns as a whole, and so does every draft of a change on it.
func TestFits(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 64GiB --model \"Larkspur S300\" --serial LS-20417\n$ fundus table new sdb --commit --quiet\n"+
		"$ fundus partition add sdb "+strings.Repeat("--size 2GiB ", 12)+"--commit --quiet\n$ fundus format sdb3 ext4 --label herbarium --commit --quiet\n$ fundus fstab add sdb3 /srv/herbarium --commit --quiet\n")
	for _, line := range []string{
		"format sdb3 ext4 --label mosses reserved=1% --references drop", "partition remove sdb4", "partition remove sdb3 sdb4 sdb9 --references=drop", "partition add sdb --size 4GiB --name scans",
		"resize sdb12 max", "table new sdb --references=keep", "fstab remove /srv/herbarium", "partition edit sdb7 --type swap --name swap", "undo",
	} {
		_, out := w.answer("no\n", line)
		out, _, asked := strings.Cut(out, "to stop:")
		rows := strings.Split(strings.TrimSpace(out), "\n")
		if len(rows) > 23 || !asked { // one is the prompt's, which was typed at
			t.Errorf("%s: %d rows:\n%s", line, len(rows), out)
		}
		for _, row := range rows {
			if n := len([]rune(row)); n > 80 {
				t.Errorf("%s: %d columns: %s", line, n, row)
			}
		}
	}
}
