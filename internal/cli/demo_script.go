package cli

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
)

func say(words string) scene                    { return scene{say: words} }
func run(words, shows string) scene             { return scene{words: words, shows: shows} }
func fails(exit int, words, shows string) scene { return scene{words: words, exit: exit, shows: shows} }
func hidden(words, shows string) scene          { return scene{words: words, shows: shows, hidden: true} }

func byHand(edit string, hand func(dir string) error) scene { return scene{edit: edit, hand: hand} }

// short is what fits into a minute: six steps.
func short() []scene {
	return []scene{
		hidden("bench new DIR --host fernhill", "is up"),
		hidden(`bench disk add sdb --size 64GiB --model "Larkspur S300" --serial LS-20417`, "plugged in"),
		say("1. Look. The seed bank of Fernhill has a new disk, sdb."),
		run("survey", "Larkspur S300"),
		say("2. Format it. The draft shows what goes and what comes."),
		run("format sdb ext4 --label herbarium --commit", "done: format sdb as ext4"),
		say("3. A mistake is refused: sda1 carries the running system."),
		fails(1, "format sda1 ext4 --lose=fernhill --commit", "carries the running system's root"),
		say("4. Another one is not, and is undone: every byte returns."),
		run("format sdb xfs --lose=herbarium --commit --quiet", "done"),
		run("undo --commit --quiet", "done"),
		say("5. The power fails during a commit. What is unfinished is fenced."),
		hidden("bench disk fault sdb --cut-at-write=20 --seed=7", "planted"),
		fails(5, "format sdb xfs --lose=herbarium --commit --quiet", "fundus recover"),
		hidden("bench boot", "comes up"),
		run("recover --direction=back", "everything is as before"),
		say("6. A line of fstab names no device. Would the next boot come up?"),
		byHand("echo 'LABEL=scans /srv/scans ext4 defaults 0 2' >> /etc/fstab", appended("LABEL=scans /srv/scans ext4 defaults 0 2\n")),
		fails(4, "rehearse", "emergency shell"),
		say("More: fundus demo --list. On this machine: fundus survey."),
	}
}

