// Package mounts says whether the kernel mounts what lies on a device, or swaps on it. It is the
// one judgement of that: the rehearsal of a boot, the check of fstab, a mount by hand and a
// bench's kernel ask it, each with what is mounted by then.
//
// The questions are put in the kernel's order: what lies there, whether its superblock and what
// is read behind it are whole, whether it fits the device, the options, and who else has it. What
// cannot be told is said to be so, and is no refusal.
//
// Source: fs/super.c of Linux 6.1 (get_tree_bdev, vfs_get_super), fs/xfs/xfs_mount.c
// (xfs_uuid_mount), and the sources of the kinds, which their packages name.
package mounts
