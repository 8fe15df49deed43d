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
	"time"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/mountopt"
	"fundus/core/quantity"
	"fundus/core/table"
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

	texts *texts // see Keep
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
	Layer    Layer             // what an array or a volume is
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
