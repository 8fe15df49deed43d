// Package inventory is a machine as plain data: its devices, what they are
// part of, what is on them, who uses them, and the text files that name them.
//
// An Inventory is not changed once it was made. Whatever could not be read
// says why in its Problem.
package inventory

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/mountopt"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/units"
)

// Inventory is the whole machine.
type Inventory struct {
	Machine Machine
	Nodes   []Node // disks in order of their names, each followed by its partitions
	Uses    []Use
	Areas   []Area // what the kernel swaps on now
	Memory  Memory // of the machine; zero where it was not asked
	// Others are mounts of this system that no node stands for: those of the kernel's own, of
	// memory and of the network. Their nodes are empty.
	Others []Use
	// Answers are what the running kernel said of options when it was asked, by the type.
	Answers map[string]mountopt.Answers
	Files   map[string]File // text files by path
	// UnitFiles is what lies in systemd's directories about mounts, automounts, swap and devices.
	UnitFiles []units.Place
	System    System            // how it is told to boot
	Dirs      map[string]bool   // for each mount point that is named: does it exist?
	Names     map[string]bool   // users and groups that lines name, "uid=curator", and whether the machine knows them
	SwapFiles map[string]string // files to swap on that lines name, and why the kernel would not; "" where it would, none where nobody could look
	Blocked   map[string]bool   // mount points at which there is something else than a directory
	Leads     map[string]string // mount points that are symbolic links, and where they lead
	Sources   map[string]bool   // for each path that fstab mounts or swaps on and that is no device: is it there?
}

// Machine says which machine it is.
type Machine struct {
	Kind   string // "bench" or "machine"
	Name   string // of the bench, or the host
	BootID string
	Now    time.Time // when it was looked at
	// Systemd is set where systemd runs, which reads fstab only when it starts or
	// is told to.
	Systemd  bool
	Firmware string // what started it: "UEFI" or "BIOS"; empty where unknown
	// Apart is set where this program has a tree of mounts of its own: what it mounts the
	// system does not see.
	Apart bool
	// Root is the directory below which the text files and mount points lie;
	// empty for the running system's own.
	Root string
}

// System is what a boot goes by beside fstab and units.
type System struct {
	Version    int      // of systemd; 0 where it is not known
	Conf       [][]byte // of systemd's system.conf and what is added to it, in the order in which they are read
	Generators []string // programs that make units at each boot; nil where they could not be listed
	// Filled are directories in which something lies: a partition that is found by its type is not
	// mounted over that.
	Filled map[string]bool
}

// String is how drafts begin: "bench fernhill" or "this machine (HOST)".
func (m Machine) String() string {
	if m.Kind == "bench" {
		return "bench " + m.Name
	}
	if m.Root != "" {
		return fmt.Sprintf("this machine (%s), the system below %s", m.Name, m.Root)
	}
	if m.Apart {
		return fmt.Sprintf("this machine (%s), in a mount namespace of its own", m.Name)
	}
	return fmt.Sprintf("this machine (%s)", m.Name)
}

// Form is what a node is.
type Form string

// The forms.
const (
	Disk      Form = "disk"
	Array     Form = "array"  // of Linux's software RAID
	Volume    Form = "volume" // of the device mapper
	Partition Form = "partition"
	Image     Form = "image"
)

// Node is one device.
type Node struct {
	Name     string // "sdb1", "card.img:1"
	Path     string // "/dev/sdb1", or the image's path
	Form     Form
	Parent   string // name of the disk, for a partition
	Number   int    // of the partition
	Start    quantity.Bytes
	Size     quantity.Bytes
	Geometry block.Geometry
	Identity Identity
	Hardware Hardware
	Table    *table.Table      // of a disk
	TableBad []finding.Finding // what is wrong with that table
	Entry    table.Partition   // of a partition
	Contents []fs.Content      // everything that has a valid signature
	Zeros    bool              // nothing is recognised, and the places that were sampled read as zeros
	InKernel bool              // the kernel has a node for it, as it is
	Kernel   []KernelPart      // of a disk: what the kernel takes for its partitions
	Linux    KernelPart        // of a partition: what the kernel makes of it when it reads the table; of no size where it takes none
	Device   string            // the kernel's number of it, "8:17"; empty where there is no kernel
	Alias    string            // its other name: of a device-mapper device, of an array
	Layer    string            // what an array or a volume is, such as "logical volume" or "RAID 1, active"
	BuiltOn  []string          // names of the nodes below an array or a volume
	Links    []string          // other paths in /dev that lead here
	Problem  string            // why it could not be read, else empty
	Within   string            // of a partition: what lies on the whole disk and covers it
	Silent   bool              // it did not answer, or is offline: nothing more was asked of it
}

