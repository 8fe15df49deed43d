package kind_test

import (
	"testing"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/kind"
	"fundus/test/broken"
)

// TestAtMount: of file systems whose superblock is good, those are told that the kernel refuses
// to mount; the kernel's own answers are those of the proof of what is refused at a mount.
func TestAtMount(t *testing.T) {
	for _, c := range broken.Contents() {
		dev := block.NewMemory(c.Bytes, block.DefaultGeometry)
		if err := c.Make(t.Context(), dev); err != nil {
			t.Fatal(c.Name, err)
		}
		list, err := kind.Probe(dev)
		if err != nil || len(list) != 1 || list[0].State == fs.Damaged {
			t.Errorf("%s: taken for %+v, %v", c.Name, list, err)
			continue
		}
		if m := list[0].AtMount; (m.Any != "" || m.Journal != "") != c.Any || (m.Why() != "") != c.Write || (m.Journal != "") != c.Left {
			t.Errorf("%s: %+v", c.Name, m)
		}
	}
}
