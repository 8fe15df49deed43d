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

// ended cuts the command at the moment, has the kernel look at a copy of the
// disk, then recovers in the direction, and has it look again.
func (j *judge) ended(t *testing.T, p prepared, calls string, moment int, direction string) (before, after Answer, said []string) {
	t.Helper()
	root, image := p.copy(t, j)
	j.cut(t, start{root: root, commands: []string{fmt.Sprintf("end %s %d %s", calls, moment, p.command)}, images: []string{image}})
	answers := j.run(t, start{root: root, commands: []string{"look ubdb", "recover --direction=" + direction, "deed list", "inspect ubda"}, images: []string{image, duplicate(t, image)}})
	said = answers[1].Said
	if err := json.NewDecoder(strings.NewReader(said[0])).Decode(&before); err != nil {
		t.Fatalf("%s: %v", said[0], err)
	}
	for _, s := range said[1:] {
		if !strings.HasSuffix(s, fine) {
			t.Errorf("moment %d, %s: %s", moment, direction, s)
		}
	}
	return before, answers[0], said[1:]
}

func direction(n int) string { return []string{"back", "forward"}[n%2] }

// proveEndedFormat: wherever a format over a file system is cut, the kernel
// mounts a whole one or none, and after recover the old one or the new one.
func proveEndedFormat(seed uint64) func(*testing.T, *judge) {
	return func(t *testing.T, j *judge) { endFormats(t, j, rand.New(rand.NewPCG(3, seed))) }
}

func endFormats(t *testing.T, j *judge, rng *rand.Rand) {
	const points = 30
	p := j.prepare(t, "any", []string{"format ubda ext4 --label old --commit"}, "format ubda ext4 --label new --lose=old --commit")
	counts := map[string]int{}
	for round := range points {
		moment := 1 + rng.IntN(p.moments)
		before, after, said := j.ended(t, p, "any", moment, direction(round))
		switch words := before.Mounts[0]; words {
		case "ubdb mounted":
			counts["mounted"]++
		case "ubdb invalid argument":
			counts["refused"]++
		default:
			t.Errorf("moment %d: %s", moment, words)
		}
		old, fresh := strings.Contains(said[2], "ext4 old"), strings.Contains(said[2], "ext4 new")
		cut := strings.Contains(said[0], "deed 0002")
		if after.Mounts[0] != "ubda mounted" || old == fresh || cut && old != (direction(round) == "back") {
			t.Errorf("moment %d of %d, %s: old %v, new %v, %v\n%v", moment, p.moments, direction(round), old, fresh, after.Mounts, said)
		}
		if cut {
			counts["recovered"]++
		}
	}
	if counts["refused"] == 0 || counts["mounted"] == 0 || counts["recovered"] < points/2 {
		t.Errorf("the cuts prove nothing: %v", counts)
	}
	fmt.Printf("kernel proof: the machine ended at %d of %d moments of a format: %d mount, %d are refused; %d recovered\n", points, p.moments, counts["mounted"], counts["refused"], counts["recovered"])
}

// proveEndedTable: before and after each sync of an added partition the kernel
// sees the old table or the new one, and after recover the one that was asked
// for.
func proveEndedTable(t *testing.T, j *judge) {
	p := j.prepare(t, "sync", []string{"table new ubda --commit", "partition add ubda --size 20MiB --commit"}, "partition add ubda --size 10MiB --commit")
	old, fresh := "1 2048 40960", "1 2048 40960, 2 43008 20480"
	counts := map[string]int{}
	for moment := 1; moment <= p.moments; moment++ {
		before, after, said := j.ended(t, p, "sync", moment, direction(moment/2))
		seen, end := strings.Join(before.Partitions, ", "), strings.Join(after.Partitions, ", ")
		counts[seen]++
		if !slices.Contains([]string{old, fresh}, seen) || !slices.Contains([]string{old, fresh}, end) {
			t.Errorf("moment %d: the kernel saw %q, after recover %q", moment, seen, end)
		}
		if cut := strings.Contains(said[0], "deed 0003"); cut && (end == old) != (direction(moment/2) == "back") {
			t.Errorf("moment %d, recovered %s: %q\n%v", moment, direction(moment/2), end, said)
		}
	}
	if counts[old] == 0 || counts[fresh] == 0 {
		t.Errorf("the cuts prove nothing: %v", counts)
	}
	fmt.Printf("kernel proof: the machine ended before and after each of %d syncs of an added partition: %d times the old table, %d times the new one\n", p.moments/2, counts[old], counts[fresh])
}
