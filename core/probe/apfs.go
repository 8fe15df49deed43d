package probe

import (
	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The container superblock of APFS (Apple File System Reference),
// little-endian, offsets in bytes.
//
// Block 0 holds a copy of the container's superblock of the last clean unmount; the newest
// one lies in a ring of checkpoints. Identifier and size never change, so that the copy is
// enough to recognise it.
const (
	apfsKind    = 24 // u32, its low 16 bits
	apfsMagicAt = 32
	apfsMagic   = "NXSB"
	apfsBlock   = 36 // u32
	apfsBlocks  = 40 // u64
	apfsUUID    = 72
)

// APFS recognises a container.
func APFS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 4096, le)
	if err != nil || !l.has(apfsMagicAt, apfsMagic) || l.u16(apfsKind) != 1 {
		return nil, err
	}
	c := found("apfs", fs.FileSystem, apfsMagicAt, len(apfsMagic))
	size := uint64(l.u32(apfsBlock))
	if !powerOfTwo(size, 4096, 65536) {
		return damaged(c, "blocks of %d bytes", size), nil
	}
	// The checksum is that of the whole block, whose size is known only now.
	whole, err := read(dev, 0, int64(size), le)
	if err != nil {
		return nil, err
	}
	if sum := fletcher64(whole); sum != l.u64(0) {
		return damaged(c, "checksum %#016x recorded, %#016x computed", l.u64(0), sum), nil
	}
	c.UUID = l.uuid(apfsUUID)
	sized(c, l.u64(apfsBlocks), size)
	return c, nil
}

// fletcher64 sums the words behind the checksum itself, modulo 2^32 - 1.
func fletcher64(l look) uint64 {
	const modulus = 1<<32 - 1
	a, b := uint64(0), uint64(0)
	for off := 8; off+4 <= len(l.b); off += 4 {
		a = (a + uint64(l.u32(off))) % modulus
		b = (b + a) % modulus
	}
	low := modulus - (a+b)%modulus
	high := modulus - (a+low)%modulus
	return high<<32 | low
}

// APFSFields are the fields of the container superblock.
func APFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "APFS container superblock", 0, le, []field.Spec{
		field.Hex(8, "checksum"),
		field.Number(8, "object"),
		field.Number(8, "transaction"),
		field.Hex(4, "type"),
		field.Hex(4, "subtype"),
		field.Text(4, "signature"),
		field.Number(4, "block, in bytes"),
		field.Number(8, "blocks"),
		field.Hex(8, "features"),
		field.Hex(8, "read-only compatible features"),
		field.Hex(8, "incompatible features"),
		field.ID(16, "UUID"),
		field.Number(8, "next object"),
		field.Number(8, "next transaction"),
	})
}
