package probe

import (
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Superblocks of Linux software RAID (include/uapi/linux/raid/md_p.h and
// drivers/md/md.c of Linux 6.1), offsets in bytes. Version 1 is little-endian;
// version 0.90 has the byte order of its writer.
//
// Where a member's superblock lies decides what else is seen on it. Versions 1.0 and 0.90
// keep it at the end: the data begins at the first byte, so that a member of a mirror looks
// like the file system itself, and is mounted and ruined as one where nobody looks at the
// end. Hence AtEnd, and the rank above whatever lies in front.
const (
	raidMagic = 0xa92b4efc

	raidMajor      = 4   // u32, 1
	raidSetUUID    = 16  // 16 bytes
	raidSetName    = 32  // 32 bytes
	raidLevel      = 72  // s32
	raidSize       = 80  // u64, sectors used of each member
	raidDisks      = 92  // u32
	raidSuperStart = 144 // u64, sectors: where this superblock lies
	raidSum        = 216 // u32
	raidRoles      = 220 // u32, entries of 2 bytes behind byte 256
	raidFixed      = 256
	raidMaxRoles   = 1920 // so that a superblock ends within 4 KiB

	oldMinor   = 8  // u32, 90 or more
	oldUUID    = 20 // u32, the others at 52
	oldLevel   = 28
	oldSize    = 32 // u32, KiB
	oldDisks   = 40
	oldUUIDs   = 52
	oldSum     = 152
	oldSuper   = 4096
	oldReserve = 64 << 10 // at the end, in such steps
)

// Raid recognises a member of a Linux software RAID, of version 1.0, 1.1 or 1.2
// by where its superblock lies, else of 0.90.
func Raid(dev block.Device) (*fs.Content, error) {
	size := dev.Size()
	end := (size/512 - 16) &^ 7 * 512 // 8 KiB from the end, on 4 KiB
	for _, place := range []struct {
		at      int64
		version string
	}{{4096, "1.2"}, {0, "1.1"}, {end, "1.0"}} {
		if place.at < 0 || place.at+4096 > size {
			continue
		}
		b, err := block.ReadSized(dev, place.at, 4096, 4096)
		if err != nil {
			return nil, err
		}
		le := binary.LittleEndian
		// The superblock says where it lies. A copy of a disk onto a larger one leaves an
		// old superblock in the middle, which must not be taken for a member.
		if le.Uint32(b) == raidMagic && le.Uint32(b[raidMajor:]) == 1 && int64(le.Uint64(b[raidSuperStart:])) == place.at/512 {
			return raidContent(b, place.at, place.version), nil
		}
	}
	return oldRaid(dev, size&^(oldReserve-1)-oldReserve)
}

func raidContent(b []byte, at int64, version string) *fs.Content {
	le := binary.LittleEndian
	name, _, _ := strings.Cut(string(b[raidSetName:raidSetName+32]), "\x00")
	c := &fs.Content{Kind: "RAID member", Class: fs.Member, Version: version, Label: name, State: fs.Clean,
		Rank: fs.Array, AtEnd: version == "1.0", UUID: uuid.UUID(b[raidSetUUID : raidSetUUID+16]).String(),
		Signatures: []extent.Span{{Start: uint64(at), Count: 4}}}
	if roles := le.Uint32(b[raidRoles:]); roles > raidMaxRoles || le.Uint32(b[raidSum:]) != raidChecksum(b[:raidFixed+2*roles]) {
		c.State = fs.Damaged
		return c
	}
	c.Size = times(le.Uint64(b[raidSize:]), 512)
	c.Facts = raidFacts(int32(le.Uint32(b[raidLevel:])), le.Uint32(b[raidDisks:]))
	return c
}

// raidChecksum adds the words up with the sum's own as zero, and folds.
func raidChecksum(b []byte) uint32 {
	sum := uint64(0)
	for i := 0; i+4 <= len(b); i += 4 {
		if i != raidSum {
			sum += uint64(binary.LittleEndian.Uint32(b[i:]))
		}
	}
	if len(b)%4 == 2 {
		sum += uint64(binary.LittleEndian.Uint16(b[len(b)-2:]))
	}
	return uint32(sum) + uint32(sum>>32)
}

func raidFacts(level int32, disks uint32) []fs.Fact {
	name := fmt.Sprintf("RAID %d", level)
	if level == -1 {
		name = "linear"
	}
	return []fs.Fact{{Name: "array", Value: fmt.Sprintf("%s of %d devices", name, disks)}}
}

// oldRaid recognises version 0.90, whose superblock lies in the last whole 64
// KiB but one.
func oldRaid(dev block.Device, at int64) (*fs.Content, error) {
	if at < 0 {
		return nil, nil
	}
	b, err := block.ReadSized(dev, at, oldSuper, oldSuper)
	if err != nil {
		return nil, err
	}
	var order binary.ByteOrder = binary.LittleEndian
	if order.Uint32(b) != raidMagic {
		order = binary.BigEndian
	}
	if order.Uint32(b) != raidMagic || order.Uint32(b[raidMajor:]) != 0 || order.Uint32(b[oldMinor:]) < 90 {
		return nil, nil
	}
	// The first four bytes of the identifier stand apart from the others, since the format
	// had 32 bits for it at first.
	var id uuid.UUID
	binary.BigEndian.PutUint32(id[0:], order.Uint32(b[oldUUID:]))
	for i := range 3 {
		binary.BigEndian.PutUint32(id[4+4*i:], order.Uint32(b[oldUUIDs+4*i:]))
	}
	c := &fs.Content{Kind: "RAID member", Class: fs.Member, Version: fmt.Sprintf("0.%d", order.Uint32(b[oldMinor:])),
		State: fs.Clean, Rank: fs.Array, AtEnd: true, UUID: id.String(),
		Size: quantity.Bytes(order.Uint32(b[oldSize:])) * quantity.KiB, Signatures: []extent.Span{{Start: uint64(at), Count: 4}}}
	if order.Uint32(b[oldSum:]) != oldChecksum(b, order) {
		c.State = fs.Damaged
		return c, nil
	}
	c.Facts = raidFacts(int32(order.Uint32(b[oldLevel:])), order.Uint32(b[oldDisks:]))
	return c, nil
}

// oldChecksum adds the words up and folds once.
func oldChecksum(b []byte, order binary.ByteOrder) uint32 {
	sum := uint64(0)
	for i := 0; i < oldSuper; i += 4 {
		if i != oldSum {
			sum += uint64(order.Uint32(b[i:]))
		}
	}
	return uint32(sum) + uint32(sum>>32)
}

// RaidFields are the fields of the superblock, wherever its version has it.
func RaidFields(dev block.Device) ([]field.Structure, error) {
	c, err := Raid(dev)
	if err != nil || c == nil {
		return nil, err
	}
	at, specs := int64(c.Signatures[0].Start), raidSpecs()
	if strings.HasPrefix(c.Version, "0.") {
		specs = oldRaidSpecs()
	}
	l, err := read(dev, at, 4, be)
	if err != nil {
		return nil, err
	}
	order := binary.ByteOrder(binary.LittleEndian)
	if l.u32(0) == raidMagic {
		order = binary.BigEndian
	}
	return structure(dev, "RAID superblock "+c.Version, at, order, specs)
}

func raidSpecs() []field.Spec {
	return []field.Spec{
		field.Hex(4, "signature"),
		field.Number(4, "version"),
		field.Hex(4, "features"),
		field.Bytes(4, "padding"),
		field.ID(16, "UUID of the array"),
		field.Text(32, "name of the array"),
		field.Hex(8, "made"),
		field.Signed(4, "level"),
		field.Number(4, "layout"),
		field.Number(8, "sectors used of each member"),
		field.Number(4, "sectors of a chunk"),
		field.Number(4, "members"),
		field.Signed(4, "sector of the bitmap, from here"),
		field.Signed(4, "new level"),
		field.Number(8, "place of a reshape"),
		field.Signed(4, "change of members"),
		field.Number(4, "new layout"),
		field.Number(4, "new chunk"),
		field.Signed(4, "new offset of the data"),
		field.Number(8, "first sector of the data"),
		field.Number(8, "sectors for data"),
		field.Number(8, "sector of this superblock"),
		field.Number(8, "recovered up to sector"),
		field.Number(4, "number of this member"),
		field.Number(4, "corrected read errors"),
		field.ID(16, "UUID of this member"),
		field.Bits(1, "flags of this member", "write mostly", "fail fast"),
		field.Number(1, "exponent of the list of bad blocks"),
		field.Number(2, "sectors of that list"),
		field.Signed(4, "sector of that list, from here"),
		field.Hex(8, "updated"),
		field.Number(8, "events"),
		field.Hex(8, "in sync up to sector"),
		field.Hex(4, "checksum"),
		field.Number(4, "roles"),
		field.Bytes(32, "padding"),
	}
}

func oldRaidSpecs() []field.Spec {
	return []field.Spec{
		field.Hex(4, "signature"),
		field.Number(4, "version"),
		field.Number(4, "minor version"),
		field.Number(4, "patch level"),
		field.Number(4, "words of general information"),
		field.Hex(4, "UUID, first part"),
		field.Seconds(4, "made"),
		field.Signed(4, "level"),
		field.Number(4, "KiB of each member"),
		field.Number(4, "members with data"),
		field.Number(4, "members"),
		field.Number(4, "number of the array"),
		field.Number(4, "not persistent"),
		field.Bytes(12, "UUID, other parts"),
		field.Bytes(64, "reserved"),
		field.Seconds(4, "updated"),
		field.Bits(4, "state", "clean", "errors"),
		field.Number(4, "active members"),
		field.Number(4, "working members"),
		field.Number(4, "failed members"),
		field.Number(4, "spare members"),
		field.Hex(4, "checksum"),
		field.Number(8, "events"),
	}
}
