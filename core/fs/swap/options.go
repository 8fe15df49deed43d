package swap

import "fundus/core/mountopt"

// MountOptions lists what a line of fstab may say of a swap area.
//
// Source: swapon(2); systemd.swap(5).
func MountOptions() []mountopt.Option {
	return []mountopt.Option{
		mountopt.With("pri", mountopt.Signed, "which area is used first: the highest, of 0 to 32767; -1 leaves it to the kernel"),
		mountopt.OneOf("discard", "freed pages are told to the disk: once at the start, or each time", "once", "pages").Or(),
		mountopt.Flag("nodiscard", "they are not told").Against("discard").Usual(),
		mountopt.Flag("sw", "a word of old, without effect"),
	}
}
