package kernel

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"
)

// duplicate copies an image, so that the kernel can mount one and recover be
// run on the other.
func duplicate(t *testing.T, image string) string {
	t.Helper()
	from, err := os.Open(image)
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	path := blank(t, 0)
	to, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	if _, err := io.Copy(to, from); err != nil {
		t.Fatal(err)
	}
	return path
}

// ended runs the command in the guest, ends the guest at a seeded moment, has
// the kernel look, then recovers in a seeded direction and has it look again.
// It gives what the kernel saw each time, what recover said, and the list of
// deeds behind it.
func (j *judge) ended(t *testing.T, rng *rand.Rand, prepare []string, command string, longest time.Duration) (before, after Answer, direction string) {
	t.Helper()
	root, image := j.root(t), blank(t, 64<<20)
	j.bootIn(t, root, false, prepare, image)
	j.endHard(t, root, command, image, time.Duration(rng.Int64N(int64(longest))))
	before = j.ask(t, false, duplicate(t, image))[0]
	direction = []string{"back", "forward"}[rng.IntN(2)]
	after = j.bootIn(t, root, false, []string{"recover --direction=" + direction, "deed list", "inspect ubda"}, image)[0]
	for _, said := range after.Said {
		if !strings.HasSuffix(said, fine) {
			t.Errorf("after the end: %s", said)
		}
	}
	return before, after, direction
}

// proveEndedFormat: wherever a format over a file system is cut, the kernel
// mounts a whole one or none, and after recover the old one or the new one.
func proveEndedFormat(t *testing.T, j *judge) {
	rng := rand.New(rand.NewPCG(3, 1))
	counts := map[string]int{}
	for round := range 12 {
		before, after, direction := j.ended(t, rng, []string{"format ubda ext4 --label old --commit"}, "format ubda ext4 --label new --lose=old --commit", 40*time.Millisecond)
		switch said := before.Mounts[0]; said {
		case "ubda mounted":
			counts["mounted"]++
		case "ubda invalid argument":
			counts["refused"]++
		default:
			t.Errorf("round %d: %s", round, said)
		}
		if after.Mounts[0] != "ubda mounted" {
			t.Errorf("round %d, recovered %s: %v\n%v", round, direction, after.Mounts, after.Said)
		}
		cut, old, done := strings.Contains(after.Said[0], "deed 0002"), strings.Contains(after.Said[2], "ext4 old"), strings.Contains(after.Said[2], "ext4 new")
		if old == done || cut && old != (direction == "back") {
			t.Errorf("round %d, recovered %s: old %v, new %v\n%v", round, direction, old, done, after.Said)
		}
		if cut {
			counts["recovered"]++
		}
	}
	fmt.Printf("kernel proof: the machine ended in a format: 12 times: %d times it mounts, %d times it is refused; %d recovered\n", counts["mounted"], counts["refused"], counts["recovered"])
}

// proveEndedTable: wherever adding a partition is cut, the kernel sees the old
// table or the new one, and after recover the one that was asked for.
func proveEndedTable(t *testing.T, j *judge) {
	rng := rand.New(rand.NewPCG(3, 2))
	old, fresh := "1 2048 40960", "1 2048 40960, 2 43008 20480"
	counts := map[string]int{}
	for round := range 8 {
		before, after, direction := j.ended(t, rng, []string{"table new ubda --commit", "partition add ubda --size 20MiB --commit"}, "partition add ubda --size 10MiB --commit", 30*time.Millisecond)
		seen, end := strings.Join(before.Partitions, ", "), strings.Join(after.Partitions, ", ")
		counts[seen]++
		if seen != old && seen != fresh || end != old && end != fresh {
			t.Errorf("round %d: the kernel saw %q, after recover %q", round, seen, end)
		}
		if cut := strings.Contains(after.Said[0], "deed 0003"); cut && (end == old) != (direction == "back") {
			t.Errorf("round %d, recovered %s: %q\n%v", round, direction, end, after.Said)
		}
	}
	fmt.Printf("kernel proof: the machine ended in a table edit: 8 times: %d times the old table, %d times the new one\n", counts[old], counts[fresh])
}
