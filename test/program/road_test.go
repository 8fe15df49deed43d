package program

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestRoadAsTyped runs the built program with the words that an administrator
// types, from a blank disk to a rehearsed boot and back.
func TestRoadAsTyped(t *testing.T) {
	dir := t.TempDir()
	bench := filepath.Join(dir, "fernhill")
	digest := func() string {
		l := &lab{t, bench}
		return l.state()
	}
	kept := ""
	for _, c := range []struct {
		line string
		exit int
	}{
		{"bench new fernhill --host fernhill", 0},
		{"bench disk add sdb --size 64GiB --bus sata --model Larkspur --serial LS-20417", 0},
		{"survey", 0},
		{"table new sdb --scheme gpt --commit", 0},
		{"partition add sdb --size 20GiB --name herbarium --commit", 0},
		{"format sdb1 ext4 --label herbarium --commit", 0},
		{"fstab add sdb1 /srv/herbarium --commit", 0},
		{"mount /srv/herbarium", 0},
		{"rehearse", 0},
		{"verify", 0},
		{"deed list", 0},
		{"unmount /srv/herbarium", 0},
		{"undo --commit", 0},
		{"keep", 0},
		{"format sdb1 ext4 --label other --commit", 1},
		{"same", 0},
		{"format sdb1 ext4 --label other --lose=herbarium --commit", 0},
		{"other", 0},
		{"undo --commit", 0},
		{"same", 0},
	} {
		switch c.line {
		case "keep":
			kept = digest()
			continue
		case "same", "other":
			if (digest() == kept) != (c.line == "same") {
				t.Fatalf("the disk is not %s", c.line)
			}
			continue
		}
		cmd := exec.Command(binary, strings.Fields(c.line)...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "LANG=C.UTF-8")
		if !strings.HasPrefix(c.line, "bench new") {
			cmd.Env = append(cmd.Env, "FUNDUS_BENCH="+bench)
		}
		out, _ := cmd.CombinedOutput()
		if code := cmd.ProcessState.ExitCode(); code != c.exit {
			t.Fatalf("fundus %s: exit %d, want %d\n%s", c.line, code, c.exit, out)
		}
	}
}
