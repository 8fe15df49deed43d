// Package scan reads what is on a disk into inventory nodes: its table, its
// partitions and every signature on them. It is the same for a real disk, an
// image, and a disk as it would be under an overlay.
package scan

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"

	"fundus/core/block"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
)

// Name gives the name and the path of a partition: "sdb1", "nvme0n1p1" as the
// kernel names them, "card.img:1" in an image.
func Name(disk inventory.Node, number int) (name, path string) {
	if disk.Form == inventory.Image {
		name = fmt.Sprintf("%s:%d", disk.Name, number)
		return name, name
	}
	between := ""
	if c := disk.Name[len(disk.Name)-1]; c >= '0' && c <= '9' {
		between = "p"
	}
	return fmt.Sprintf("%s%s%d", disk.Name, between, number), fmt.Sprintf("%s%s%d", disk.Path, between, number)
}

// Disk gives the node with table and contents filled in, followed by its
// partitions. What cannot be read becomes the node's Problem, never an error:
// one bad disk must not hide the others.
func Disk(disk inventory.Node, dev block.Device) []inventory.Node {
	var scratch block.Scratch // probes and table share what is read
	if err := describe(&disk, scratch.Ends(dev)); err != nil {
		disk.Problem = err.Error()
	}
	nodes := []inventory.Node{disk}
	if disk.Table == nil {
		return nodes
	}
	whole, ok := disk.Content()
	for _, p := range disk.Table.Parts {
		n := partition(disk, dev, p, &scratch)
		if ok && whole.Class == fs.FileSystem && len(n.Contents) == 0 && (whole.Size == 0 || n.Start < whole.Size) {
			n.Within, n.Zeros = whole.Kind, false // what is on it are files of the volume
		}
		nodes = append(nodes, n)
	}
	return nodes
}

// ImageGeometry is that of the disk that an image of so many bytes was taken of: sectors
// of 4096 bytes where a GPT header lies in the second of those, else of 512.
//
// An image has no hardware to ask, and a table is read at the second sector: the wrong size
// finds none. An MBR looks the same with both, and is taken for that of the common size.
func ImageGeometry(image io.ReaderAt, size int64) block.Geometry {
	geo := block.DefaultGeometry
	at := func(off int64) bool {
		b, err := block.ReadSized(image, off, 8, 8)
		return err == nil && string(b) == "EFI PART"
	}
	if size%4096 == 0 && at(4096) && !at(512) {
		geo.Logical, geo.Physical = 4096, 4096
	}
	return geo
}

// The probe comes first, on the whole disk: a file system without a table has a boot sector
// that ends like an MBR, and only its own signature tells that it is none.
func describe(n *inventory.Node, dev block.Device) error {
	contents, unread := kind.Probe(dev)
	n.Contents = contents
	t, bad, err := Table(n.Name, dev)
	if t != nil && t.Scheme == table.MBR && len(t.Parts) == 0 &&
		!slices.ContainsFunc(contents, func(c fs.Content) bool { return c.Class == fs.Table }) {
		t = nil // a boot sector, see kind.Probe
	}
	n.Table, n.TableBad = t, bad
	n.Zeros = t == nil && len(contents) == 0 && unread == nil && err == nil && block.Blank(dev)
	return cmp.Or(unread, err)
}

// Table reads the disk's partition table as Linux would, with what is wrong
// with it; nil without one.
//
// A GPT is believed where Linux believes it: with a protective record. Behind an ordinary
// MBR with partitions a GPT is dead, however good its checksums are, and the MBR counts;
// that both are there is a finding. One whose disk became smaller is shown, since its
// partitions are what an administrator wants to see, though Linux shows none.
func Table(name string, dev block.Device) (*table.Table, []finding.Finding, error) {
	state, err := gpt.Read(dev)
	switch {
	case err == nil:
		bad := gpt.Check(name, state)
		if state.Dead() {
			break
		}
		return state.Model(), bad, nil
	case !errors.Is(err, gpt.ErrNone):
		return nil, nil, err
	}
	t, err := mbr.Read(dev)
	if t == nil || err != nil {
		return nil, nil, err
	}
	bad := mbr.Check(name, t)
	if state != nil {
		bad = append(bad, gpt.CheckDead(name, state)...)
	}
	return t.Model(), bad, nil
}

// linux is what the kernel makes of the partition when it reads the disk's table.
func linux(disk inventory.Node, p table.Partition, dev block.Device) inventory.KernelPart {
	span := disk.Table.Linux(p, uint64(dev.Size()/dev.Geometry().Logical))
	start, size, ok := disk.Table.Bytes(span)
	if !ok || size == 0 {
		return inventory.KernelPart{}
	}
	return inventory.KernelPart{Number: p.Number, Start: start, Size: size}
}

func partition(disk inventory.Node, dev block.Device, p table.Partition, scratch *block.Scratch) inventory.Node {
	n := inventory.Node{
		Form:     inventory.Partition,
		Parent:   disk.Name,
		Number:   p.Number,
		Entry:    p,
		Geometry: disk.Geometry,
		Hardware: disk.Hardware,
	}
	n.Name, n.Path = Name(disk, p.Number)
	start, size, ok := disk.Table.Bytes(p.Span)
	n.Start, n.Size = start, size
	// By place and size, not by number alone: after an edit the kernel may still have
	// another partition under this number.
	n.Linux = linux(disk, p, dev)
	n.InKernel = n.KnownAs(disk.Kernel)
	n.Identity = disk.Identity
	n.Identity.Number, n.Identity.Start, n.Identity.Length = p.Number, start, size
	if !ok || p.Span.Count == 0 {
		n.Problem = fmt.Sprintf("sectors %v: no such place on a disk", p.Span)
		return n
	}
	if beyond := start + size - quantity.Bytes(dev.Size()); beyond > 0 {
		n.Problem = fmt.Sprintf("it reaches %v after the end of the disk", beyond)
		return n
	}
	if p.Role == table.Extended {
		return n // what it begins with is a part of the table
	}
	part, err := block.NewSlice(dev, int64(start), int64(size))
	if err == nil {
		ends := scratch.Ends(part)
		n.Contents, err = kind.Probe(ends)
		n.Zeros = err == nil && len(n.Contents) == 0 && block.Blank(ends)
	}
	if err != nil {
		n.Problem = err.Error()
	}
	return n
}
