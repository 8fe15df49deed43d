//go:build proof

package kernel

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/schemes"
	"fundus/test/broken"
)

// tabled is an image with a table that random edits made.
func tabled(t *testing.T, seed uint64, scheme table.Scheme, sector int64) string {
	t.Helper()
	image, rng := blank(t, 96<<20), rand.New(rand.NewPCG(seed, 29))
	dev, err := file.Open(image, true, block.Geometry{Logical: sector, Physical: sector})
	if err != nil {
		t.Fatal(err)
	}
	e, err := schemes.New(dev, schemes.Wanted{Scheme: scheme, Step: quantity.MiB, ID: uuid.New()})
	if err != nil {
		t.Fatal(err)
	}
	add := func(size quantity.Bytes, typ string) {
		if span, err := e.Model().Place(size*quantity.MiB, quantity.MiB); err == nil {
			_ = e.Add(table.Partition{Span: span, Type: typ, UUID: uuid.NewString()})
		}
	}
	kind, _ := table.ParseType(scheme, "linux")
	if scheme == table.MBR {
		add(quantity.Bytes(4+rng.IntN(8)), kind)
		add(quantity.Bytes(40+rng.IntN(20)), "0f")
	}
	for range 12 {
		add(quantity.Bytes(1+rng.IntN(6)), kind)
		parts := e.Model().Parts
		some := parts[rng.IntN(len(parts))]
		switch rng.IntN(4) {
		case 0:
			_ = e.Remove(some.Number)
		case 1:
			grown := some
			grown.Span.Count += uint64(quantity.MiB) / uint64(sector)
			_ = e.Set(some.Number, grown)
		case 2:
			moved := some
			moved.Number = 1 + rng.IntN(9)
			_ = e.Set(some.Number, moved)
		}
		if _, err := e.Write(dev); err != nil {
			t.Fatal(err)
		}
	}
	if err := dev.Close(); err != nil {
		t.Fatal(err)
	}
	return image
}

// sameLists holds the kernel's list of partitions against the survey's; it gives
// how many there are.
func sameLists(t *testing.T, figures, survey string, uuids map[string]string) (n int) {
	t.Helper()
	var kernel seen
	if err := json.Unmarshal([]byte(figures), &kernel); err != nil {
		t.Fatal(err, figures)
	}
	var doc struct {
		Devices []struct {
			Name, Form, PartUUID, Holds string
			Start                       int64 `json:"start_bytes"`
			Size                        int64 `json:"size_bytes"`
			InKernel                    bool  `json:"in_kernel"`
		}
	}
	if err := json.NewDecoder(strings.NewReader(survey[strings.IndexByte(survey, '{'):])).Decode(&doc); err != nil {
		t.Fatal(err, survey)
	}
	for _, d := range doc.Devices {
		if d.Form != "partition" {
			continue
		}
		n++
		k, ok := kernel.Partitions[d.Name]
		if !ok || !d.InKernel || k["start"] != fmt.Sprint(d.Start/512) || k["size"] != fmt.Sprint(d.Size/512) && k["size"] != "2" && k["size"] != "8" {
			t.Errorf("%s: byte %d, %d bytes, in the kernel %v; the kernel has %v", d.Name, d.Start, d.Size, d.InKernel, k)
		}
		if uuids != nil && uuids[d.Name] != d.PartUUID && k["size"] != "2" { // which the kernel names, but not by that
			t.Errorf("%s: PARTUUID %s, udev's link is %q", d.Name, d.PartUUID, uuids[d.Name])
		}
		delete(kernel.Partitions, d.Name)
	}
	if len(kernel.Partitions) > 0 {
		t.Errorf("not listed: %v", kernel.Partitions)
	}
	return n
}

// proveTables: of tables that many edits made, on GPT and MBR, with logical
// partitions and with sectors of 4096 bytes, the kernel lists what the survey lists,
// and udev's links say the same PARTUUIDs.
func proveTables(t *testing.T, j *judge) {
	var small, large []string
	var carry []string
	for i := range 12 {
		small = append(small, tabled(t, uint64(i), []table.Scheme{table.GPT, table.MBR}[i%2], 512))
	}
	for i := range 8 {
		large = append(large, tabled(t, uint64(100+i), []table.Scheme{table.GPT, table.MBR}[i%2], 4096))
		carry = append(carry, fmt.Sprintf("carry ubd%c 4096 scan", 'a'+i))
	}
	a := j.run(t, start{root: j.debian(t), systemd: true, images: small, commands: []string{"survey --json", "figures", "partuuids"}})[len(small)-1]
	var uuids map[string]string
	if err := json.Unmarshal([]byte(a.Said[2]), &uuids); err != nil {
		t.Fatal(err, a.Said[2])
	}
	n := sameLists(t, a.Said[1], a.Said[0], uuids)
	a = j.run(t, start{modules: []string{"loop"}, images: large, commands: append(carry, "survey --all --json", "figures")})[len(large)-1]
	n4096 := sameLists(t, a.Said[len(carry)+1], a.Said[len(carry)], nil)
	proveBroken(t, j)
	if n < 60 || n4096 < 40 {
		t.Errorf("only %d and %d partitions", n, n4096)
	}
	fmt.Printf("kernel proof: %d tables: %d partitions and %d on sectors of 4096 bytes are listed by the kernel and named by udev as Fundus does\n", len(small)+len(large), n, n4096)
}

