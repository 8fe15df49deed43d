package inventory

import (
	"cmp"
	"fmt"
	"strings"

	"fundus/core/quantity"
)

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
