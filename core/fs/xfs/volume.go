package xfs

import (
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
)

// Features that are known; with another one nothing is written, since it may give the very
// bytes another meaning.
const (
	knownRO       = roFreeInodes | roReverse | roShared | roInodeCounts
	knownIncompat = incompatTypes | incompatSparse | incompatMetaUUID | incompatLateTimes | incompatNeedsRepair | incompatWide
)

// volume is an XFS on a device, by its superblock.
type volume struct {
	dev   block.Device
	super []byte // its sector
	block int64  // bytes
	group int64  // bytes
	count int64  // of groups
	log   int64  // byte where it begins; 0 where it lies elsewhere
	size  int64  // bytes of the log
}

// open reads the superblock of an XFS of version 5 that is whole.
func open(dev block.Device) (*volume, error) {
	c, err := recognise(dev)
	switch {
	case err != nil:
		return nil, err
	case c == nil:
		return nil, fmt.Errorf("%w: no XFS", fs.ErrUnsupported)
	case c.State == fs.Damaged:
		return nil, fmt.Errorf("%s", fs.Damaged)
	}
	head, err := block.ReadSized(dev, 0, readSize, readSize)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	if version := be.Uint16(head[versionAt:]) & 15; version != withChecksums {
		return nil, fmt.Errorf("%w: version %d of the format", fs.ErrUnsupported, version)
	}
	sector := int64(be.Uint16(head[sectorSize:]))
	v := &volume{dev: dev, block: int64(c.BlockSize), count: int64(be.Uint32(head[groups:]))}
	if v.super, err = block.ReadSized(dev, 0, sector, mostSector); err != nil {
		return nil, err
	}
	perGroup := uint64(be.Uint32(head[groupSize:]))
	v.group = int64(perGroup) * v.block
	blockLog, first := head[124], be.Uint64(head[48:])
	if perGroup == 0 || blockLog > 31 || log2(perGroup) != blockLog {
		return nil, fmt.Errorf("%w: groups of %d blocks, counted in %d bits", fs.ErrUnsupported, perGroup, blockLog)
	}
	if total, n := be.Uint64(head[blocks:]), uint64(v.count); n == 0 || n > total || (n-1)*perGroup >= total || n*perGroup < total {
		return nil, fmt.Errorf("%w: %d blocks in %d groups of %d", fs.ErrUnsupported, total, n, perGroup)
	}
	if first > 0 {
		at := first>>blockLog*perGroup + first&(1<<blockLog-1)
		total := be.Uint64(head[blocks:])
		if count := uint64(be.Uint32(head[96:])); at >= total || count > total-at {
			return nil, fmt.Errorf("%w: the log would be at block %d, of %d", fs.ErrUnsupported, at, total)
		}
		v.log, v.size = int64(at)*v.block, int64(be.Uint32(head[96:]))*v.block
	}
	if int64(c.Size) > dev.Size() {
		return nil, fmt.Errorf("the file system has %d bytes, its device %d", c.Size, dev.Size())
	}
	return v, nil
}

// features are the read-only compatible and the incompatible ones.
func (v *volume) features() (ro, incompat uint32) {
	return binary.BigEndian.Uint32(v.super[212:]), binary.BigEndian.Uint32(v.super[216:])
}

// uuid is the one by which Linux knows the file system; what its metadata carries may be another one
// (meta), since it was changed since.
func (v *volume) uuid() uuid.UUID { return uuid.UUID(v.super[uuidAt : uuidAt+16]) }

// meta is the identifier that the metadata carries.
func (v *volume) meta() uuid.UUID {
	if _, incompat := v.features(); incompat&incompatMetaUUID != 0 {
		return uuid.UUID(v.super[248:264])
	}
	return v.uuid()
}

// unknown lists bits of features that are not known.
func (v *volume) unknown() (list []string) {
	ro, incompat := v.features()
	for _, f := range []struct {
		what string
		bits uint32
	}{{"read-only compatible", ro &^ knownRO}, {"incompatible", incompat &^ knownIncompat}} {
		for bit := range 32 {
			if f.bits>>bit&1 != 0 {
				list = append(list, fmt.Sprintf("%s bit %d", f.what, bit))
			}
		}
	}
	return list
}