// proveBroken: of tables that are broken in one way each, the kernel has the partitions that are
// foretold, and where those are none nothing is said to differ.
func proveBroken(t *testing.T, j *judge) {
	var images []string
	disks := broken.Disks()
	for _, d := range disks {
		image := blank(t, broken.Size)
		dev, err := file.Open(image, true, block.DefaultGeometry)
		if err == nil {
			err = errors.Join(d.Make(dev), dev.Close())
		}
		if err != nil {
			t.Fatal(d.Name, err)
		}
		images = append(images, image)
	}
	a := j.run(t, start{images: images, commands: []string{"figures", "verify --json", "rescan --draft"}})[len(images)-1]
	var kernel seen
	if err := json.Unmarshal([]byte(a.Said[0]), &kernel); err != nil {
		t.Fatal(err, a.Said[0])
	}
	for i, d := range disks {
		var got []string
		for n := range 9 {
			if k, is := kernel.Partitions[fmt.Sprintf("ubd%c%d", 'a'+i, n)]; is {
				got = append(got, fmt.Sprintf("%d:%s+%s", n, k["start"], k["size"]))
			}
		}
		if got := strings.Join(got, " "); got != d.Linux {
			t.Errorf("%s: the kernel has %q, foretold was %q", d.Name, got, d.Linux)
		}
	}
	if strings.Contains(a.Said[1], "kernel-partitions-differ") || strings.Contains(a.Said[2], "would:") {
		t.Errorf("kernel and table are said to differ: %s\n%s", a.Said[1], a.Said[2])
	}
	fmt.Printf("kernel proof: %d tables, each broken in its own way: the kernel has the partitions that are foretold\n", len(disks))
}

// proveLogicalRoot: a system whose root is a logical partition is found by its
// PARTUUID; its partition grows while it runs, the kernel knows at once, and makes the file
// system larger.
func proveLogicalRoot(t *testing.T, j *judge) {
	root, disk := j.root(t), blank(t, 400<<20)
	second, err := json.Marshal(map[string]any{"Devices": []string{"ubda"}, "Run": []string{
		"survey --json", "resize ubda6 max --commit", "figures", "survey --json", "inspect ubda6", "partition add ubda --size 10MiB --commit", "partition remove ubda5 --commit", "look ubda",
	}})
	if err := errors.Join(err, os.WriteFile(filepath.Join(root, "second.json"), second, 0o644)); err != nil {
		t.Fatal(err)
	}
	a := j.run(t, start{root: root, images: []string{disk}, commands: []string{
		"table new ubda --scheme mbr --commit", "partition add ubda --size 10MiB --commit", "partition add ubda --size 350MiB --type extended --commit",
		"partition add ubda --size 20MiB --size 200MiB --commit", "format ubda6 ext4 --label root --commit", "install ubda6 /second.json", "survey --json",
	}})[0]
	says(t, a.Said[:6], [][]string{{fine}, {fine}, {fine}, {fine}, {fine}, {"installed"}})
	id := a.Said[6][strings.LastIndex(a.Said[6], `"partuuid": "`)+len(`"partuuid": "`):]
	a = j.answers(t, start{rootDisk: true, rootName: "PARTUUID=" + id[:strings.IndexByte(id, '"')], images: []string{disk}}, 1)[0]
	says(t, a.Said, [][]string{
		{`"where": "/"`}, {"by the kernel, while it is mounted", "done: resize", fine}, {}, {}, {"root, 328.0 MiB, mounted at /", "= 343932928 bytes, in"}, {"done: add partition 3", fine}, {"would become 5: ubda6: it carries the running system's root", refused}, {`"6 67584 671744"`},
	})
	sameLists(t, a.Said[2], a.Said[3], nil)
}

// proveGrownDrive: a drive of the kernel's SCSI layer that has become larger is asked
// for its size. What it holds lies in memory, which repeats behind 64 MiB.
func proveGrownDrive(t *testing.T, j *judge) {
	const driver = "/sys/bus/pseudo/drivers/scsi_debug/"
	a := j.run(t, start{modules: []string{"sd_mod", "scsi_debug add_host=0 dev_size_mb=64 virtual_gb=1"},
		boot: []string{"scsi_debug.add_host=0", "scsi_debug.dev_size_mb=64", "scsi_debug.virtual_gb=1"}, images: []string{blank(t, 8<<20)}, commands: []string{
			"put " + driver + "add_host 1", "pause", "table new sda --commit", "partition add sda --size 20MiB --commit", "survey --json",
			"put " + driver + "virtual_gb 2", "rescan sda", "figures", "survey --json", "verify sda",
		}})[0]
	says(t, a.Said, [][]string{{"put"}, {}, {fine}, {fine}, {fine}, {"put"}, {"sda 2.0 GiB, before 1.0 GiB; kernel and table agree", fine}, {}, {}, {"table-backup-misplaced"}})
	sameLists(t, a.Said[7], a.Said[8], nil)
}

// proveRescan: a disk that has become larger is known to the kernel after a rescan,
// which touches nothing else; then its partition grows beside a mounted one.
func proveRescan(t *testing.T, j *judge) {
	root := j.root(t)
	a := j.run(t, start{root: root, modules: []string{"loop"}, images: []string{blank(t, 8<<20)}, commands: []string{
		"image /card.img 83886080", "carry ../card.img 512 scan", "table new loop0 --commit", "partition add loop0 --size 20MiB --size 30MiB --commit", "format loop0p1 ext4 --commit",
		"fstab add loop0p1 /srv --commit", "mount /srv", "writer /srv", "lengthen /card.img 134217728",
		"rescan loop0", "resize loop0p2 max --commit", "figures", "survey --all --json", "verify loop0", "rest", "unmount /srv",
	}})[0]
	says(t, a.Said, [][]string{
		{"image"}, {"loop0"}, {fine}, {fine}, {fine}, {fine}, {fine}, {}, {"longer"}, {"128.0 MiB, before 80.0 MiB", fine}, {"done: resize", fine}, {}, {}, {"fstab-untold"}, {"wrote "}, {fine},
	})
	sameLists(t, a.Said[11], a.Said[12], nil)
}
