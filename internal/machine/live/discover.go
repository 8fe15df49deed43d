package live

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/internal/machine"
)

// listed is a disk as sysfs lists it, with the partitions that the kernel has.
type listed struct {
	node  inventory.Node
	parts []kernelPart
	dev   string // "major:minor"
	dir   string
}

type kernelPart struct {
	name        string
	number      int
	start, size int64 // bytes
	dev         string
}

const sysfsSector = 512 // sizes and starts in sysfs count these, whatever the disk's sector

// discover fills in disks, partitions, contents and uses.
func (m *Machine) discover(ctx context.Context, v *inventory.Inventory) error {
	entries, err := os.ReadDir(filepath.Join(m.at.sys, "block"))
	if err != nil {
		return fmt.Errorf("the kernel's list of disks: %w", err)
	}
	names := map[string]string{} // by major:minor
	var disks []listed
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		d, err := m.listed(e.Name())
		if err != nil {
			return err
		}
		if d.absent() {
			continue
		}
		names[d.dev] = d.node.Name
		for _, p := range d.parts {
			names[p.dev] = p.name
		}
		disks = append(disks, d)
		v.Uses = append(v.Uses, m.holders(d)...)
	}
	m.patience.ask(ctx, disks)
	if v.Nodes, err = machine.Each(ctx, len(disks), func(i int) []inventory.Node {
		return machine.Undisturbed(ctx, func() []inventory.Node { return m.lookAt(disks[i]) }, func() string { return m.Locked(disks[i].node.Name) })
	}); err != nil {
		return err
	}
	if err := m.mounts(v, names, v.Silent()); err != nil {
		return err
	}
	v.Uses = append(v.Uses, m.elsewhere(v, names)...)
	m.mountedSizes(v)
	spread(v)
	v.Uses = append(v.Uses, m.swaps(v)...)
	return nil
}

// attribute reads one value of sysfs; "" where there is none.
func attribute(dir, name string) string {
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return ""
	}
	text := strings.TrimSpace(strings.ToValidUTF8(string(data), ""))
	if text == "(null)" { // a driver that knows no serial number
		return ""
	}
	return text
}

