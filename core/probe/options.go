package probe

import "fundus/core/mountopt"

// BtrfsOptions lists the options of btrfs.
//
// Source: fs/btrfs/super.c of Linux 6.1, tokens.
func BtrfsOptions() []mountopt.Option {
	flag, with, oneOf := mountopt.Flag, mountopt.With, mountopt.OneOf
	return []mountopt.Option{
		with("subvol", mountopt.Text, "the subvolume by its path"),
		with("subvolid", mountopt.Number, "the subvolume by its number"),
		with("device", mountopt.Device, "another device of the same file system"),
		flag("degraded", "mounted though a device is missing"),
		with("compress", mountopt.Text, "files are compressed: zlib, lzo, zstd, with a level after a colon, or no").Or(),
		with("compress-force", mountopt.Text, "files are compressed even where that gains little").Or(),
		flag("acl", "access control lists").Against("noacl").Usual(),
		flag("noacl", "no access control lists").Against("acl"),
		with("commit", mountopt.Number, "seconds between commits; 30 without it"),
		oneOf("fatal_errors", "what to do when damage is found", "bug", "panic"),
		flag("flushoncommit", "contents are written with each commit").Against("noflushoncommit"),
		flag("noflushoncommit", "they are not").Against("flushoncommit").Usual(),
		with("max_inline", mountopt.Size, "files up to this size are in the tree"),
		flag("barrier", "the disk's cache is flushed").Against("nobarrier").Usual(),
		flag("nobarrier", "the disk's cache is not flushed: a power cut can destroy the file system").Against("barrier"),
		flag("datacow", "contents are never written over").Against("nodatacow").Usual(),
		flag("nodatacow", "contents are written over, without checksums").Against("datacow"),
		flag("datasum", "contents have checksums").Against("nodatasum").Usual(),
		flag("nodatasum", "contents have none").Against("datasum"),
		flag("autodefrag", "small random writes are put together later").Against("noautodefrag"),
		flag("noautodefrag", "they are not").Against("autodefrag").Usual(),
		oneOf("discard", "freed space is told to the disk", "sync", "async").Or().Against("nodiscard"),
		flag("nodiscard", "it is not told").Against("discard"),
		flag("norecovery", "the log is not replayed"),
		with("metadata_ratio", mountopt.Number, "chunks of contents for each one of metadata"),
		flag("rescan_uuid_tree", "the tree of identifiers is rebuilt"),
		flag("skip_balance", "a balance that was cut short does not go on"),
		oneOf("space_cache", "how free space is cached", "v1", "v2").Or().Against("nospace_cache"),
		flag("nospace_cache", "it is not kept").Against("space_cache"),
		flag("clear_cache", "the cache of free space is rebuilt"),
		flag("ssd", "chosen for flash").Against("nossd"),
		flag("nossd", "not chosen for flash").Against("ssd"),
		flag("ssd_spread", "larger free areas for flash").Against("nossd_spread"),
		flag("nossd_spread", "not so").Against("ssd_spread"),
		with("thread_pool", mountopt.Number, "how many threads work for it"),
		flag("treelog", "a log for fsync").Against("notreelog").Usual(),
		flag("notreelog", "no such log").Against("treelog"),
		flag("user_subvol_rm_allowed", "users may remove subvolumes of their own"),
		with("rescue", mountopt.Text, "ways to read a damaged one, with ro"),
		flag("nologreplay", "as rescue=nologreplay"),
		flag("usebackuproot", "an older root is tried"),
		flag("recovery", "as usebackuproot"),
		flag("enospc_debug", "more messages when it is full").Against("noenospc_debug"),
		flag("noenospc_debug", "no such messages").Against("enospc_debug").Usual(),
	}
}

// ExFATOptions lists the options of exFAT.
//
// Source: fs/exfat/super.c of Linux 6.1, exfat_parameters.
func ExFATOptions() []mountopt.Option {
	flag, with := mountopt.Flag, mountopt.With
	rows := append(owners(),
		with("allow_utime", mountopt.Octal, "who but the owner may set times"),
		with("iocharset", mountopt.Text, "the character set of names"),
		mountopt.OneOf("errors", "what to do when damage is found", "continue", "remount-ro", "panic"),
		flag("discard", "freed clusters are told to the disk at once"),
		flag("keep_last_dots", "dots at the end of names are kept").From("5.17"),
		flag("sys_tz", "times are in the zone of the system").From("6.0"),
		with("time_offset", mountopt.Signed, "minutes by which times differ from UTC"),
	)
	rows = append(rows, mountopt.Dropped("utf8", "debug")...)
	for _, name := range []string{"codepage", "namecase"} {
		o := with(name, mountopt.Number, "taken, without effect")
		o.Gone = true
		rows = append(rows, o)
	}
	return rows
}

// NTFSOptions lists the options of the kernel's own driver for NTFS.
//
// Source: fs/ntfs3/super.c of Linux 6.1, ntfs_fs_parameters.
func NTFSOptions() []mountopt.Option {
	rows := append(owners(), mountopt.With("iocharset", mountopt.Text, "the character set of names"))
	for _, pair := range []struct{ name, yes, no string }{
		{"sys_immutable", "the system attribute forbids changes", "it does not"},
		{"discard", "freed space is told to the disk at once", "it is not told"},
		{"force", "mounted for writing though it was not unmounted", "not so"},
		{"sparse", "new files are sparse", "they are not"},
		{"hidden", "hidden files are shown", "hidden files are left out"},
		{"acl", "access control lists", "none"},
		{"showmeta", "files of the metadata are shown", "they are not"},
		{"prealloc", "space is taken beyond a growing file's end", "it is not"},
		{"acsrules", "rights are checked", "rights are not checked"},
	} {
		yes, no := mountopt.Flag(pair.name, pair.yes).Against("no"+pair.name), mountopt.Flag("no"+pair.name, pair.no).Against(pair.name)
		if pair.name == "acl" {
			yes = yes.If(mountopt.Built)
		}
		rows = append(rows, yes, no)
	}
	for i := range rows {
		rows[i].Types = []string{"ntfs3"}
	}
	return rows
}

// owners are the options of kinds that keep no owners.
func owners() []mountopt.Option {
	return []mountopt.Option{
		mountopt.With("uid", mountopt.Number, "the owner of every file"),
		mountopt.With("gid", mountopt.Number, "the group of every file"),
		mountopt.With("umask", mountopt.Octal, "rights that files and directories lack"),
		mountopt.With("dmask", mountopt.Octal, "rights that directories lack"),
		mountopt.With("fmask", mountopt.Octal, "rights that files lack"),
	}
}
