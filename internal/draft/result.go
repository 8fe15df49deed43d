package draft

import "fundus/core/quantity"

// ResultRole says what a result is.
type ResultRole string

// The roles.
const (
	RoleTable      ResultRole = "table"
	RolePartition  ResultRole = "partition"
	RoleFileSystem ResultRole = "file-system"
	RoleSwap       ResultRole = "swap"
	RoleLine       ResultRole = "line" // of a text file
	RoleUnit       ResultRole = "unit"
	RoleMount      ResultRole = "mount"
	RoleDirectory  ResultRole = "directory"
	RoleLink       ResultRole = "link"
	RoleOwner      ResultRole = "owner"
)

// ResultRoles lists them all.
func ResultRoles() []ResultRole {
	return []ResultRole{RoleTable, RolePartition, RoleFileSystem, RoleSwap, RoleLine, RoleUnit, RoleMount, RoleDirectory, RoleLink, RoleOwner}
}

// Result is one thing that is there afterwards, as it was asked for: also where it was so before.
// What does not belong to its role is empty.
type Result struct {
	Role   ResultRole
	Device string // that it is, or lies on
	Word   string // by which that is called; see inventory.Called

	Scheme, TableID string // of a table
	PartUUID        string // of a partition
	First, Sectors  uint64 // of a partition, in sectors of the disk

	Kind, UUID, Label string         // of a file system or of swap
	Size              quantity.Bytes // of it
	On                bool           // of swap: the kernel uses it

	Path    string // of a text file, a unit, a directory, a link, a file of swap
	Line    int    // of a text file
	Place   string // mount point; of a link, where it leads
	Options []string

	UID, GID, Mode *uint32 // of an owner; nil: as they were
}

// Layer is one of those that a change of size goes through.
type Layer struct {
	Name     string // disk, partition or content
	Device   string
	Kind     string // of content
	From, To quantity.Bytes
	How      string // in words, where there is more to say
	Stays    string // why it keeps its size; empty where it does not, or where nothing more was asked for
}
