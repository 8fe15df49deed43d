package ext

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block/field"
)

// Descriptors and inodes are many, and a reader that goes by the fields of their records by name
// takes most of a look: these are taken apart and put together by where their bytes lie. The records
// say what each is called; a test holds both against each other.

// Sizes and places, in bytes.
const (
	descriptorShort = 32
	descriptorLong  = 64
	descriptorSumAt = 30
	inodeShort      = 128
	inodeSumLoAt    = 124
	inodeSumHiAt    = inodeShort + 2
	inodeExtraLong  = 32
)

func tooShort(has, wants int) error {
	return fmt.Errorf("%w: %d bytes of %d", field.ErrShort, has, wants)
}

// decodeDescriptor takes one apart; a short one has no high halves. Errors: field.ErrShort.
func decodeDescriptor(b []byte) (d descriptor, err error) {
	if len(b) < descriptorShort {
		return d, tooShort(len(b), descriptorShort)
	}
	le := binary.LittleEndian
	d.BlockBitmapLo = le.Uint32(b[0:])
	d.InodeBitmapLo = le.Uint32(b[4:])
	d.InodeTableLo = le.Uint32(b[8:])
	d.FreeBlocksLo = le.Uint16(b[12:])
	d.FreeInodesLo = le.Uint16(b[14:])
	d.DirectoriesLo = le.Uint16(b[16:])
	d.Flags = le.Uint16(b[18:])
	d.ExclusionLo = le.Uint32(b[20:])
	d.BlockSumLo = le.Uint16(b[24:])
	d.InodeSumLo = le.Uint16(b[26:])
	d.UnusedLo = le.Uint16(b[28:])
	d.Checksum = le.Uint16(b[descriptorSumAt:])
	// A descriptor of another length than these two is longer: what stands behind the 64 bytes is
	// nobody's that is known.
	if len(b) < descriptorLong {
		return d, nil
	}
	d.BlockBitmapHi = le.Uint32(b[32:])
	d.InodeBitmapHi = le.Uint32(b[36:])
	d.InodeTableHi = le.Uint32(b[40:])
	d.FreeBlocksHi = le.Uint16(b[44:])
	d.FreeInodesHi = le.Uint16(b[46:])
	d.DirectoriesHi = le.Uint16(b[48:])
	d.UnusedHi = le.Uint16(b[50:])
	d.ExclusionHi = le.Uint32(b[52:])
	d.BlockSumHi = le.Uint16(b[56:])
	d.InodeSumHi = le.Uint16(b[58:])
	copy(d.Rest[:], b[60:])
	return d, nil
}

// encode puts it together, with its high halves.
func (d *descriptor) encode() []byte {
	b, le := make([]byte, descriptorLong), binary.LittleEndian
	le.PutUint32(b[0:], d.BlockBitmapLo)
	le.PutUint32(b[4:], d.InodeBitmapLo)
	le.PutUint32(b[8:], d.InodeTableLo)
	le.PutUint16(b[12:], d.FreeBlocksLo)
	le.PutUint16(b[14:], d.FreeInodesLo)
	le.PutUint16(b[16:], d.DirectoriesLo)
	le.PutUint16(b[18:], d.Flags)
	le.PutUint32(b[20:], d.ExclusionLo)
	le.PutUint16(b[24:], d.BlockSumLo)
	le.PutUint16(b[26:], d.InodeSumLo)
	le.PutUint16(b[28:], d.UnusedLo)
	le.PutUint16(b[descriptorSumAt:], d.Checksum)
	le.PutUint32(b[32:], d.BlockBitmapHi)
	le.PutUint32(b[36:], d.InodeBitmapHi)
	le.PutUint32(b[40:], d.InodeTableHi)
	le.PutUint16(b[44:], d.FreeBlocksHi)
	le.PutUint16(b[46:], d.FreeInodesHi)
	le.PutUint16(b[48:], d.DirectoriesHi)
	le.PutUint16(b[50:], d.UnusedHi)
	le.PutUint32(b[52:], d.ExclusionHi)
	le.PutUint16(b[56:], d.BlockSumHi)
	le.PutUint16(b[58:], d.InodeSumHi)
	copy(b[60:], d.Rest[:])
	return b
}

// decodeInode takes one apart: of its extra bytes, those that it says are in use. Errors:
// field.ErrShort.
func decodeInode(b []byte) (n inode, err error) {
	if len(b) < inodeShort {
		return n, tooShort(len(b), inodeShort)
	}
	le := binary.LittleEndian
	n.Mode = le.Uint16(b[0:])
	n.UserLo = le.Uint16(b[2:])
	n.SizeLo = le.Uint32(b[4:])
	n.AccessTime = le.Uint32(b[8:])
	n.ChangeTime = le.Uint32(b[12:])
	n.ModifyTime = le.Uint32(b[16:])
	n.DeleteTime = le.Uint32(b[20:])
	n.GroupLo = le.Uint16(b[24:])
	n.Links = le.Uint16(b[26:])
	n.BlocksLo = le.Uint32(b[28:])
	n.Flags = le.Uint32(b[32:])
	n.VersionLo = le.Uint32(b[36:])
	copy(n.Block[:], b[40:100])
	n.Generation = le.Uint32(b[100:])
	n.AttributesLo = le.Uint32(b[104:])
	n.SizeHi = le.Uint32(b[108:])
	n.Fragment = le.Uint32(b[112:])
	n.BlocksHi = le.Uint16(b[116:])
	n.AttributesHi = le.Uint16(b[118:])
	n.UserHi = le.Uint16(b[120:])
	n.GroupHi = le.Uint16(b[122:])
	n.ChecksumLo = le.Uint16(b[inodeSumLoAt:])
	n.Pad = le.Uint16(b[126:])
	// An inode of 128 bytes ends here. A longer one says in its next two bytes how many of those
	// behind are in use, which is less where a former kernel made it.
	if len(b) <= inodeShort+2 {
		return n, nil
	}
	var x [inodeExtraLong]byte // what it does not use reads as zeros
	used := int(le.Uint16(b[inodeShort:]))
	copy(x[:], b[inodeShort:min(len(b), inodeShort+used)])
	n.ExtraSize = le.Uint16(x[0:])
	n.ChecksumHi = le.Uint16(x[2:])
	n.ChangeX = le.Uint32(x[4:])
	n.ModifyX = le.Uint32(x[8:])
	n.AccessX = le.Uint32(x[12:])
	n.CreateTime = le.Uint32(x[16:])
	n.CreateX = le.Uint32(x[20:])
	n.VersionHi = le.Uint32(x[24:])
	n.Project = le.Uint32(x[28:])
	return n, nil
}