// herbarium is its first part: a new disk comes into use, and what may go wrong with it.
func herbarium() []scene {
	return []scene{
		say("Fernhill is a seed bank on a hill. Its machine has got a new disk for scans of specimens. First: which one is it?"),
		run("bench new DIR --host fernhill --root-last", "is up"),
		run(`bench disk add sdb --size 64GiB --model "Larkspur S300" --serial LS-20417`, "plugged in"),
		run("survey", "Larkspur S300"),
		say("A mistake is caught: sda1 carries the running system."),
		fails(1, "format sda1 ext4 --label herbarium --lose=fernhill --commit", "carries the running system's root"),
		say("One draft does all that an empty disk needs: table, partition, file system, line of fstab and mount. Without --commit it is stored under a code, and nothing is written."),
		fails(3, "prepare sdb --as ext4 --mount /srv/herbarium", "to go ahead:"),
		run("prepare sdb --as ext4 --mount /srv/herbarium --commit --quiet", "done: prepare sdb for /srv/herbarium"),
		run("prepare sdb --as ext4 --mount /srv/herbarium --commit", "nothing to do: /srv/herbarium is there as asked"),
		say("It is one deed as well. Its undo wants what is on the disk by now to be named, and takes all of it back."),
		fails(1, "undo --commit --quiet", "--lose=herbarium"),
		run("undo --commit --quiet --lose=herbarium", "done: undo"),
		say("The same in single steps. The new disk gets a table and a partition. Each draft shows what goes and what comes."),
		run("table new sdb --scheme gpt --commit", "done: put a new GPT on sdb"),
		run("partition add sdb --size 20GiB --name herbarium --commit", "done: add partition 1 on sdb"),
		run("format sdb1 ext4 --label herbarium --commit --quiet", "done: format sdb1 as ext4"),
		run("fstab add sdb1 /srv/herbarium --commit", "done: add an fstab line"),
		run("mount /srv/herbarium", "done: mount sdb1"),
		run("rehearse", "comes up"),
		run("verify", "in order"),
		say("Somebody edits fstab by hand and mistypes an identifier. The rehearsal sees what the next boot would do."),
		byHand("echo '"+strings.TrimSpace(mistyped)+"' >> /etc/fstab", appended(mistyped)),
		fails(4, "rehearse", "emergency shell"),
		run("fstab remove /srv/scans --commit --quiet", "done: remove the fstab line"),
		run("rehearse", "comes up"),
		say("One option is added, and no other byte changes. For a while nothing is to be mounted there: the line becomes a comment, and comes back as it was."),
		run("fstab edit /srv/herbarium --add=noatime --commit", "nofail,noatime"),
		run("fstab disable /srv/herbarium --commit --quiet", "done: disable"),
		run("fstab list --all", "1 disabled"),
		run("fstab enable /srv/herbarium --commit --quiet", "done: enable"),
		say("A script empties fstab on a Friday evening. It was seen before, and is brought back."),
		byHand(": > /etc/fstab", empty),
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
		say("The recorder itself reads FAT alone. Its own card gets one, as large as it is, with a label in capitals; and the machine gets a swap area next to the herbarium."),
		run(`bench disk add sdf --size 32GiB --removable --bus usb --model "Field Recorder 3" --serial FR-0091`, "plugged in"),
		run("table new sdf --scheme mbr --commit --quiet", "done"),
		run("partition add sdf --type fat32 --commit --quiet", "done: add partition 1"),
		run(`format sdf1 fat --label "field rec" --commit --steps`, "FAT32: "),
		say("A card that comes and goes is best mounted at the first access, and unmounted when unused: by units of systemd's own. What they say can be a line of fstab too, and back."),
		run("unit add sdf1 /media/recorder --automount --idle=60s --commit", "done: add media-recorder.automount"),
		run("unit list", "/media/recorder"),
		run("fstab add --from-unit /media/recorder --commit", "x-systemd.automount"),
		run("undo --commit --quiet", "done: undo"),
		run("partition add sdb --size 8GiB --type swap --commit --quiet", "done: add partition 2"),
		run("format sdb2 swap --label fern-swap --commit --quiet", "done: format sdb2 as swap"),
		run("fstab add sdb2 swap --commit --quiet", "done: add an fstab line"),
		run("fstab remove sdb2 --commit --quiet", "done: remove"),
		fails(1, "erase sdb2 --commit --quiet", "--lose=fern-swap"),
		run("erase sdb2 --lose=fern-swap --commit", "found by Linux and udev"),
		run("partition remove sdb2 --lose=0417 --commit --quiet", "done"),
		say("The store of the new disk is made larger. The kernel is told, and the next change takes the table's backup copy to the new end first."),
		run("bench disk resize sdb --size 96GiB", "96GiB"),
		run("rescan sdb", "before 64.0 GiB"),
		fails(4, "verify sdb", "table-backup-misplaced"),
		say("The herbarium takes a part of the new space while it is in use: the partition first, then the kernel makes the file system larger. Place, number and identifiers stay."),
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
		byHand("zeros over the first MiB and the last 64 KiB of sdb", wipe),
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
		say("Four mistakes that show up only at the next boot. The first: swap was recreated by hand, and has another UUID than its line says."),
		run(`bench disk add sdg --size 16GiB --model "Quillwort Q90" --serial QW-00907`, "plugged in"),
		run("table new sdg --commit --quiet", "done"),
		run("partition add sdg --size 4GiB --type swap --commit --quiet", "done"),
		run("format sdg1 swap --commit --quiet", "done"),
		run("fstab add sdg1 swap --commit --quiet", "done"),
		byHand("the swap area of sdg1 gets another UUID", swapAnew),
		fails(4, "rehearse", "fundus adjust sdg1 uuid="),
		{mend: "rehearse", shows: "comes up; as it is now"},
		say("The second: a disk for seeds gets a line by hand, and nobody makes the directory; but the root is to be read-only, and then nothing can make it."),
		run("fstab edit / --add=ro --commit --quiet", "done"),
		run(`bench disk add sdh --size 32GiB --model "Tansy T40" --serial TA-7805`, "plugged in"),
		run("format sdh ext4 --label seeds --commit --quiet", "done"),
		byHand("echo 'LABEL=seeds /srv/seeds ext4 defaults 0 2' >> /etc/fstab", appended("LABEL=seeds /srv/seeds ext4 defaults 0 2\n")),
		fails(4, "rehearse /srv/seeds", "nothing can make it"),
		{mend: "rehearse", shows: "done: mount sdh"},
		run("rehearse /srv/seeds", "comes up"),
		say("The third: the line says another kind than the disk holds."),
		byHand("/etc/fstab: /srv/seeds ext4 becomes /srv/seeds xfs", replaced("/srv/seeds ext4", "/srv/seeds xfs")),
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

// mistyped is a line for a device that does not exist.
const mistyped = "UUID=5eed5eed-0000-4000-8000-000000000bad /srv/scans ext4 defaults 0 2\n"
