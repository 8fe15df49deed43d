package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

func newDemo(e *Env) *cobra.Command {
	keep, fast := "", false
	cmd := &cobra.Command{
		Use: "demo", Short: "See the whole road on a simulated machine",
		Long: `See the whole road on a simulated machine, the seed bank of Fernhill: a new disk
becomes the herbarium's store. On the way one mistake is caught, one is undone,
and a commit that is cut short is recovered. Every line is the real command and
its real output; the demo stops with an error if one does anything unexpected.`,
		Example: "  fundus demo\n  fundus demo --keep fernhill", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error { return e.demo(cmd.Context(), keep, fast) },
	}
	cmd.Flags().BoolVar(&fast, "fast", false, "do not pause after each step")
	cmd.Flags().StringVar(&keep, "keep", "", "keep the bench in `DIR`")
	return cmd
}

// scene is one step of the demo: prose, a command with what it must do, or an
// edit of a file by hand.
type scene struct {
	say   string
	words string // of the command, split at blanks; quotes group
	exit  int
	shows string // must stand in the output
	hand  func(dir string) error
	mend  string // words of a command that names another one, which is run then
}

func (e *Env) demo(ctx context.Context, keep string, fast bool) error {
	dir := keep
	if dir == "" {
		temp, err := os.MkdirTemp("", "fundus-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temp)
		dir = filepath.Join(temp, "fernhill")
	}
	show := e.printer()
	lines := (<-chan answer)(nil)
	if e.Ask && !fast {
		lines = typed(e.In)
	}
	for i, a := range script() {
		if lines != nil && a.say != "" && i > 0 {
			fmt.Fprint(e.Out, "\n(Enter goes on) ")
			select {
			case <-ctx.Done():
				return errStopped
			case <-lines:
			}
		}
		switch {
		case a.say != "":
			show.Prose(a.say)
		case a.hand != nil:
			if err := a.hand(dir); err != nil {
				return err
			}
		case a.mend != "":
			if err := e.follow(ctx, dir, a); err != nil {
				return err
			}
		default:
			if err := e.perform(ctx, dir, a); err != nil {
				return err
			}
		}
	}
	if keep != "" {
		show.Prose("The bench is kept; to go on with it: export FUNDUS_BENCH=" + keep)
	}
	return nil
}

// perform runs one command in the same program and holds it to what it must do.
func (e *Env) perform(ctx context.Context, dir string, a scene) error {
	e.printer().Command("fundus " + a.words)
	text, code := e.quietly(ctx, dir, a.words)
	if _, err := e.Out.Write([]byte(text)); err != nil {
		return err
	}
	if code != a.exit || !strings.Contains(text, a.shows) {
		return fmt.Errorf("the demo went wrong: fundus %s: exit code %d, expected %d, and %q in the output", a.words, code, a.exit, a.shows)
	}
	if code != 0 {
		e.printer().Prose(fmt.Sprintf("(exit code %d)", code))
	}
	return nil
}

// quietly runs one command on the demo's bench, and gives what it says.
func (e *Env) quietly(ctx context.Context, dir, line string) (text string, code int) {
	var said bytes.Buffer
	inner := *e
	inner.o = options{}
	inner.Out, inner.Err, inner.Ask = &said, &said, false
	inner.Getenv = func(name string) string {
		if name == "FUNDUS_BENCH" {
			return dir
		}
		return e.Getenv(name)
	}
	code = Run(ctx, &inner, splitWords(strings.ReplaceAll(line, "DIR", dir)))
	return strings.ReplaceAll(said.String(), dir, "fernhill"), code
}

// follow runs the command that another one names as what mends.
func (e *Env) follow(ctx context.Context, dir string, a scene) error {
	text, _ := e.quietly(ctx, dir, a.mend)
	for line := range strings.Lines(text) {
		next, is := strings.CutPrefix(strings.TrimSpace(line), "fundus ")
		if !is || !strings.HasPrefix(line, "      ") {
			continue
		}
		if !strings.HasPrefix(next, "mount ") {
			next += " --commit"
		}
		return e.perform(ctx, dir, scene{words: next, shows: a.shows})
	}
	return fmt.Errorf("the demo went wrong: fundus %s names no command that mends", a.mend)
}

// splitWords splits at blanks, but not inside double quotes.
func splitWords(line string) []string {
	var out []string
	for i, part := range strings.Split(line, `"`) {
		if i%2 == 1 {
			out = append(out, part)
			continue
		}
		out = append(out, strings.Fields(part)...)
	}
	return out
}

func say(words string) scene                    { return scene{say: words} }
func run(words, shows string) scene             { return scene{words: words, shows: shows} }
func fails(exit int, words, shows string) scene { return scene{words: words, exit: exit, shows: shows} }

// script is the demo.
func script() []scene { return slices.Concat(herbarium(), media(), boots()) }

// herbarium is its first part: a new disk comes into use, and what may go wrong with it.
func herbarium() []scene {
	return []scene{
		say("Fernhill is a seed bank on a hill. Its machine has got a new disk for scans of specimens. First: which one is it?"),
		run("bench new DIR --host fernhill --root-last", "is up"),
		run(`bench disk add sdb --size 64GiB --model "Larkspur S300" --serial LS-20417`, "plugged in"),
		run("survey", "Larkspur S300"),
		say("A mistake is caught: sda1 carries the running system."),
		fails(1, "format sda1 ext4 --label herbarium --lose=fernhill --commit", "carries the running system's root"),
		say("The new disk gets a table and a partition. Each draft shows what goes and what comes."),
		run("table new sdb --scheme gpt --commit", "done: put a new GPT on sdb"),
		run("partition add sdb --size 20GiB --name herbarium --commit", "done: add partition 1 on sdb"),
		say("Without --commit a draft waits for its code, and nothing is written."),
		fails(3, "format sdb1 ext4 --label herbarium", "to go ahead:"),
		run("format sdb1 ext4 --label herbarium --commit --quiet", "done: format sdb1 as ext4"),
		run("fstab add sdb1 /srv/herbarium --commit", "done: add an fstab line"),
		run("mount /srv/herbarium", "done: mount sdb1"),
		run("rehearse", "comes up"),
		run("verify", "in order"),
		say("Somebody edits fstab by hand, and mistypes an identifier. The rehearsal sees what the next boot would do."),
		{hand: mistype},
		fails(4, "rehearse", "emergency shell"),
		run("fstab remove /srv/scans --commit --quiet", "done: remove the fstab line"),
		run("rehearse", "comes up"),
		say("One option is added, and no other byte changes. For a while nothing is to be mounted there: the line becomes a comment, and comes back as it was."),
		run("fstab edit /srv/herbarium --add=noatime --commit", "nofail,noatime"),
		run("fstab disable /srv/herbarium --commit --quiet", "done: disable"),
		run("fstab list --all", "1 disabled"),
		run("fstab enable /srv/herbarium --commit --quiet", "done: enable"),
		say("A script empties fstab on a Friday evening. It was seen before, and is brought back."),
		{hand: empty},
		fails(4, "fstab check", "fstab-emptied"),
		run("fstab restore --commit --quiet", "done: bring back fstab"),
		run("fstab list", "2 lines"),
		say("Another disk holds the archive. It is formatted by mistake, and the newest deed is taken back: every byte returns."),
		run(`bench disk add sdc --size 32GiB --model "Tansy T40" --serial TA-7731`, "plugged in"),
		run("format sdc ext4 --label archive --commit --quiet", "done"),
		fails(1, "format sdc ext4 --label scratch --commit --quiet", "--lose=archive"),
		run("format sdc ext4 --label scratch --lose=archive --commit --quiet", "done"),
		run("undo --commit", "ext4 archive"),
		say("The power goes in the middle of a commit. What is unfinished is fenced: nothing mounts it."),
		run("bench disk fault sdc --cut-at-write=20 --seed=7", "planted"),
		fails(5, "format sdc ext4 --label scratch --lose=archive --commit --quiet", "fundus recover"),
		run("bench boot", "comes up"),
		fails(4, "verify", "content-fenced"),
		run("recover --direction=back", "everything is as before"),
		run("survey", "archive"),
		run("deed list", "taken back"),
	}
}

// media is its second part: removable media and their kinds, a disk that grows, a table that
// is lost.
func media() []scene {
	return []scene{
		say("A card from the field recorder has an old table: four entries, one of which holds the logical partitions. One of those goes, and the next one moves up; what names it follows."),
		run(`bench disk add sdd --size 32GB --removable --bus usb --model "Larkspur Card" --serial LS-00093`, "plugged in"),
		run("table new sdd --scheme mbr --commit --quiet", "done"),
		run("partition add sdd --size 20GiB --type extended --commit --quiet", "done: add partition 1"),
		run("partition add sdd --size 4GiB --size max --commit", "done: add partitions 5 and 6"),
		run("format sdd6 ext4 --label FIELDCARD --commit --quiet", "done"),
		run("fstab add sdd6 /srv/recorder --by partuuid --commit --quiet", "done"),
		run("partition remove sdd5 --commit", "partition 6 becomes 5"),
		run("fstab list", "sdd5"),
		say("The recorder itself reads FAT alone. Its own card gets one, as large as it is, with a label in capitals; and the machine gets an area of swap beside the herbarium."),
		run(`bench disk add sdf --size 32GiB --removable --bus usb --model "Field Recorder 3" --serial FR-0091`, "plugged in"),
		run("table new sdf --scheme mbr --commit --quiet", "done"),
		run("partition add sdf --type fat32 --commit --quiet", "done: add partition 1"),
		run(`format sdf1 fat --label "field rec" --commit --steps`, "FAT32: "),
		say("A card that comes and goes is best mounted at the first access, and let go when nobody uses it: by units of systemd's own. What they say can be a line of fstab too, and back."),
		run("unit add sdf1 /media/recorder --automount --idle=60s --commit", "done: add media-recorder.automount"),
		run("unit list", "/media/recorder"),
		run("fstab add --from-unit /media/recorder --commit", "x-systemd.automount"),
		run("undo --commit --quiet", "done: undo"),
		run("partition add sdb --size 8GiB --type swap --commit --quiet", "done: add partition 2"),
		run("format sdb2 swap --label fern-swap --commit --quiet", "done: format sdb2 as swap"),
		run("fstab add sdb2 swap --commit --quiet", "done: add an fstab line"),
		run("fstab remove sdb2 --commit --quiet", "done: remove"),
		fails(1, "erase sdb2 --commit --quiet", "--lose=fern-swap"),
		run("erase sdb2 --lose=fern-swap --commit", "Linux and udev go by it"),
		run("partition remove sdb2 --lose=0417 --commit --quiet", "done"),
		say("The store of the new disk is made larger. The kernel is told, and the next change takes the table's backup copy to the new end first."),
		run("bench disk resize sdb --size 96GiB", "96GiB"),
		run("rescan sdb", "before 64.0 GiB"),
		fails(4, "verify sdb", "table-backup-misplaced"),
		say("The herbarium takes a part of the new room while it is in use: the partition first, then the kernel makes the file system larger. Place, number and identifiers stay."),
		run("resize /srv/herbarium 40GiB --commit", "while it is mounted"),
		fails(1, "resize /srv/herbarium 10GiB", "cannot make it smaller"),
		run("verify sdb", "in order"),
		say("The system's own disk is a virtual one, and becomes larger as well. One command asks it for its size, and the running system's root grows while everybody works on it. That has no way back, which the draft says first."),
		run("bench disk resize sda --size 96GiB", "96GiB"),
		run("resize / max --commit --steps", "from here on there is no"),
		fails(1, "undo last", "no way back"),
		run("verify sda", "in order"),
		run("rehearse", "comes up"),
		run("partition add sdb --size max --name images --commit", "done: add partition 2"),
		say("Small images of the sheets are many: they get blocks of 2 KiB, with 5% in reserve, and the multiplication checks it. Later the reserve is cut, and it gets another identifier; its line of fstab follows."),
		run("format sdb2 ext4 --label images block=2KiB reserved=5% --commit", "2KiB"),
		run("inspect sdb2", "29359104 blocks × 2048 bytes = 60127444992 bytes"),
		run("fstab add sdb2 /srv/images --commit --quiet", "done: add an fstab line"),
		run("adjust sdb2 reserved=1% on-error=read-only uuid=new --commit", "5% becomes 1%"),
		run("fstab remove /srv/images --commit --quiet", "done: remove"),
		say("Somebody wipes the beginning and the end of that disk. The table is saved nowhere, but what it named is still there."),
		run("unmount /srv/herbarium", "done"),
		{hand: wipe},
		run("bench disk remove sdb", "pulled out"),
		run(`bench disk add sdb --size 96GiB --model "Larkspur S300" --serial LS-20417`, "plugged in"),
		run("table repair sdb --search", "2 proposed"),
		run("table repair sdb --search --choose proposed --commit", "done: rebuild the table"),
		run("survey sdb", "herbarium"),
	}
}

// boots is its third part: four mistakes that a machine does not come up with, each rehearsed,
// mended by the command that is named, and rehearsed again.
func boots() []scene {
	return []scene{
		say("Four mistakes of which one hears at the next boot. The first: swap was made anew by hand, and has another UUID than its line says."),
		run(`bench disk add sdg --size 16GiB --model "Quillwort Q90" --serial QW-00907`, "plugged in"),
		run("table new sdg --commit --quiet", "done"),
		run("partition add sdg --size 4GiB --type swap --commit --quiet", "done"),
		run("format sdg1 swap --commit --quiet", "done"),
		run("fstab add sdg1 swap --commit --quiet", "done"),
		{hand: swapAnew},
		fails(4, "rehearse", "fundus adjust sdg1 uuid="),
		{mend: "rehearse", shows: "comes up; as it is now"},
		say("The second: a disk for seeds gets a line by hand, and nobody makes the directory; but the root is to be read-only, and then nothing can make it."),
		run("fstab edit / --add=ro --commit --quiet", "done"),
		run(`bench disk add sdh --size 32GiB --model "Tansy T40" --serial TA-7805`, "plugged in"),
		run("format sdh ext4 --label seeds --commit --quiet", "done"),
		{hand: appended("LABEL=seeds /srv/seeds ext4 defaults 0 2\n")},
		fails(4, "rehearse /srv/seeds", "nothing can make it"),
		{mend: "rehearse", shows: "done: mount sdh"},
		run("rehearse /srv/seeds", "comes up"),
		say("The third: the line says another kind than the disk holds."),
		{hand: replaced("/srv/seeds ext4", "/srv/seeds xfs")},
		fails(4, "rehearse", "it holds ext4, not xfs"),
		{mend: "rehearse", shows: "comes up; as it is now"},
		say("The fourth has not happened yet: what if the disk were not plugged in? Nobody said that the boot may go on without it."),
		fails(4, "rehearse --absent=sdh", "emergency shell"),
		{mend: "rehearse --absent=sdh", shows: "nofail"},
		fails(4, "rehearse --absent=sdh", "comes up; without 1 line"),
		run("rehearse", "comes up"),
	}
}

// tableOf is the bench's table of file systems.
func tableOf(dir string) string { return filepath.Join(dir, "root", "etc", "fstab") }

// appended adds a line by hand, replaced changes words.
func appended(line string) func(dir string) error {
	return func(dir string) error {
		data, err := os.ReadFile(tableOf(dir))
		return errors.Join(err, os.WriteFile(tableOf(dir), append(data, line...), 0o644))
	}
}

func replaced(old, new string) func(dir string) error {
	return func(dir string) error {
		data, err := os.ReadFile(tableOf(dir))
		return errors.Join(err, os.WriteFile(tableOf(dir), []byte(strings.Replace(string(data), old, new, 1)), 0o644))
	}
}

// swapAnew gives the area of swap another UUID, as one does who makes it once more.
func swapAnew(dir string) error {
	f, err := os.OpenFile(filepath.Join(dir, "disks", "sdg.img"), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	const partition, uuidAt = 1 << 20, 1036 // include/linux/swap.h: behind the boot block and three numbers
	_, err = f.WriteAt([]byte{0xf0, 0x0d}, partition+uuidAt)
	return errors.Join(err, f.Close())
}

// empty is what a script leaves that fails halfway.
func empty(dir string) error {
	return os.Truncate(filepath.Join(dir, "root", "etc", "fstab"), 0)
}

// wipe zeroes both copies of the table, as a careless copy onto the disk does.
func wipe(dir string) error {
	f, err := os.OpenFile(filepath.Join(dir, "disks", "sdb.img"), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	zeros := make([]byte, 1<<20)
	_, first := f.WriteAt(zeros, 0)
	_, last := f.WriteAt(zeros[:64<<10], info.Size()-64<<10)
	return errors.Join(first, last)
}

// mistype adds a line for a device that does not exist.
func mistype(dir string) error {
	f, err := os.OpenFile(filepath.Join(dir, "root", "etc", "fstab"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteString("UUID=5eed5eed-0000-4000-8000-000000000bad /srv/scans ext4 defaults 0 2\n")
	return err
}
