package xfs

import "fundus/core/mountopt"

// MountOptions lists the options of XFS.
//
// Source: fs/xfs/xfs_super.c of Linux 6.1, xfs_fs_parameters.
func MountOptions() []mountopt.Option {
	flag, with := mountopt.Flag, mountopt.With
	rows := []mountopt.Option{
		with("logbufs", mountopt.Number, "buffers of the log, 2 to 8").ShownAs("8"),
		with("logbsize", mountopt.Size, "size of each: 16k, 32k, 64k, 128k or 256k").ShownAs("32k"),
		with("logdev", mountopt.Device, "the device of an outer log"),
		with("rtdev", mountopt.Device, "the device of the realtime part"),
		flag("wsync", "changes of names wait for the log"),
		flag("noalign", "stripes are not minded"),
		flag("swalloc", "files begin at full stripes"),
		with("sunit", mountopt.Number, "a stripe's unit, in sectors of 512 bytes"),
		with("swidth", mountopt.Number, "a stripe's width, in sectors of 512 bytes"),
		flag("nouuid", "a second file system of the same UUID may be mounted: for a look at a clone"),
		flag("grpid", "new files get the directory's group").Against("nogrpid"),
		flag("nogrpid", "new files get the group of whoever makes them").Against("grpid").Usual(),
		flag("bsdgroups", "as grpid").Against("sysvgroups"),
		flag("sysvgroups", "as nogrpid").Against("bsdgroups").Usual(),
		with("allocsize", mountopt.Size, "space taken beyond a growing file's end"),
		flag("norecovery", "the log is not replayed").If(mountopt.ReadOnly),
		flag("inode64", "inodes are anywhere").Against("inode32").Usual(),
		flag("inode32", "inodes have numbers of 32 bits").Against("inode64"),
		flag("largeio", "programs are told the stripe's width as the best size").Against("nolargeio"),
		flag("nolargeio", "programs are told a page").Against("largeio").Usual(),
		flag("filestreams", "files of a directory are together"),
		flag("noquota", "no quota").Against("quota").Usual(),
		flag("quota", "users' quota").Against("noquota"),
		flag("usrquota", "users' quota").Against("noquota"),
		flag("grpquota", "groups' quota").Against("noquota"),
		flag("prjquota", "projects' quota").Against("noquota"),
		flag("uquota", "users' quota").Against("noquota"),
		flag("gquota", "groups' quota").Against("noquota"),
		flag("pquota", "projects' quota").Against("noquota"),
		flag("uqnoenforce", "users' quota is counted, not enforced"),
		flag("gqnoenforce", "groups' quota is counted, not enforced"),
		flag("pqnoenforce", "projects' quota is counted, not enforced"),
		flag("qnoenforce", "users' quota is counted, not enforced"),
		flag("discard", "freed blocks are told to the disk at once; a weekly trim is gentler").Against("nodiscard"),
		flag("nodiscard", "they are not told").Against("discard").Usual(),
	}
	rows = append(rows, mountopt.OneOf("dax", "files are mapped from memory that keeps its contents", "inode",
		"always", "never").Or().If(mountopt.Built))
	dropped := []mountopt.Option{
		flag("ikeep", "to go: clusters of inodes are kept").Against("noikeep"),
		flag("noikeep", "to go: they are not kept").Against("ikeep"),
		flag("attr2", "to go: the present form of attributes").Against("noattr2").ShownAs(""),
		flag("noattr2", "to go: the former one, of an older format").Against("attr2").If(mountopt.Older),
	}
	return append(rows, dropped...)
}
