package live

import (
	"errors"

	"golang.org/x/sys/unix"

	"fundus/core/mountopt"
)

// nonsense is an option that no file system has. A type that takes it judges its options only
// when it mounts.
const nonsense = "fundus-asks"

// TryOptions has the kernel configure a file system of the type, one option after the other,
// and drops it before it is made: nothing is mounted, and no device looked at. It may load
// the module of the type.
//
// Source: fs/fsopen.c of Linux; an option that is refused leaves the configuration usable.
func (*Machine) TryOptions(typ string, options []string) mountopt.Answers {
	fs, err := unix.Fsopen(typ, unix.FSOPEN_CLOEXEC)
	if err != nil {
		return nil
	}
	defer unix.Close(fs)
	if err := unix.FsconfigSetFlag(fs, nonsense); err == nil || !errors.Is(err, unix.EINVAL) {
		return nil
	}
	said(fs, nil) // what it says of that
	answers := mountopt.Answers{}
	for _, o := range options {
		if len(o) > mostOption {
			continue // that one goes another way
		}
		answers[o] = ""
		if err := setOptions(fs, []string{o}); err != nil {
			answers[o] = "Linux " + release() + " says: " + said(fs, err).Error()
		}
	}
	return answers
}

// release is the version of the running kernel.
func release() string {
	var name unix.Utsname
	if err := unix.Uname(&name); err != nil {
		return ""
	}
	return unix.ByteSliceToString(name.Release[:])
}
