package ext

import "fundus/core/mountopt"

// MountOptions lists the options of ext2, ext3 and ext4, which one driver mounts; some kernels
// have one of its own for ext2.
//
// Source: fs/ext4/super.c of Linux 6.1, ext4_param_specs and ext4_mount_opts; fs/ext2/super.c,
// tokens.
func MountOptions() []mountopt.Option {
	flag, with, oneOf := mountopt.Flag, mountopt.With, mountopt.OneOf
	rows := []mountopt.Option{
		flag("bsddf", "free space leaves out what the metadata takes").Against("minixdf").Usual(),
		flag("minixdf", "free space counts in what the metadata takes").Against("bsddf"),
		flag("grpid", "new files get the directory's group").Against("nogrpid"),
		flag("bsdgroups", "as grpid").Against("sysvgroups"),
		flag("nogrpid", "new files get the group of whoever makes them").Against("grpid").Usual(),
		flag("sysvgroups", "as nogrpid").Against("bsdgroups").Usual(),
		with("resgid", mountopt.Number, "the group that may use the reserved blocks"),
		with("resuid", mountopt.Number, "the user who may use the reserved blocks"),
		with("sb", mountopt.Number, "read this superblock, in blocks of 1 KiB"),
		oneOf("errors", "what to do when damage is found", "continue", "remount-ro", "panic"),
		flag("nouid32", "numbers of owners have 16 bits"),
		flag("debug", "more messages from the kernel"),
		flag("user_xattr", "attributes of users").Usual(),
		flag("acl", "access control lists").Usual(),
		flag("norecovery", "the journal is not replayed"),
		flag("noload", "as norecovery"),
		with("commit", mountopt.Number, "seconds between commits of the journal; 5 without it").If(mountopt.Journal),
		with("min_batch_time", mountopt.Number, "microseconds to wait for more work before a commit, at least"),
		with("max_batch_time", mountopt.Number, "microseconds to wait for more work before a commit, at most"),
		with("journal_dev", mountopt.Number, "number of the device of an outer journal"),
		with("journal_path", mountopt.Device, "the device of an outer journal"),
		flag("journal_checksum", "the journal carries checksums").Against("nojournal_checksum").If(mountopt.Journal).Only("ext4"),
		flag("nojournal_checksum", "the journal carries none").Against("journal_checksum").Only("ext4"),
		flag("journal_async_commit", "a commit does not wait for what it holds").If(mountopt.Journal).Only("ext4"),
		flag("abort", "as if damage had been found"),
		oneOf("data", "what the journal does for the contents of files", "journal", "ordered", "writeback").If(mountopt.Journal).Only("ext3", "ext4").AtFirst("ordered"),
		oneOf("data_err", "what to do when contents cannot be written", "abort", "ignore").Only("ext3", "ext4"),
		with("usrjquota", mountopt.Text, "file of users' quota, in the journal"),
		with("grpjquota", mountopt.Text, "file of groups' quota, in the journal"),
		oneOf("jqfmt", "form of those files", "vfsold", "vfsv0", "vfsv1"),
		flag("usrquota", "users' quota is counted").Against("noquota"),
		flag("grpquota", "groups' quota is counted").Against("noquota"),
		flag("prjquota", "projects' quota is counted").Against("noquota"),
		flag("quota", "as usrquota").Against("noquota"),
		flag("noquota", "no quota").Against("quota").Usual(),
		with("barrier", mountopt.Number, "the disk's cache is flushed for the journal; 0 turns that off").Or().Against("nobarrier").Usual(),
		flag("nobarrier", "the disk's cache is not flushed: a power cut can destroy the file system").Against("barrier"),
		oneOf("dax", "files are mapped from memory that keeps its contents", "always", "inode", "never").Or().Only("ext4").If(mountopt.Memory).AtFirst(""),
		flag("xip", "as dax once was called, and is by ext2's own driver alone").Only("ext2").If(mountopt.Built),
		with("stripe", mountopt.Number, "blocks of one stripe of an array"),
		flag("delalloc", "blocks are chosen when they are written").Against("nodelalloc").Usual().Only("ext4"),
		flag("nodelalloc", "blocks are chosen at once").Against("delalloc").Only("ext4"),
		flag("warn_on_error", "a trace in the kernel's log for each error").Against("nowarn_on_error"),
		flag("nowarn_on_error", "no trace").Against("warn_on_error").Usual(),
		with("debug_want_extra_isize", mountopt.Even, "for whoever tests the kernel"),
		flag("block_validity", "blocks of the metadata are guarded").Against("noblock_validity"),
		flag("noblock_validity", "they are not guarded").Against("block_validity"),
		with("inode_readahead_blks", mountopt.Power, "blocks of inodes that are read at once"),
		with("journal_ioprio", mountopt.Number, "priority of the journal's writes, 0 to 7"),
		with("auto_da_alloc", mountopt.Number, "a file that is replaced is written before its name; 0 turns that off").Or().Against("noauto_da_alloc").Usual(),
		flag("noauto_da_alloc", "it is not").Against("auto_da_alloc"),
		flag("dioread_nolock", "direct reads take no lock").Against("dioread_lock").Only("ext4"),
		flag("nodioread_nolock", "as dioread_lock").Against("dioread_nolock").Only("ext4"),
		flag("dioread_lock", "direct reads take a lock").Against("dioread_nolock").Only("ext4"),
		flag("discard", "freed blocks are told to the disk at once; a weekly trim is gentler").Against("nodiscard"),
		flag("nodiscard", "they are not told").Against("discard").Usual(),
		with("init_itable", mountopt.Number, "tables of inodes are zeroed in the background, so gently").Or().Against("noinit_itable").Usual(),
		flag("noinit_itable", "they are not zeroed").Against("init_itable"),
		with("max_dir_size_kb", mountopt.Number, "the largest directory, in KiB"),
		with("test_dummy_encryption", mountopt.Text, "for whoever tests the kernel").Or().If(mountopt.Built),
		flag("inlinecrypt", "the disk's own unit encrypts files").From("5.9"),
		flag("nombcache", "attributes are not shared").AtFirst(""),
		flag("no_mbcache", "as nombcache").AtFirst(""),
		flag("no_prefetch_block_bitmaps", "bitmaps are read when they are needed").From("5.13"),
		oneOf("mb_optimize_scan", "whether groups are searched by their largest space", "0", "1").From("5.13"),
	}
	rows = append(rows, mountopt.Dropped("oldalloc", "orlov", "bh", "nobh", "i_version", "mblk_io_submit",
		"nomblk_io_submit", "prefetch_block_bitmaps", "nocheck", "reservation", "noreservation")...)
	for _, o := range []mountopt.Option{
		with("check", mountopt.Text, "taken, without effect"),
		with("journal", mountopt.Number, "taken, without effect"),
	} {
		o.Gone = true
		rows = append(rows, o)
	}
	return rows
}
