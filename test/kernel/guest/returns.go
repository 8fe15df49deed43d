package main

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// returns is DISK KIND…: each kind that can be mounted is made there and filled by the
// kernel; each kind is made over it, and undone. Then every byte is as it was, and the tree
// is read in it.
func returns(words []string) string {
	disk, kinds := words[0], words[1:]
	device := "/dev/" + disk
	var wrong []string
	check := func(what string, err error) {
		if err != nil {
			wrong = append(wrong, what+": "+err.Error())
		}
	}
	pairs := 0
	for _, old := range kinds {
		if old == "swap" { // nothing is mounted
			continue
		}
		typ := map[string]string{"fat": "vfat"}[old]
		if typ == "" {
			typ = old
		}
		if said := fundus(append([]string{
			"format", disk, old, "--label", "MOSS", "--commit",
		}, loses(disk)...)); !strings.HasSuffix(said, "[<nil>]") {
			wrong = append(wrong, old+": "+said)
		}
		check("mount "+typ, syscall.Mount(device, "/mnt", typ, 0, ""))
		for i := range 40 {
			check("directory", os.MkdirAll(filepath.Dir(name(i)), 0o755))
			check("write", os.WriteFile(name(i), wanted(i), 0o644))
		}
		check("unmount", syscall.Unmount("/mnt", 0))
		before := digestOf(device)
		for _, over := range kinds {
			progress("%s over %s", over, old)
			pairs++
			for _, line := range []string{"format " + disk + " " + over + " --lose=MOSS --commit", "undo --commit"} {
				if said := fundus(strings.Fields(line)); !strings.HasSuffix(said, "[<nil>]") {
					wrong = append(wrong, fmt.Sprintf("%s over %s: %s: %s", over, old, line, said))
				}
			}
			if digestOf(device) != before {
				wrong = append(wrong, over+" over "+old+": other bytes after the undo")
			}
		}
		check("mount "+typ+" again", syscall.Mount(device, "/mnt", typ, 0, ""))
		for i := range 40 {
			data, err := os.ReadFile(name(i))
			check("read", err)
			if !bytes.Equal(data, wanted(i)) {
				wrong = append(wrong, old+": a file is not what was written")
			}
		}
		check("unmount", syscall.Unmount("/mnt", 0))
	}
	return fmt.Sprintf("%d pairs, wrong: %q", pairs, wrong)
}

// loses is what a format of a disk that holds something is told.
func loses(disk string) []string {
	if said := fundus([]string{"inspect", disk}); strings.Contains(said, "MOSS") {
		return []string{"--lose=MOSS"}
	}
	return nil
}

func digestOf(device string) string {
	f, err := os.Open(device)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return err.Error()
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}
