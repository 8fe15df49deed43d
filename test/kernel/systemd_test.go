//go:build proof

package kernel

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fundus/test/amount"
	"fundus/test/kit"
)

// service starts the guest program when the system is up.
const service = `[Unit]
Description=The kernel proof
After=multi-user.target systemd-udevd.service dbus.service systemd-logind.service
[Service]
Type=oneshot
StandardOutput=tty
StandardError=tty
TTYPath=/dev/console
ExecStart=/guest
[Install]
WantedBy=graphical.target
`

// debianBase is the minimal Debian.
func debianBase(t *testing.T) string {
	t.Helper()
	base, err := kit.Debian()
	if err != nil {
		t.Fatal(err)
	}
	return base
}

// debian is a copy of it that starts the guest program.
func (j *judge) debian(t *testing.T) (root string) {
	t.Helper()
	base := debianBase(t)
	dir, err := os.MkdirTemp("", "fundus-systemd-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	root = filepath.Join(dir, "root")
	if out, err := exec.Command("cp", "-a", base, root).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for name, text := range map[string]string{"etc/systemd/system/proof.service": service, "etc/fstab": "", "etc/hostname": "fernhill\n"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	// Of what systemd runs when it is told to reload, fstab's reader alone: each
	// takes half a second in a kernel that is a process.
	generators, err := filepath.Glob(filepath.Join(root, "lib/systemd/system-generators/*"))
	if err != nil || len(generators) == 0 {
		t.Fatalf("generators: %v, %v", generators, err)
	}
	for _, g := range generators {
		if filepath.Base(g) != "systemd-fstab-generator" {
			if err := os.Remove(g); err != nil {
				t.Fatal(err)
			}
		}
	}
	wants := filepath.Join(root, "etc/systemd/system/graphical.target.wants")
	if err := os.MkdirAll(wants, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../proof.service", filepath.Join(wants, "proof.service")); err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{j.guest: "guest", j.fundus: "bin/fundus"} {
		data, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, to), data, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

// proveRounds: beside systemd and udev the whole road goes there and back, five times, or
// twenty-five times on each of four machines; nothing fails, no node and no unit is left,
// and logind is asked to keep the machine up meanwhile.
func proveRounds(t *testing.T, j *judge) {
	n := amount.Of(5, 25)
	a := j.run(t, start{root: j.debian(t), systemd: true, images: []string{blank(t, 300<<20)}, commands: []string{fmt.Sprintf("rounds %d ubda", n)}})[0]
	if said := a.Said[0]; !strings.HasPrefix(said, fmt.Sprintf("%d rounds in", n)) || !strings.HasSuffix(said, "shutdown inhibited true, wrong: []") {
		t.Error(said)
	}
	fmt.Printf("kernel proof: beside systemd and udev, %s, none failed and nothing is left: %v\n", strings.Split(a.Said[0], ",")[0], !t.Failed())
}

// proveNothingStarts: old file systems, swap and array members beneath new
// partitions are gone before the kernel and systemd see them; kept on purpose,
// udev sees them, so that the proof could fail.
func proveNothingStarts(t *testing.T, j *judge) {
	table := []string{"table new ubda --commit", "partition add ubda --size 20MiB --commit", "partition add ubda --size 20MiB --commit", "partition add ubda --size 20MiB --commit"}
	fill := []string{"format ubda1 ext4 --label old --commit", "makeswap ubda2 only", "members ubda3 0", "pause", "started"}
	remove := []string{"partition remove ubda1 --lose=old --commit", "partition remove ubda2 --lose=ubda2 --commit", "partition remove ubda3 --lose=fernhill:herbarium --commit"}
	var keep, erase []string
	for _, name := range []string{"old", "the-free-space-of-ubda", "fernhill:herbarium"} {
		keep = append(keep, "partition add ubda --size 20MiB --content keep --commit")
		erase = append(erase, "partition add ubda --size 20MiB --content erase --lose="+name+" --commit")
	}
	commands := slices.Concat(table, fill, remove, keep, []string{"pause", "started"}, remove, erase, []string{"pause", "started"})
	a := j.run(t, start{root: j.debian(t), systemd: true, images: []string{blank(t, 300<<20)}, commands: commands})[0]
	var seen []string
	for i, said := range a.Said {
		switch {
		case commands[i] == "started":
			seen = append(seen, said)
		case strings.HasSuffix(commands[i], "--commit") && !strings.HasSuffix(said, fine):
			t.Errorf("%s: %s", commands[i], said)
		}
	}
	full := "swaps 0, arrays 0, mounts [], udev [b98:1 ext4 b98:2 swap b98:3 linux_raid_member]"
	want := []string{full, full, "swaps 0, arrays 0, mounts [], udev []"}
	if !slices.Equal(seen, want) {
		t.Errorf("%q", seen)
	}
}
