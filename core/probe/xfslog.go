package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// A record of the XFS log (fs/xfs/libxfs/xfs_log_format.h of Linux 6.1),
// big-endian, offsets in bytes.
const (
	xfsLogMagic   = "\xFE\xED\xBA\xBE"
	xfsLogVersion = 8   // u32
	xfsLogUUID    = 304 // of the file system
)

// XFSLog recognises an XFS log that lies on a device of its own.
func XFSLog(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 512, be)
	if err != nil || !l.has(0, xfsLogMagic) || l.u32(xfsLogVersion) == 0 || l.u32(xfsLogVersion) > 2 {
		return nil, err
	}
	c := found("XFS log", fs.Member, 0, len(xfsLogMagic))
	c.Version, c.UUID = fmt.Sprint(l.u32(xfsLogVersion)), l.uuid(xfsLogUUID)
	return c, nil
}

// XFSLogFields are the fields of the first record of the log.
func XFSLogFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "XFS log record", 0, be, []field.Spec{
		field.Hex(4, "signature"),
		field.Number(4, "cycle"),
		field.Number(4, "version"),
		field.Number(4, "bytes of the record"),
		field.Hex(8, "place in the log"),
		field.Hex(8, "oldest place that counts"),
		field.Hex(4, "checksum"),
		field.Number(4, "previous block"),
		field.Number(4, "operations"),
		field.Numbers(256, "first words of the record's blocks"),
		field.Number(4, "format"),
		field.ID(16, "UUID of the file system"),
		field.Number(4, "bytes of a log buffer"),
	})
}
