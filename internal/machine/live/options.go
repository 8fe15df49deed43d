package live

import (
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/kind"
	"fundus/core/text/fstab"
)

// mountFlags are the flags of mount(2) and the data for the kind. What is for systemd and for
// whoever reads fstab is left out; what user and its like imply is in.
func mountFlags(typ, options string) (flags uintptr, data string) {
	set := map[string]uintptr{"ro": unix.MS_RDONLY, "nosuid": unix.MS_NOSUID, "nodev": unix.MS_NODEV,
		"noexec": unix.MS_NOEXEC, "sync": unix.MS_SYNCHRONOUS,
		"dirsync": unix.MS_DIRSYNC, "noatime": unix.MS_NOATIME, "nodiratime": unix.MS_NODIRATIME,
		"relatime": unix.MS_RELATIME, "strictatime": unix.MS_STRICTATIME,
		"lazytime": unix.MS_LAZYTIME, "nosymfollow": unix.MS_NOSYMFOLLOW, "silent": unix.MS_SILENT, "iversion": unix.MS_I_VERSION}
	s := kind.Options(typ).Sort(fstab.Split(options))
	for _, o := range append(s.Superblock, s.Attributes...) {
		flags |= set[o]
	}
	return flags, strings.Join(s.Own, ",")
}
