//go:build proof

package kernel

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/test/broken"
)

// proveRefused: of file systems with a good superblock and a fault behind it, the kernel mounts
// and refuses those that are foretold, for reading and for writing.
func proveRefused(t *testing.T, j *judge) {
	const disks = 12 // of one machine
	n := 0
	for list := range slices.Chunk(broken.Contents(), disks) {
		s := start{modules: append(fatModules(), "xfs")}
		for i, c := range list {
			image := blank(t, c.Bytes)
			dev, err := file.Open(image, true, block.DefaultGeometry)
			if err == nil {
				err = errors.Join(c.Make(t.Context(), dev), dev.Close())
			}
			if err != nil {
				t.Fatal(c.Name, err)
			}
			s.images = append(s.images, image)
			s.commands = append(s.commands, fmt.Sprintf("attempt ubd%c %s ro", 'a'+i, c.Type), fmt.Sprintf("attempt ubd%c %s rw", 'a'+i, c.Type), fmt.Sprintf("attempt ubd%c %s ro noload", 'a'+i, c.Type))
		}
		a := j.run(t, s)[len(list)-1]
		for i, c := range list {
			ro, rw := a.Said[3*i], a.Said[3*i+1]
			if strings.HasPrefix(ro, "unmount") || strings.HasPrefix(rw, "unmount") || (ro != "mounted") != c.Any || (rw != "mounted") != c.Write {
				t.Errorf("%s: for reading %s, for writing %s; foretold: refused %v and %v", c.Name, ro, rw, c.Any, c.Write)
			}
			if left := a.Said[3*i+2] == "mounted"; c.Any && left != c.Left {
				t.Errorf("%s: mounted with its journal left alone: %v (%s), foretold %v", c.Name, left, a.Said[3*i+2], c.Left)
			}
			n++
		}
	}
	fmt.Printf("kernel proof: %d file systems with faults behind a good superblock were mounted and refused as foretold\n", n)
}
