package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// rounds walks the road over and over, beside systemd and udev: table,
// partition, file system, mount, another label, unmount, and all of it undone; each fourth time
// with a line of fstab, which has systemd make the mount. It gives what failed
// and what was left behind.
func rounds(words []string) string {
	n, _ := strconv.Atoi(words[0])
	disk := words[1]
	part, format := disk+"1", 3 // number of the deed that formats
	inhibited := watchInhibitors()
	start := time.Now()
	var wrong []string
	_ = os.MkdirAll("/srv/herbarium", 0o755)
	for i := range n {
		lines := []string{"table new " + disk, "partition add " + disk + " --size 100MiB", "format " + part + " ext4 --label herbarium"}
		mount := []string{"mount " + part + " /srv/herbarium", "label " + part + " mosses", "undo", "unmount /srv/herbarium"}
		if i%4 == 0 {
			mount = []string{
				"fstab add " + part + " /srv/herbarium", "mount /srv/herbarium", "label " + part + " mosses", "undo",
				"unmount " + part, "undo",
			}
		}
		for _, line := range append(append(lines, mount...), "undo FORMAT --over-later-writes --lose=FORMAT", "undo", "undo") {
			line = strings.ReplaceAll(line, "FORMAT", deed(format))
			progress("round %d of %d: %s", i+1, n, line)
			if said := fundus(strings.Fields(line + " --commit")); !strings.HasSuffix(said, "[<nil>]") {
				wrong = append(wrong, fmt.Sprintf("round %d: fundus %s: %s", i+1, line, said))
			}
			// The kernel wrote the label, and nobody closed the device: udev was told.
			if to, err := os.Readlink("/dev/disk/by-label/mosses"); strings.HasPrefix(line, "label") && filepath.Base(to) != part {
				wrong = append(wrong, fmt.Sprintf("round %d: mosses leads to %q: %v", i+1, to, err))
			}
		}
		format += 8
		if i%4 == 0 {
			format += 2
		}
		if left := leftovers(disk); left != "" {
			wrong = append(wrong, fmt.Sprintf("round %d left %s", i+1, left))
		}
		if len(wrong) > 3 {
			break
		}
	}
	took := time.Since(start).Round(time.Second)
	return fmt.Sprintf("%d rounds in %v, shutdown inhibited %v, wrong: %q", n, took, inhibited(), wrong)
}

// deed gives the whole identifier of the deed with the number.
func deed(number int) string {
	found, _ := filepath.Glob(fmt.Sprintf("/var/lib/fundus/deeds/%04d-*", number))
	if len(found) != 1 {
		return ""
	}
	return filepath.Base(found[0])
}

// leftovers names nodes and units that should be gone.
func leftovers(disk string) string {
	var left []string
	for _, pattern := range []string{
		"/dev/" + disk + "[0-9]*", "/sys/block/" + disk + "/" + disk + "*", "/dev/disk/by-label/*",
		"/dev/disk/by-uuid/*", "/run/systemd/generator/srv-*",
	} {
		found, _ := filepath.Glob(pattern)
		left = append(left, found...)
	}
	units, _ := exec.Command("systemctl", "list-units", "--all", "--plain", "--no-legend", "srv-*.mount").Output()
	return strings.TrimSpace(strings.Join(append(left, strings.Fields(string(units))...), " "))
}

// watchInhibitors notes whether logind was seen to keep the machine up.
func watchInhibitors() func() bool {
	var seen atomic.Bool
	go func() {
		for !seen.Load() {
			found, _ := filepath.Glob("/run/systemd/inhibit/*")
			for _, f := range found {
				if data, err := os.ReadFile(f); err == nil && strings.Contains(string(data), "fundus") {
					seen.Store(true)
				}
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	return seen.Load
}
