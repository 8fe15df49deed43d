package inventory

// LayerKind is what a device is that is built on others, as a code.
type LayerKind string

// The kinds of layers.
const (
	Mapped     LayerKind = "mapped" // by the device mapper, of which nothing more is known
	Logical    LayerKind = "logical"
	Opened     LayerKind = "encrypted"
	Multipath  LayerKind = "multipath"
	MappedPart LayerKind = "mapped-partition"
	RAID       LayerKind = "raid"
)

// Layer is a device on others; its zero value is one that is on none.
type Layer struct {
	Kind    LayerKind
	Level   string // of RAID, in the kernel's word: "raid1"
	Of      int    // devices of an array
	Missing int    // of those
	State   string // of an array, in the kernel's word: "active"
}
