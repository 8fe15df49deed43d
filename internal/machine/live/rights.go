package live

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// needed are the capabilities that the kernel asks for in what is done here: to mount and to
// tell it of partitions, to make a mounted ext larger, to give files to somebody, and to go
// past the modes of files.
//
// Source: capable() in fs/namespace.c, block/ioctl.c, fs/ext4/ioctl.c, fs/attr.c of Linux 6.1.
func needed() []struct {
	bit  int
	name string
} {
	return []struct {
		bit  int
		name string
	}{
		{unix.CAP_SYS_ADMIN, "CAP_SYS_ADMIN"}, {unix.CAP_SYS_RESOURCE, "CAP_SYS_RESOURCE"},
		{unix.CAP_CHOWN, "CAP_CHOWN"}, {unix.CAP_FOWNER, "CAP_FOWNER"}, {unix.CAP_DAC_OVERRIDE, "CAP_DAC_OVERRIDE"},
	}
}

// forbidden says why the kernel does not permit something: root in a container or a hardened
// service may lack a right, and is told which.
func forbidden() string {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err != nil {
		return "it is not permitted"
	}
	return forbiddenTo(os.Geteuid(), uint64(data[1].Effective)<<32|uint64(data[0].Effective))
}

func forbiddenTo(user int, effective uint64) string {
	var lacks []string
	for _, c := range needed() {
		if effective>>c.bit&1 == 0 {
			lacks = append(lacks, c.name)
		}
	}
	switch {
	case user != 0:
		return "only root may do that"
	case len(lacks) == 0: // the kernel has another reason, which it keeps to itself
		return "it is not permitted, though root has every right that is known for it"
	}
	return fmt.Sprintf("root lacks a right here: %s", strings.Join(lacks, ", "))
}
