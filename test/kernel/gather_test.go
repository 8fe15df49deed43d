//go:build proof

package kernel

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"fundus/test/amount"
)

// proveGather: files in hundreds of pieces are put together on ext4 and XFS while ten of them
// are written, by calls and through memory; the program is ended by force again and again,
// and a file is written at a moment while it is copied.
// Every byte is what its writer knows, at once and after another mount; no name is left, and
// the kernel finds nothing wrong.
func proveGather(t *testing.T, j *judge) {
	files, kills, races := amount.Of(24, 200), amount.Of(6, 20), amount.Of(12, 60)
	var commands []string
	for i, kind := range []string{"ext4", "xfs"} {
		commands = append(commands, fmt.Sprintf("format ubd%c %s --commit", 'a'+i, kind), fmt.Sprintf("gathers ubd%c %s %d 300 %d %d", 'a'+i, kind, files, kills, races))
	}
	a := j.run(t, start{modules: []string{"xfs"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 1<<30), blank(t, 1<<30)}, commands: commands})[1]
	for _, i := range []int{1, 3} {
		said := a.Said[i]
		m := regexp.MustCompile(`^(\d+) pieces became (\d+), wrong 0, killed (\d+), raced (\d+), names (\d+), scrub (none|lacking|\[\])\n`).FindStringSubmatch(said)
		var before, after, killed, raced, names int
		if m != nil {
			_, _ = fmt.Sscan(strings.Join(m[1:6], " "), &before, &after, &killed, &raced, &names)
		}
		if m == nil || before < files*290 || after > 3*files || killed < kills/3 || raced == 0 || names > files+1 { // lost+found is one
			t.Errorf("%s: %s", commands[i], said)
		}
		if strings.Contains(said, "scrub lacking") {
			fmt.Println("lacking: XFS that the kernel itself goes through")
		}
		fmt.Printf("kernel proof: %s: %s\n", strings.Fields(commands[i])[2], strings.SplitN(said, "\n", 2)[0])
	}
	for _, line := range a.Kernel {
		if regexp.MustCompile(`(?i)error|warning|corrupt|BUG|incompatible`).MatchString(line) {
			t.Errorf("the kernel's log: %s", line)
		}
	}
}
