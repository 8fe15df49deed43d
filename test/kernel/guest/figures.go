package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// figures reads sysfs, procfs and statfs as plainly as can be: what the program
// says is held against it.
func figures([]string) string {
	out := struct {
		Disks, Partitions map[string]map[string]string
		Mounts            map[string][]string // by mount point: numbers, then options
		Swaps             []string
	}{map[string]map[string]string{}, map[string]map[string]string{}, map[string][]string{}, nil}
	all, _ := filepath.Glob("/sys/class/block/*")
	for _, dir := range all {
		name, of := filepath.Base(dir), map[string]string{}
		for _, f := range []string{"size", "start", "dev", "ro", "removable", "alignment_offset",
			"queue/logical_block_size", "queue/physical_block_size", "queue/minimum_io_size",
			"queue/optimal_io_size", "queue/rotational", "queue/discard_granularity", "queue/discard_max_bytes",
			"queue/write_cache", "queue/zoned", "loop/backing_file"} {
			if data, err := os.ReadFile(filepath.Join(dir, f)); err == nil {
				of[f] = strings.TrimSpace(string(data))
			}
		}
		if _, err := os.Stat(filepath.Join(dir, "partition")); err == nil {
			out.Partitions[name] = of
		} else {
			out.Disks[name] = of
		}
	}
	table, _ := os.ReadFile("/proc/self/mountinfo")
	for line := range strings.Lines(string(table)) {
		f := strings.Fields(line)
		var st syscall.Statfs_t
		if err := syscall.Statfs(f[4], &st); err == nil {
			out.Mounts[f[4]] = []string{
				f[2], fmt.Sprint(int64(st.Blocks) * st.Frsize), fmt.Sprint(int64(st.Bfree) * st.Frsize), fmt.Sprint(st.Files),
				fmt.Sprint(st.Ffree), f[5],
			}
		}
	}
	swaps, _ := os.ReadFile("/proc/swaps")
	for line := range strings.Lines(string(swaps)) {
		out.Swaps = append(out.Swaps, strings.Join(strings.Fields(line), " "))
	}
	text, err := json.Marshal(out)
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// zram gives the first disk in memory a size.
func zram(words []string) string {
	return fine(os.WriteFile("/sys/block/zram0/disksize", []byte(words[0]), 0o644))
}
