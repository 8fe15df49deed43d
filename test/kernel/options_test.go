//go:build proof

package kernel

import (
	"fmt"
	"strings"
	"testing"
)

// proveOptions: every row of the table of mount options, and every one of another kind, is
// taken or refused by the kernel as the table says.
func proveOptions(t *testing.T, j *judge) {
	images := []string{blank(t, 64<<20), named(t, "FAT16"), named(t, "exfat"), named(t, "ext2"), named(t, "ext3"), named(t, "iso9660")}
	// ext2 and ext3 are types of ext4's driver; their limits are seen when the mount is made.
	types := [][2]string{{"ext4", "/dev/ubda"}, {"xfs", "/dev/ubda"}, {"vfat", "/dev/ubdb"}, {"msdos", "/dev/ubdb"}, {"exfat", "/dev/ubdc"}, {"ntfs3", "/dev/ubdc"}, {"tmpfs", "none"}, {"iso9660", "/dev/ubdf"}, {"squashfs", "none"}, {"erofs", "/dev/ubdf"}}
	var commands []string
	for _, k := range types {
		commands = append(commands, "options "+k[0]+" "+k[1])
	}
	for _, k := range [][2]string{{"ext2", "/dev/ubdd"}, {"ext3", "/dev/ubde"}} {
		types = append(types, k)
		commands = append(commands, "limits "+k[0]+" "+k[1])
	}
	modules := []string{"xfs", "vfat", "msdos", "exfat", "ntfs3", "isofs", "squashfs", "erofs", "nls_cp437", "nls_iso8859-1", "nls_ascii", "nls_utf8"}
	said := j.run(t, start{modules: modules, images: images, commands: commands})[len(images)-1].Said
	asked := 0
	for i, k := range types {
		n, differ := 0, ""
		if _, err := fmt.Sscanf(said[i], "%d asked", &n); err != nil {
			continue // this kernel has no such kind
		}
		asked += n
		if _, differ, _ = strings.Cut(said[i], "differ: "); differ != "" {
			t.Errorf("%s: the table and the kernel differ: %s", k[0], differ)
		}
	}
	if asked < 300 {
		t.Errorf("%d options asked", asked)
	}
	fmt.Printf("kernel proof: %d mount options, rightly and wrongly written, are taken and refused as the table says: %v\n", asked, !t.Failed())
}
