package scan_test

import (
	"fmt"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/scan"
	"fundus/test/broken"
)

// TestLinux: of tables that are broken in one way each, the partitions are foretold that a kernel
// makes of them; the kernel's own answers are those of the proof of tables.
func TestLinux(t *testing.T) {
	for _, d := range broken.Disks() {
		dev := block.NewMemory(broken.Size, block.DefaultGeometry)
		if err := d.Make(dev); err != nil {
			t.Fatal(d.Name, err)
		}
		var got []string
		nodes := scan.Disk(inventory.Node{Name: "sdb", Path: "/dev/sdb", Form: inventory.Disk, Size: broken.Size, Geometry: dev.Geometry()}, dev)
		for _, k := range (&inventory.Inventory{Nodes: nodes}).Taken("sdb") {
			got = append(got, fmt.Sprintf("%d:%d+%d", k.Number, k.Start/broken.Sector, k.Size/broken.Sector))
		}
		if got := strings.Join(got, " "); got != d.Linux {
			t.Errorf("%s: %q, want %q", d.Name, got, d.Linux)
		}
	}
}
