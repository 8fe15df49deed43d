package cli

import (
	"slices"
	"strings"
	"testing"
)

// TestFirstGuesses: what somebody types who does not know the words gets the line that does it, filled in,
// as a draft where it would destroy; and where no such line can be built, the help of the command.
func TestFirstGuesses(t *testing.T) {
	w := newWorld(t)
	seedBank(w)
	for typed, want := range map[string]string{
		"list":                           "survey",
		"show":                           "survey",
		"delete sdb1":                    "partition remove sdb1 --draft",
		"new sdb":                        "partition add sdb",
		"create sdb --size 2GiB":         "partition add sdb --size 2GiB",
		"rename sdb1 seeds":              "label sdb1 seeds",
		"shrink sdb1 2GiB":               "resize sdb1 2GiB",
		"grow sdb1 max":                  "resize sdb1 max",
		"extend /srv/herbarium max":      "resize /srv/herbarium max",
		"eject sdb1":                     "unmount sdb1",
		"ext4 sdc":                       "format sdc ext4 --draft",
		"xfs sdb1 --label seeds":         "format sdb1 xfs --label seeds --draft",
		"gpt sdc":                        "table new sdc --scheme gpt --draft",
		"format ext4 sdc --commit":       "format sdc ext4 --draft",
		"add partition sdb":              "partition add sdb",
		"list partitions sdb":            "partition list sdb",
		"list fstab":                     "fstab list",
		"remove partition sdb2 --commit": "partition remove sdb2 --draft",
		"delete partition sdb2":          "partition remove sdb2 --draft",
		"sdb1 inspect":                   "inspect sdb1",
		"sdb partition":                  "help partition",
		"label seeds sdb1":               "label sdb1 seeds",
		"resize 2GiB sdb1":               "resize sdb1 2GiB --draft",
		"swap add 1GiB /srv/swap":        "swap add /srv/swap 1GiB --draft",
		"adjust sdb1 label=seeds":        "label sdb1 seeds",
		"fstab add /srv/x sdc":           "fstab add sdc /srv/x",
		"mount sdb1 sdc":                 "mount sdb1 DIRECTORY",
		"swap":                           "help swap",
		"partition":                      "help partition",
		"partition add sdb --force":      "help partition add",
		"table new sdb":                  "", // two partitions, which are lost: a draft that waits
		"survey -l":                      "help survey",
		"formt sdc ext4":                 "help",
		"partition remov sdb1":           "help partition",
		"unmout /srv/herbarium":          "unmount /srv/herbarium",
		"settings ext4 reservd":          "settings ext4",
		"sdb":                            "survey sdb",
		"ext4":                           "settings ext4",
		"rename sdb1":                    "label sdb1 NAME",
		"grow /srv/herbarium":            "resize /srv/herbarium SIZE",
		"mount /srv/herbarium sdb1":      "mount sdb1 /srv/herbarium",
		"undo latest":                    "deed list",
	} {
		out := w.fundus(typed)
		got := ""
		for line := range strings.SplitSeq(out, "\n") {
			if next, is := strings.CutPrefix(line, "  fundus "); is {
				got = next
			}
		}
		if want != "" && got != want {
			t.Errorf("%s: leads to %q, want %q:\n%s", typed, got, want, out)
		}
		first := strings.Fields(got + " x x")
		if words := strings.Fields(got); len(words) > 0 && words[0] != "help" && (destroys(first[0]) || destroys(first[0]+" "+first[1])) && !slices.Contains(words, "--draft") {
			t.Errorf("%s: leads to %q, which destroys", typed, got)
		}
	}
}
