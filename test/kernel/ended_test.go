//go:build proof

package kernel

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/test/amount"
)

// data calls the function with each run of the image that is no hole.
func data(t *testing.T, image string, fn func(dev *file.File, start, size int64)) {
	t.Helper()
	dev, err := file.Open(image, false, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	for at := int64(0); at < dev.Size(); {
		start, end, hole, err := dev.Next(at)
		if err != nil {
			t.Fatal(err)
		}
		if !hole {
			fn(dev, start, end-start)
		}
		at = end
	}
}

// duplicate copies an image, so that the kernel can mount one and recover be
// run on the other. Holes stay holes.
func duplicate(t *testing.T, image string) string {
	t.Helper()
	info, err := os.Stat(image)
	if err != nil {
		t.Fatal(err)
	}
	path := blank(t, info.Size())
	to, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	data(t, image, func(dev *file.File, start, size int64) {
		if _, err := io.Copy(io.NewOffsetWriter(to, start), io.NewSectionReader(dev, start, size)); err != nil {
			t.Fatal(err)
		}
	})
	return path
}

// differingSectors counts the sectors of 512 bytes that differ.
func differingSectors(t *testing.T, a, b string) (count int) {
	t.Helper()
	differ := map[int64]bool{}
	for _, pair := range [][2]string{{a, b}, {b, a}} {
		other, err := os.Open(pair[1])
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		data(t, pair[0], func(dev *file.File, start, size int64) {
			x, y := make([]byte, 512), make([]byte, 512)
			for at := start; at < start+size; at += 512 {
				_, errX := dev.ReadAt(x, at)
				_, errY := other.ReadAt(y, at)
				if err := errors.Join(errX, errY); err != nil {
					t.Fatal(err)
				}
				if string(x) != string(y) {
					differ[at] = true
				}
			}
		})
	}
	return len(differ)
}

// prepared is a disk and a machine's root on which the same command can be cut
// again and again.
type prepared struct {
	root, image string
	command     string
	moments     int // calls that the command makes, twice: before and after each
}

// prepare runs the commands, then counts the moments of the one to be cut.
func (j *judge) prepare(t *testing.T, calls string, first []string, command string) prepared {
	t.Helper()
	p := prepared{j.root(t), blank(t, 64<<20), command, 0}
	j.run(t, start{root: p.root, commands: first, images: []string{p.image}})
	root, image := p.copy(t, j)
	said := j.run(t, start{root: root, commands: []string{"end " + calls + " 0 " + command}, images: []string{image}})[0].Said[0]
	if n, _ := fmt.Sscanf(said, "%d moments", &p.moments); n != 1 || p.moments < 10 || strings.Contains(said, "\n") {
		t.Fatalf("counting the moments of %q: %s", command, said)
	}
	return p
}

func (p prepared) copy(t *testing.T, j *judge) (root, image string) {
	t.Helper()
	root = j.root(t)
	state := filepath.Join("var", "lib", "fundus")
	if err := os.CopyFS(filepath.Join(root, state), os.DirFS(filepath.Join(p.root, state))); err != nil {
		t.Fatal(err)
	}
	return root, duplicate(t, p.image)
}

// ended is a disk on which a command was cut, with the state of its machine.
type ended struct {
	moment                         int
	direction, root, image, serial string
}

// end cuts the command at the moment. The disk has a serial number of its own, by which
// it is found again wherever it is plugged in.
func (j *judge) end(t *testing.T, p prepared, calls string, moment, number int, direction string) ended {
	t.Helper()
	root, image := p.copy(t, j)
	e := ended{moment, direction, root, image, fmt.Sprintf("LS-%05d", number)}
	j.cut(t, start{root: root, commands: []string{fmt.Sprintf("end %s %d %s", calls, moment, p.command)}, images: []string{image}, serials: []string{e.serial}})
	return e
}

// recovered boots one machine for several ended disks: the kernel looks at a copy of
// each, then each is recovered, and the kernel looks again.
func (j *judge) recovered(t *testing.T, list []ended, report func(e ended, before, after Answer, said []string)) {
	t.Helper()
	const each = 6 // with their copies as many disks as the kernel takes
	for len(list) > 0 {
		some := list[:min(each, len(list))]
		list = list[len(some):]
		s := start{root: j.root(t)}
		for i, e := range some {
			state := fmt.Sprintf("/ended/%d", i)
			if err := os.CopyFS(filepath.Join(s.root, state), os.DirFS(filepath.Join(e.root, "var/lib/fundus"))); err != nil {
				t.Fatal(err)
			}
			disk, other := 'a'+rune(2*i), 'b'+rune(2*i)
			s.images, s.serials = append(s.images, e.image, duplicate(t, e.image)), append(s.serials, e.serial, "")
			s.commands = append(s.commands, fmt.Sprintf("look ubd%c", other), fmt.Sprintf("recover --direction=%s --state %s", e.direction, state),
				"deed list --state "+state, fmt.Sprintf("inspect ubd%c", disk))
		}
		answers := j.run(t, s)
		said := answers[len(answers)-1].Said
		for i, e := range some {
			said := said[4*i:][:4]
			var before Answer
			if err := json.NewDecoder(strings.NewReader(said[0])).Decode(&before); err != nil {
				t.Fatalf("%s: %v", said[0], err)
			}
			for _, s := range said[1:] {
				if !strings.HasSuffix(s, fine) {
					t.Errorf("moment %d, %s: %s", e.moment, e.direction, s)
				}
			}
			report(e, before, answers[2*i], said[1:])
		}
	}
}

func direction(n int) string { return []string{"back", "forward"}[n%2] }

// proveEndedFormat: wherever a format over a file system is cut, the kernel
// mounts a whole one or none, and after recover the old one or the new one.
func proveEndedFormat(part int) func(*testing.T, *judge) {
	return func(t *testing.T, j *judge) { endFormats(t, j, amount.Rand(part)) }
}

func endFormats(t *testing.T, j *judge, rng *rand.Rand) {
	points := amount.Of(6, 30)
	p := j.prepare(t, "any", []string{"format ubda ext4 --label old --commit"}, "format ubda ext4 --label new --lose=old --commit")
	var list []ended
	for round := range points {
		moment := p.moments * (2*round + 1) / (2 * points) // in each part of it once
		if amount.Soak() {
			moment = 1 + rng.IntN(p.moments)
		} else {
			moment = max(1, moment-rng.IntN(p.moments/points))
		}
		list = append(list, j.end(t, p, "any", moment, round, direction(round)))
	}
	var images []string
	for _, e := range list {
		images = append(images, e.image)
	}
	states, counts := different(t, images), map[string]int{}
	j.recovered(t, list, func(e ended, before, after Answer, said []string) {
		switch _, words, _ := strings.Cut(before.Mounts[0], " "); words {
		case "mounted":
			counts["mounted"]++
		case "invalid argument":
			counts["refused"]++
		default:
			t.Errorf("moment %d: %s", e.moment, words)
		}
		old, fresh := strings.Contains(said[2], "ext4 old"), strings.Contains(said[2], "ext4 new")
		cut := strings.Contains(said[0], "deed 0002")
		if !strings.HasSuffix(after.Mounts[0], " mounted") || old == fresh || cut && old != (e.direction == "back") {
			t.Errorf("moment %d of %d, %s: old %v, new %v, %v\n%v", e.moment, p.moments, e.direction, old, fresh, after.Mounts, said)
		}
		if cut {
			counts["recovered"]++
		}
	})
	if counts["refused"] == 0 || counts["mounted"]+counts["refused"] != points || counts["recovered"] < points/2 {
		t.Errorf("the cuts prove nothing: %v", counts)
	}
	fmt.Printf("kernel proof: the machine ended at %d of %d moments of a format: %d mount, %d are refused; %d recovered; of %v\n", points, p.moments, counts["mounted"], counts["refused"], counts["recovered"], states)
}

// proveEndedTable: before and after each sync of an added partition the kernel
// sees the old table or the new one, and after recover the one that was asked
// for.
func proveEndedTable(t *testing.T, j *judge) {
	p := j.prepare(t, "sync", []string{"table new ubda --commit", "partition add ubda --size 20MiB --commit"}, "partition add ubda --size 10MiB --commit")
	old, fresh := "1 2048 40960", "1 2048 40960, 2 43008 20480"
	var list []ended
	for moment := 1; moment <= p.moments; moment++ {
		list = append(list, j.end(t, p, "sync", moment, moment, direction(moment/2)))
	}
	var images []string
	for _, e := range list {
		images = append(images, e.image)
	}
	states, counts := different(t, images), map[string]int{}
	j.recovered(t, list, func(e ended, before, after Answer, said []string) {
		seen, end := strings.Join(before.Partitions, ", "), strings.Join(after.Partitions, ", ")
		counts[seen]++
		if !slices.Contains([]string{old, fresh}, seen) || !slices.Contains([]string{old, fresh}, end) {
			t.Errorf("moment %d: the kernel saw %q, after recover %q", e.moment, seen, end)
		}
		if cut := strings.Contains(said[0], "deed 0003"); cut && (end == old) != (e.direction == "back") {
			t.Errorf("moment %d, recovered %s: %q\n%v", e.moment, e.direction, end, said)
		}
	})
	if counts[old] == 0 || counts[fresh] == 0 {
		t.Errorf("the cuts prove nothing: %v", counts)
	}
	fmt.Printf("kernel proof: the machine ended before and after each of %d syncs of an added partition: %d times the old table, %d times the new one; of %v\n", p.moments/2, counts[old], counts[fresh], states)
}
