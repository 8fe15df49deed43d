package probe

import (
	"fmt"

	"fundus/core/block"
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
