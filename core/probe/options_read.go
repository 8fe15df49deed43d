package probe

import "fundus/core/mountopt"

// ISOOptions lists the options of ISO 9660.
//
// Source: fs/isofs/inode.c of Linux 6.1, tokens.
func ISOOptions() []mountopt.Option {
	flag, with, oneOf := mountopt.Flag, mountopt.With, mountopt.OneOf
	conv := oneOf("conv", "taken, without effect", "binary", "b", "text", "t", "mtext", "m", "auto", "a")
	conv.Gone = true
	return []mountopt.Option{
		flag("norock", "names and rights of Rock Ridge are left out"),
		flag("nojoliet", "names of Joliet are left out"),
		flag("unhide", "hidden files are shown"),
		flag("hide", "hidden files are left out").Usual(),
		flag("showassoc", "associated files are shown"),
		flag("cruft", "the upper byte of lengths is ignored"),
		flag("utf8", "names are UTF-8"),
		with("iocharset", mountopt.Text, "the character set of names"),
		oneOf("map", "how plain names are shown", "acorn", "a", "normal", "n", "off", "o"),
		with("session", mountopt.Number, "the session of a volume that was written in several"),
		with("sbsector", mountopt.Number, "the sector where the session begins"),
		oneOf("check", "whether the case of names matters", "relaxed", "r", "strict", "s"),
		with("uid", mountopt.Number, "the owner of every file"),
		with("gid", mountopt.Number, "the group of every file"),
		with("mode", mountopt.Number, "rights of files"),
		with("dmode", mountopt.Number, "rights of directories"),
		flag("overriderockperm", "those rights hold against Rock Ridge"),
		oneOf("block", "bytes of a block", "512", "1024", "2048"),
		flag("nocompress", "compressed files are shown as they are"),
		conv,
	}
}

// UDFOptions lists the options of UDF.
//
// Source: fs/udf/super.c of Linux 6.1, tokens.
func UDFOptions() []mountopt.Option {
	flag, with := mountopt.Flag, mountopt.With
	return []mountopt.Option{
		flag("novrs", "the volume's recognition is left out"),
		flag("nostrict", "taken, without effect"),
		with("bs", mountopt.Number, "the block, in bytes"),
		flag("unhide", "hidden files are shown"),
		flag("undelete", "deleted files are shown"),
		flag("noadinicb", "contents are not in the file's entry"),
		flag("adinicb", "small contents are in the file's entry").Against("noadinicb").Usual(),
		flag("shortad", "short descriptors of extents"),
		flag("longad", "long descriptors of extents").Usual(),
		with("uid", mountopt.Text, "the owner of every file, or forget or ignore"),
		with("gid", mountopt.Text, "the group of every file, or forget or ignore"),
		with("umask", mountopt.Octal, "rights that files and directories lack"),
		with("mode", mountopt.Octal, "rights of files"),
		with("dmode", mountopt.Octal, "rights of directories"),
		with("session", mountopt.Number, "the session of a volume that was written in several"),
		with("lastblock", mountopt.Number, "the last block of the volume"),
		with("anchor", mountopt.Number, "the block of the anchor"),
		with("volume", mountopt.Number, "taken, without effect"),
		with("partition", mountopt.Number, "taken, without effect"),
		with("fileset", mountopt.Number, "taken, without effect"),
		with("rootdir", mountopt.Number, "taken, without effect"),
		flag("utf8", "names are UTF-8"),
		with("iocharset", mountopt.Text, "the character set of names"),
	}
}

// SquashfsOptions lists the options of squashfs.
//
// Source: fs/squashfs/super.c of Linux 6.1, squashfs_fs_parameters.
func SquashfsOptions() []mountopt.Option {
	return []mountopt.Option{mountopt.OneOf("errors", "what to do when damage is found", "continue", "panic")}
}

// EROFSOptions lists the options of EROFS.
//
// Source: fs/erofs/super.c of Linux 6.1, erofs_fs_parameters.
func EROFSOptions() []mountopt.Option {
	flag := mountopt.Flag
	return []mountopt.Option{
		flag("user_xattr", "attributes of users").Against("nouser_xattr").If(mountopt.Built),
		flag("nouser_xattr", "no attributes of users").Against("user_xattr").If(mountopt.Built),
		flag("acl", "access control lists").Against("noacl").If(mountopt.Built),
		flag("noacl", "no access control lists").Against("acl").If(mountopt.Built),
		mountopt.OneOf("cache_strategy", "what is kept of compressed files", "disabled", "readahead", "readaround").If(mountopt.Built),
		mountopt.OneOf("dax", "files are mapped from memory that keeps its contents", "always", "never").Or().If(mountopt.Built),
		mountopt.With("device", mountopt.Device, "another device of the same file system"),
		mountopt.With("fsid", mountopt.Text, "its name in the kernel's cache of files").If(mountopt.Built),
		mountopt.With("domain_id", mountopt.Text, "the part of that cache").If(mountopt.Built),
	}
}