func number(dir, name string) int64 {
	n, err := strconv.ParseInt(attribute(dir, name), 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

func (m *Machine) listed(name string) (listed, error) {
	dir := filepath.Join(m.at.sys, "block", name)
	if _, err := os.Stat(dir); err != nil || filepath.Base(name) != name {
		return listed{}, fmt.Errorf("%s: the kernel has no such disk", name)
	}
	queue := filepath.Join(dir, "queue")
	d := listed{dir: dir, dev: attribute(dir, "dev")}
	n := inventory.Node{
		Name:     name,
		Path:     filepath.Join(m.at.dev, strings.ReplaceAll(name, "!", "/")),
		Form:     inventory.Disk,
		InKernel: true,
		Size:     quantity.Bytes(number(dir, "size") * sysfsSector),
	}
	n.Geometry = block.Geometry{
		Logical: max(number(queue, "logical_block_size"), 512),
		MinIO:   number(queue, "minimum_io_size"),
		OptIO:   number(queue, "optimal_io_size"),
		Offset:  number(dir, "alignment_offset"),
	}
	n.Geometry.Physical = max(number(queue, "physical_block_size"), n.Geometry.Logical)
	link, err := filepath.EvalSymlinks(dir)
	if err != nil {
		link = dir
	}
	n.Hardware = m.hardware(dir, link, d.dev)
	n.Identity = inventory.Identity{
		Disk:   identity(dir, link, n.Hardware),
		Own:    n.Hardware.WWN != "" || n.Hardware.Serial != "",
		Size:   n.Size,
		Sector: quantity.Bytes(n.Geometry.Logical),
	}
	layer(dir, &n)
	n.Links, n.Device = m.links(d.dev, n.Alias), d.dev
	d.node = n
	parts, err := filepath.Glob(filepath.Join(dir, name+"*"))
	for _, p := range parts {
		if num := number(p, "partition"); num > 0 {
			k := kernelPart{
				filepath.Base(p), int(num), number(p, "start") * sysfsSector, number(p, "size") * sysfsSector,
				attribute(p, "dev"),
			}
			d.parts = append(d.parts, k)
			d.node.Kernel = append(d.node.Kernel, inventory.KernelPart{
				Number: k.number,
				Start:  quantity.Bytes(k.start),
				Size:   quantity.Bytes(k.size),
			})
		}
	}
	return d, err
}

// scan looks at what is on the disk. What the kernel has and the table has not
// is listed too.
func (m *Machine) scan(d listed) []inventory.Node {
	if err := m.patience.check(d); err != nil {
		d.node.Silent = true
		return d.unread(err)
	}
	dev, err := m.open(d)
	if err != nil {
		return d.unread(err)
	}
	defer dev.Close()
	nodes := scan.Disk(d.node, dev)
	for _, p := range d.parts {
		if i := slices.IndexFunc(nodes, func(n inventory.Node) bool { return n.Number == p.number && n.InKernel }); i >= 0 {
			nodes[i].Links, nodes[i].Device = m.links(p.dev, ""), p.dev
		}
	}
	return nodes
}

// unread lists the disk and the kernel's partitions without their contents.
func (d listed) unread(err error) []inventory.Node {
	problem := err.Error()
	if errors.Is(err, unix.ENOMEDIUM) { // an empty drive, of which the kernel keeps the last size
		d.node.Size, d.node.Hardware.State = 0, inventory.NoMedium
		return []inventory.Node{d.node}
	}
	if errors.Is(err, fs.ErrPermission) {
		problem = "the system does not let it be read"
		if os.Getuid() != 0 {
			problem = "you may not read it; as root it can be seen"
		}
	}
	nodes := d.bare()
	for i := range nodes {
		nodes[i].Problem = problem
	}
	return nodes
}

// bare lists the disk and the kernel's partitions, none of which was looked at.
func (d listed) bare() []inventory.Node {
	nodes := []inventory.Node{d.node}
	for _, p := range d.parts {
		n := d.node
		n.Name, n.Form, n.Parent, n.Number = p.name, inventory.Partition, d.node.Name, p.number
		n.Path = filepath.Join(filepath.Dir(d.node.Path), p.name)
		n.Start, n.Size = quantity.Bytes(p.start), quantity.Bytes(p.size)
		n.Kernel = nil
		nodes = append(nodes, n)
	}
	return nodes
}

// open opens the disk for reading. A partition of the kernel's is read through
// its own node: the disk's node has a page cache of its own, which goes stale
// while the partition is in use.
func (m *Machine) open(d listed) (block.Device, error) {
	disk, err := file.Open(d.node.Path, false, d.node.Geometry)
	if err != nil {
		return nil, err
	}
	n := &narrow{File: disk}
	if isHeld(d.dir) {
		_ = disk.Refresh() // as below
	}
	for _, p := range d.parts {
		if !fits(p, disk.Size()) {
			continue
		}
		part, err := file.Open(filepath.Join(m.at.dev, p.name), false, d.node.Geometry)
		if err == nil {
			if isHeld(filepath.Join(d.dir, p.name)) {
				_ = part.Refresh() // what is read then may be older, and is read anew when it matters
			}
			n.parts = append(n.parts, opened{p.start, min(p.size, part.Size()), part})
		}
	}
	return n, nil
}

// isHeld reports whether another device is built on the one with the directory.
func isHeld(dir string) bool {
	entries, err := os.ReadDir(filepath.Join(dir, "holders"))
	return err == nil && len(entries) > 0
}

func fits(p kernelPart, disk int64) bool {
	return p.size > 0 && p.size <= disk && p.start <= disk-p.size
}