// KernelPart is a partition as the kernel knows it.
type KernelPart struct {
	Number int            `json:"number"`
	Start  quantity.Bytes `json:"start_bytes"`
	Size   quantity.Bytes `json:"size_bytes"`
}

// Disk names the whole device that the node is a part of; its own name for a whole one.
//
// Partitions have no bytes of their own: whoever opens, locks or writes one does so with
// its disk, at an offset.
func (n Node) Disk() string { return cmp.Or(n.Parent, n.Name) }

// KnownAs reports whether the partition is among those that the kernel knows: as it would take it
// from the table, or, where it takes none, as it stands there, from an earlier look.
func (n Node) KnownAs(known []KernelPart) bool {
	if n.Linux.Size > 0 {
		return slices.Contains(known, n.Linux)
	}
	return n.Size > 0 && slices.Contains(known, KernelPart{n.Number, n.Start, n.Size})
}

// Taken lists the partitions of a disk as the kernel takes them from its table.
func (v *Inventory) Taken(disk string) (out []KernelPart) {
	for _, n := range v.Parts(disk) {
		if n.Linux.Size > 0 {
			out = append(out, n.Linux)
		}
	}
	return out
}

// Hardware is what a disk says of itself.
type Hardware struct {
	Bus        string
	Model      string
	Serial     string
	Rotational bool
	Removable  bool
	ReadOnly   bool
	Backing    string // the file that a loop device carries
	Vendor     string
	WWN        string
	Firmware   string         // revision
	Discard    quantity.Bytes // granularity, 0 where it cannot discard
	WriteCache string         // "write back" or "write through"
	Zoned      string         // "host-managed" and the like, else empty
	HotPlug    bool
	State      string // of the transport, such as "offline"; empty where it runs
}

// Natural compares names as people count: sda to sdz before sdaa, nvme2n1 before nvme10n1.
func Natural(a, b string) int {
	cut := func(s string) (letters, digits, rest string) {
		i := strings.IndexAny(s, "0123456789")
		if i < 0 {
			return s, "", ""
		}
		k := i
		for k < len(s) && s[k] >= '0' && s[k] <= '9' {
			k++
		}
		return s[:i], strings.TrimLeft(s[i:k], "0"), s[k:]
	}
	for a != b {
		wordA, numA, restA := cut(a)
		wordB, numB, restB := cut(b)
		if len(wordA) > 2 && len(wordB) > 2 && wordA[:2] == wordB[:2] && len(wordA) != len(wordB) {
			return cmp.Compare(len(wordA), len(wordB))
		}
		if c := cmp.Or(cmp.Compare(wordA, wordB), cmp.Compare(len(numA), len(numB)), cmp.Compare(numA, numB)); c != 0 {
			return c
		}
		if restA == a && restB == b {
			return cmp.Compare(a, b)
		}
		a, b = restA, restB
	}
	return 0
}

// ComesAndGoes reports whether the disk can be pulled out.
func (h Hardware) ComesAndGoes() bool { return h.Removable || h.HotPlug || h.Bus == "usb" }

// Minor reports whether a disk is none to an administrator who asks for the
// machine's disks: a loop device, memory, an optical drive.
//
// They are shown when they are asked for by name, or with all.
func (n Node) Minor() bool {
	return slices.Contains([]string{"loop", "memory", "optical", "floppy", "mmc boot area"}, n.Hardware.Bus)
}

