package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// fat is DEVICE: what the kernel makes of a new FAT. Mounted and looked at, with the recorded
// count of free clusters and without; then a tree is written, read back after a mount, taken
// away, and the volume is mounted once more.
func fat(words []string) string {
	device := words[0]
	var wrong []string
	check := func(what string, err error) {
		if err != nil {
			wrong = append(wrong, what+": "+err.Error())
		}
	}
	var figures []string
	for _, options := range []string{"usefree", ""} {
		var st syscall.Statfs_t
		check("mount ro,"+options, syscall.Mount(device, "/mnt", "vfat", syscall.MS_RDONLY, options))
		check("statfs", syscall.Statfs("/mnt", &st))
		figures = append(figures, fmt.Sprintf("%d of %d free, %d bytes", st.Bfree, st.Blocks, st.Bsize))
		check("unmount", syscall.Unmount("/mnt", 0))
	}
	if figures[0] != figures[1] {
		wrong = append(wrong, "recorded "+figures[0])
	}
	before := infoOf(device)
	check("mount", syscall.Mount(device, "/mnt", "vfat", 0, ""))
	check("first change", os.WriteFile("/mnt/first", nil, 0o644))
	check("its removal", os.Remove("/mnt/first"))
	check("unmount", syscall.Unmount("/mnt", 0))
	if after := infoOf(device); !bytes.Equal(before, after) {
		wrong = append(wrong, fmt.Sprintf("the kernel counts otherwise: %x, %x", before, after))
	}
	check("mount", syscall.Mount(device, "/mnt", "vfat", 0, ""))
	n := min(count(), 12)
	for i := range n {
		check("directory", os.MkdirAll(filepath.Dir(name(i)), 0o755))
		check("write", os.WriteFile(name(i), wanted(i), 0o644))
	}
	check("unmount", syscall.Unmount("/mnt", 0))
	check("mount again", syscall.Mount(device, "/mnt", "vfat", 0, ""))
	for i := range n {
		data, err := os.ReadFile(name(i))
		check("read", err)
		if !bytes.Equal(data, wanted(i)) {
			wrong = append(wrong, "a file is not what was written")
		}
	}
	entries, err := os.ReadDir("/mnt")
	check("list", err)
	for _, e := range entries {
		check("remove", os.RemoveAll(filepath.Join("/mnt", e.Name())))
	}
	var st syscall.Statfs_t
	check("statfs", syscall.Statfs("/mnt", &st))
	if again := fmt.Sprintf("%d of %d free, %d bytes", st.Bfree, st.Blocks, st.Bsize); again != figures[0] {
		wrong = append(wrong, "emptied: "+again)
	}
	check("unmount", syscall.Unmount("/mnt", 0))
	check("mount a last time", syscall.Mount(device, "/mnt", "vfat", 0, ""))
	check("unmount", syscall.Unmount("/mnt", 0))
	return figures[1] + "; wrong: " + strings.Join(wrong, ", ")
}

// infoOf is the sector in which a FAT32 counts; nil for the others.
func infoOf(device string) []byte {
	f, err := os.Open(device)
	if err != nil {
		return nil
	}
	defer f.Close()
	boot := make([]byte, 512)
	if _, err := f.ReadAt(boot, 0); err != nil || boot[22] != 0 || boot[23] != 0 {
		return nil
	}
	info := make([]byte, 512)
	if _, err := f.ReadAt(info, int64(binary.LittleEndian.Uint16(boot[48:]))*int64(binary.LittleEndian.Uint16(boot[11:]))); err != nil {
		return nil
	}
	return info
}

// area is DEVICE: the kernel swaps on it; how large it is then.
func area(words []string) string {
	if err := swapCall(syscall.SYS_SWAPON, words[0]); err != nil {
		return err.Error()
	}
	data, err := os.ReadFile("/proc/swaps")
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	said := strings.Fields(lines[len(lines)-1])
	if errOff := swapCall(syscall.SYS_SWAPOFF, words[0]); err == nil {
		err = errOff
	}
	return said[2] + " KiB" + fine(err)
}