// named lists the features that are on and known.
func (v *volume) named() (list []fs.Feature) {
	ro, incompat := v.features()
	for _, f := range []struct {
		field    string
		bits     uint32
		bit      uint32
		constant string
		meaning  string
	}{
		{"read-only", ro, roFreeInodes, "XFS_SB_FEAT_RO_COMPAT_FINOBT", "a tree of free inodes"},
		{"read-only", ro, roReverse, "XFS_SB_FEAT_RO_COMPAT_RMAPBT", "the reverse map"},
		{"read-only", ro, roShared, "XFS_SB_FEAT_RO_COMPAT_REFLINK", "shared blocks"},
		{"read-only", ro, roInodeCounts, "XFS_SB_FEAT_RO_COMPAT_INOBTCNT", "counts of the trees of inodes"},
		{"incompatible", incompat, incompatTypes, "XFS_SB_FEAT_INCOMPAT_FTYPE", "types in directories"},
		{"incompatible", incompat, incompatSparse, "XFS_SB_FEAT_INCOMPAT_SPINODES", "inodes in small pieces"},
		{"incompatible", incompat, incompatMetaUUID, "XFS_SB_FEAT_INCOMPAT_META_UUID", "an identifier of the metadata"},
		{"incompatible", incompat, incompatLateTimes, "XFS_SB_FEAT_INCOMPAT_BIGTIME", "times after 2038"},
		{"incompatible", incompat, incompatNeedsRepair, "XFS_SB_FEAT_INCOMPAT_NEEDSREPAIR", "it needs to be repaired"},
		{"incompatible", incompat, incompatWide, "XFS_SB_FEAT_INCOMPAT_NREXT64", "large counts of extents"},
	} {
		if f.bits&f.bit != 0 {
			list = append(list, fs.Feature{Field: f.field, Bit: f.bit, Constant: f.constant, Meaning: f.meaning})
		}
	}
	return list
}

// writable refuses what cannot be written to by another than the kernel: the replay of a log
// brings the superblock back that was logged.
func (v *volume) writable() (logEnd, error) {
	if unknown := v.unknown(); len(unknown) > 0 {
		return logEnd{}, fmt.Errorf("%w: %s", fs.ErrUnsupported, strings.Join(unknown, ", "))
	}
	if _, incompat := v.features(); incompat&incompatNeedsRepair != 0 {
		return logEnd{}, fmt.Errorf("%w: it says of itself that it needs to be repaired", fs.ErrUnsupported)
	}
	if v.log == 0 {
		return logEnd{}, fmt.Errorf("%w: its log is on another device", fs.ErrUnsupported)
	}
	end, err := v.readLog()
	if err == nil && !end.clean {
		err = fmt.Errorf("%s: mount and unmount it once, so that the kernel replays the log", fs.Recovery)
	}
	return end, err
}

// eachSuper changes the superblock of every group that is a copy of the first, and then the
// first, which is the one that counts. A stale or damaged copy stays as it is.
func (v *volume) eachSuper(change func(super []byte)) error {
	was := v.uuid()
	for group := int64(1); group < v.count; group++ {
		at := group * v.group
		b, err := block.ReadSized(v.dev, at, int64(len(v.super)), mostSector)
		if err != nil || string(b[:4]) != magic || uuid.UUID(b[uuidAt:uuidAt+16]) != was || !sealed(b, checksum) {
			continue
		}
		change(b)
		if err := block.WriteBytes(v.dev, seal(b, checksum), at); err != nil {
			return err
		}
	}
	if err := v.dev.Sync(); err != nil {
		return err
	}
	change(v.super)
	if err := block.WriteBytes(v.dev, seal(v.super, checksum), 0); err != nil {
		return err
	}
	return v.dev.Sync()
}

// sealed reports whether the checksum in a structure is right; the bytes stay as they are.
func sealed(b []byte, at int) bool {
	return binary.LittleEndian.Uint32(b[at:]) == binary.LittleEndian.Uint32(seal(append([]byte(nil), b...), at)[at:])
}

// Fit gives a label as it is stored, which is as it was said. Errors: fs.ErrLabel for one that has no
// place.
func Fit(label string) (string, error) {
	if len(label) > labelSize || strings.ContainsRune(label, 0) {
		return "", fmt.Errorf("%w: %q has %d bytes, XFS takes at most %d", fs.ErrLabel, label, len(label), labelSize)
	}
	return label, nil
}

// SetLabel writes the label into the superblock of every group. It refuses one with unknown
// features, and one whose log has to be replayed.
func SetLabel(dev block.Device, label string) error {
	if _, err := Fit(label); err != nil {
		return err
	}
	v, err := open(dev)
	if err != nil {
		return err
	}
	if _, err := v.writable(); err != nil {
		return err
	}
	return v.eachSuper(func(b []byte) {
		clear(b[labelAt : labelAt+labelSize])
		copy(b[labelAt:], label)
	})
}

// SetUUID gives the file system another identifier. The metadata keep theirs; the log, each
// record of which carries the identifier too, begins anew in the cycle behind its last.
func SetUUID(dev block.Device, id uuid.UUID) error {
	v, err := open(dev)
	if err != nil {
		return err
	}
	end, err := v.writable()
	if err != nil {
		return err
	}
	meta := v.meta()
	if err := v.restart(id, end.cycle+1); err != nil {
		return err
	}
	return v.eachSuper(func(b []byte) {
		_, incompat := v.features()
		binary.BigEndian.PutUint32(b[216:], incompat|incompatMetaUUID)
		copy(b[uuidAt:], id[:])
		copy(b[248:], meta[:])
	})
}