// NoMedium is the state of a drive that nothing lies in.
const NoMedium = "no medium"

// Identity finds a device again, whatever the kernel calls it.
type Identity struct {
	Disk string `json:"disk"` // WWN, else bus + model + serial, else path; an image: file system + inode
	// Own is set where the disk itself says who it is, by a WWN or by model and serial:
	// then a disk of another size is that disk, grown.
	Own    bool           `json:"own,omitempty"`
	Size   quantity.Bytes `json:"size_bytes"`
	Sector quantity.Bytes `json:"sector_bytes"`
	Number int            `json:"number,omitempty"`      // partition
	Start  quantity.Bytes `json:"start_bytes,omitempty"` // partition
	Length quantity.Bytes `json:"length_bytes,omitempty"`
}

// SameDisk reports whether both are on the same disk. Its size takes part only where the
// disk does not say itself who it is.
//
// A virtual disk may grow between two looks and be the same disk; two empty disks of one
// model without serial numbers are told apart by their sizes alone.
func (i Identity) SameDisk(o Identity) bool {
	return i.Disk == o.Disk && i.Own == o.Own && i.Sector == o.Sector && (i.Own || i.Size == o.Size)
}

// Whole is the identity of the disk that a partition is on.
func (i Identity) Whole() Identity {
	i.Number, i.Start, i.Length = 0, 0, 0
	return i
}

// String names the identity in errors and fences.
func (i Identity) String() string {
	if i.Number == 0 {
		return fmt.Sprintf("%s, %v", i.Disk, i.Size)
	}
	return fmt.Sprintf("%s, %v, partition %d", i.Disk, i.Size, i.Number)
}

// How says how a node is used.
type How string

// The ways of use.
const (
	Mounted How = "mounted"
	SwapOn  How = "swap"
	Held    How = "held" // by a device that is built on it
)

// Use is one use of a node.
type Use struct {
	Node     string
	How      How
	Where    string // mount point, or the device that holds it
	Kind     string // file system that the kernel uses
	Options  string // of this mount, as the kernel lists them
	Super    string // of the file system, the same at every place where it is mounted
	ReadOnly bool
	Part     string // the directory of the file system that is seen there; "" for all of it
	Number   int    // of the mount, as the kernel counts them; 0 where nobody does
	Source   string // what is mounted, where it is no node
	// Elsewhere says whose mount it is where it is not one of this system's own:
	// that of another mount namespace, or one outside of the root.
	Elsewhere string
	Space     Space
	Priority  int // of swap
	// Spans are the bytes of the node that the use is of, where that is known; nil: all.
	Spans []extent.Span
}

// Area is what the kernel swaps on: a device, or a file that no node stands for.
type Area struct {
	Path       string // as the kernel names it
	Node       string // "" for a file
	File       bool
	On         string // the node that a file lies on; "" where it is not known
	First      int64  // the page of that node at which a file begins; 0 where it is not known
	Size, Used quantity.Bytes
	Priority   int
}

// Memory is what the kernel says of memory.
type Memory struct {
	Total     quantity.Bytes
	Available quantity.Bytes // that can be had without swapping
}

// Space is what statfs(2) says of a mounted file system, or the kernel's list of
// an area of swap; zero where it was not asked.
type Space struct {
	Total, Free quantity.Bytes
	Files, Left uint64 // inodes
}

// File is a text file.
type File struct {
	Data    []byte
	Missing bool
	Problem string
}

// Node finds a node by its name, or by its alias.
func (v *Inventory) Node(name string) (Node, bool) {
	for i := range v.Nodes {
		if v.Nodes[i].Name == name {
			return v.Nodes[i], true
		}
	}
	for i := range v.Nodes {
		if v.Nodes[i].Alias == name && name != "" {
			return v.Nodes[i], true
		}
	}
	return Node{}, false
}

// which lists the nodes that pass, in their order.
func (v *Inventory) which(pass func(n *Node) bool) (out []Node) {
	for i := range v.Nodes {
		if pass(&v.Nodes[i]) {
			out = append(out, v.Nodes[i])
		}
	}
	return out
}

// Named gives, for each node that a line of fstab names, the mount point of the
// first such line.
func (v *Inventory) Named() map[string]string {
	out, r := map[string]string{}, v.Resolver()
	for _, l := range v.Fstab().Entries() {
		for _, n := range r.Resolve(l.Entry.Spec) {
			if out[n.Name] == "" {
				out[n.Name] = l.Entry.Dir
			}
		}
	}
	return out
}

// Silent gives the names of the nodes that nothing is asked of.
func (v *Inventory) Silent() map[string]bool {
	out := map[string]bool{}
	for _, n := range v.which(func(n *Node) bool { return n.Silent }) {
		out[n.Name] = true
	}
	return out
}

// Kinds are the kinds of content that the nodes hold, each once, in alphabetical order.
func (v *Inventory) Kinds() (out []string) {
	for i := range v.Nodes {
		for _, c := range v.Nodes[i].Contents {
			out = append(out, c.Kind)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Disks lists the nodes that are no part of another.
func (v *Inventory) Disks() []Node {
	return v.which(func(n *Node) bool { return n.Parent == "" })
}

// Parts lists the partitions of a disk by their number.
func (v *Inventory) Parts(disk string) []Node {
	family := v.Family(disk)
	return slices.DeleteFunc(family, func(n Node) bool { return n.Parent != disk })
}

// Family is the node, its disk and its partitions: whoever is touched when the
// whole node is written.
//
// In the order of the inventory: the disk, then its partitions by number.
func (v *Inventory) Family(name string) []Node {
	first := 0
	for first < len(v.Nodes) && v.Nodes[first].Name != name && v.Nodes[first].Parent != name {
		first++
	}
	if first == len(v.Nodes) {
		return nil
	}
	end := first + 1 // they follow each other
	for end < len(v.Nodes) && v.Nodes[end].Parent == name {
		end++
	}
	return slices.Clone(v.Nodes[first:end])
}

// UsesOf lists the uses of a node.
func (v *Inventory) UsesOf(name string) []Use {
	var out []Use
	for _, u := range v.Uses {
		if u.Node == name {
			out = append(out, u)
		}
	}
	return out
}

// InUse is the state of a file system that is mounted for writing.
const InUse = "in use"

// StateOf is how a content was left, or that it is in use: a superblock says of every mounted
// file system that it was not unmounted, and that is no damage.
func StateOf(c fs.Content, uses []Use) string {
	mounted := slices.ContainsFunc(uses, func(u Use) bool { return u.How == Mounted && !u.ReadOnly })
	if mounted && c.Class == fs.FileSystem && (c.State == fs.Recovery || c.State == fs.Dirty || c.State == fs.Clean) {
		return InUse
	}
	if c.AtMount.Why() != "" && len(uses) == 0 {
		return string(fs.Damaged)
	}
	return string(c.State)
}

// Unused reports whether nothing is known that would be lost, were the node
// formatted: it is empty, nobody uses it, and no line of fstab names it. A
// disk with partitions is in use by them; named is what Named gives.
func (v *Inventory) Unused(n Node, named map[string]string) bool {
	if n.Problem != "" || n.Hardware.ReadOnly || !n.Zeros || len(v.UsesOf(n.Name)) > 0 {
		return false
	}
	return named[n.Name] == ""
}

// MountedAt finds the newest mount at the directory.
func (v *Inventory) MountedAt(dir string) (Use, bool) {
	for _, u := range slices.Backward(v.Uses) {
		if u.How == Mounted && u.Where == dir && u.Elsewhere == "" {
			return u, true
		}
	}
	return Use{}, false
}

// Automount is the kind of a place that is mounted at the first access.
const Automount = "autofs"

// OtherAt finds what is mounted on top at the directory where it is of no node. A place that
// waits for the first access is none.
func (v *Inventory) OtherAt(dir string) (Use, bool) {
	for _, u := range slices.Backward(v.Others) {
		if u.Where == dir && u.Elsewhere == "" && u.Kind != Automount {
			on, covered := v.MountedAt(dir)
			return u, !covered || on.Number < u.Number
		}
	}
	return Use{}, false
}

// Awaits reports whether the directory is mounted at the first access, or lies below such a
// one, and nothing is mounted there yet.
func (v *Inventory) Awaits(dir string) bool {
	return slices.ContainsFunc(v.Others, func(u Use) bool {
		if u.Kind != Automount || dir != u.Where && !strings.HasPrefix(dir, u.Where+"/") {
			return false
		}
		_, mounted := v.MountedAt(u.Where)
		_, other := v.OtherAt(u.Where)
		return !mounted && !other
	})
}

// MountOf finds the mount that the path lies on; false where none of the devices is mounted
// there.
func (v *Inventory) MountOf(p string) (on Use, ok bool) {
	for _, u := range v.Uses {
		inside := p == u.Where || strings.HasPrefix(p, strings.TrimSuffix(u.Where, "/")+"/")
		if u.How == Mounted && u.Elsewhere == "" && inside && len(u.Where) >= len(on.Where) {
			on, ok = u, true
		}
	}
	return on, ok
}

// Fstab reads the machine's table of file systems; empty where it is missing.
func (v *Inventory) Fstab() *fstab.File { return fstab.Parse(v.Files[fstab.Path].Data) }

// Units is what systemd makes of the lines of that table, in their order.
func (v *Inventory) Units() []fstab.Unit {
	return fstab.Read(v.Fstab(), v.Real)
}

// Kept is what systemd makes of the units that people keep, each as the line that would do the
// same, as far as one can. Those that come with the system are left out.
func (v *Inventory) Kept() (out []fstab.Unit) {
	all := units.Load(v.UnitFiles)
	for _, l := range all {
		if l.Masked || l.Where() == "" && !l.IsSwap() || !l.Kept() || strings.HasSuffix(l.Name, ".automount") {
			continue
		}
		e, err := units.ToLine(l, units.Before(all, l.Name), v.UnitFiles)
		if err != nil { // what it mounts is known all the same
			e = fstab.Entry{Spec: fstab.Spec(l.What()), Dir: l.Where(), Type: cmp.Or(l.Get("Mount", "Type"), "auto"), Options: l.Options()}
		}
		table := &fstab.File{}
		if _, err := table.Add(e, 0); err == nil {
			out = append(out, fstab.Read(table, v.Real)...)
		}
	}
	return out
}

// Real is where a mount point leads that is a symbolic link.
func (v *Inventory) Real(dir string) (to string, ok bool) {
	to, ok = v.Leads[dir]
	return to, ok
}

// Content is what Linux takes the node for: the fence where there is one, else
// the one thing with a valid signature that is no partition table, else the one
// of the highest rank. Several of the same contradict each other: then there is
// none.
//
// It is the answer to "what would be mounted": udev asks the same question, and where it
// finds two file systems it names neither, so that nothing here may guess.
func (n Node) Content() (fs.Content, bool) {
	var found []fs.Content
	for _, c := range n.Contents {
		if c.Class == fs.Fence {
			return c, true
		}
		if c.Class != fs.Table {
			found = append(found, c)
		}
	}
	found = slices.DeleteFunc(found, func(c fs.Content) bool {
		return c.Yields != "" && slices.ContainsFunc(n.Contents, func(o fs.Content) bool { return o.Kind == c.Yields })
	})
	if len(found) == 0 {
		return fs.Content{}, false
	}
	first := slices.MaxFunc(found, func(a, b fs.Content) int { return int(a.Rank - b.Rank) })
	same := 0
	for _, c := range found {
		if c.Rank == first.Rank {
			same++
		}
	}
	if same > 1 {
		return fs.Content{}, false
	}
	return first, true
}

// Believed says which of several signatures counts; empty where there is only
// one.
func (n Node) Believed() string {
	if len(n.Contents) < 2 {
		return ""
	}
	c, ok := n.Content()
	switch {
	case !ok:
		return "none: systemd gives it no identifier, and the kernel mounts it as whatever it is told"
	case c.Class == fs.Fence:
		return "the fence: nothing mounts it"
	case c.AtEnd:
		return c.Kind + ": what else is here is what the array holds"
	case slices.ContainsFunc(n.Contents, func(o fs.Content) bool { return o.Class == fs.Table }):
		return c.Kind + " on the whole device, and the table for partitions of it"
	}
	return c.Kind + ": the others are not looked at, and come back when its signature goes"
}

// Places lists every signature with its first byte.
func (n Node) Places() string {
	var words []string
	for _, c := range n.Contents {
		for _, s := range c.Signatures {
			words = append(words, fmt.Sprintf("%s at byte %d", c.Kind, s.Start))
		}
	}
	return strings.Join(words, ", ")
}

// Holds is one word or two for what is on the node; "" for an empty one, and for a disk
// of which its table is all there is to say. What no probe recognises is "unknown".
func (n Node) Holds() string {
	switch {
	case n.Silent:
		return "silent"
	case n.Hardware.State == NoMedium:
		return NoMedium
	case n.Entry.Number > 0 && n.Entry.Span.Count == 0:
		return "no sectors"
	case n.Problem != "" && len(n.Contents) == 0:
		return "unreadable"
	}
	c, ok := n.Content()
	switch {
	case n.Entry.Role == table.Extended:
		return "extended"
	case ok:
		return c.Kind
	case len(n.Contents) == 0 && n.Within != "":
		return "part of " + n.Within
	case len(n.Contents) == 0 && n.Table == nil && !n.Zeros:
		return "unknown"
	case len(n.Contents) == 0:
		return ""
	}
	var kinds []string
	for _, c := range n.Contents {
		kinds = append(kinds, c.Kind)
	}
	return strings.Join(kinds, "+")
}

// Words say what is on the node, with its label: "ext4 herbarium", "empty".
func (n Node) Words() string {
	holds := n.Holds()
	if c, ok := n.Content(); ok && c.Label != "" {
		return holds + " " + c.Label
	}
	return cmp.Or(holds, "empty")
}

// tags are the ways in which fstab can name a node.
var tags = [...]string{"UUID", "LABEL", "PARTUUID", "PARTLABEL"}

// Identifiers are the ways in which fstab can name the node, by their tags.
func (n Node) Identifiers() map[string]string {
	ids := map[string]string{}
	for _, tag := range tags {
		if value := n.identifier(tag); value != "" {
			ids[tag] = value
		}
	}
	return ids
}

func (n *Node) identifier(tag string) string {
	switch {
	case tag == "PARTUUID" && n.Form == Partition:
		return n.Entry.UUID
	case tag == "PARTLABEL" && n.Form == Partition:
		return n.Entry.Name
	case tag != "UUID" && tag != "LABEL" || len(n.Contents) == 0:
		return ""
	}
	c, ok := n.Content()
	switch {
	case !ok || c.Class != fs.FileSystem && c.Class != fs.Swap && c.Class != fs.Encrypted:
		return ""
	case tag == "UUID":
		return c.UUID
	}
	return c.Label
}

// Resolve finds every node that the word names: TAG=VALUE, or a path. Who asks
// for many words makes a Resolver.
func (v *Inventory) Resolve(word string) []Node { return v.Resolver().Resolve(word) }

// spans reports whether what is on the node lies on other devices as well.
func (n Node) spans() bool {
	c, ok := n.Content()
	return ok && c.Devices != ""
}

// Held reports whether another device is built on the node.
func (v *Inventory) Held(name string) bool {
	return slices.ContainsFunc(v.Uses, func(u Use) bool { return u.Node == name && u.How == Held })
}

// Imaged reports whether the node is an image file or lies in one: no text file of the
// machine names that.
//
// A file is named by its path, and mounted over a loop device that comes and goes; a line
// of fstab that says an identifier from inside of it means a device of the machine.
func (v *Inventory) Imaged(n Node) bool {
	disk, ok := v.Node(n.Parent)
	return n.Form == Image || ok && disk.Form == Image
}
