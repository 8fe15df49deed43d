package fat

import "fundus/core/mountopt"

// MountOptions lists the options of FAT, as vfat with long names and as msdos without.
//
// Source: fs/fat/inode.c of Linux 6.1, fat_tokens, vfat_tokens and msdos_tokens.
func MountOptions() []mountopt.Option {
	flag, with, oneOf := mountopt.Flag, mountopt.With, mountopt.OneOf
	yesNo := func(name, says string) mountopt.Option {
		return oneOf(name, says, "0", "no", "false", "1", "yes", "true").Or().Only("vfat")
	}
	rows := []mountopt.Option{
		with("uid", mountopt.Number, "the owner of every file"),
		with("gid", mountopt.Number, "the group of every file"),
		with("umask", mountopt.Octal, "rights that files and directories lack"),
		with("dmask", mountopt.Octal, "rights that directories lack").ShownAs("0022"),
		with("fmask", mountopt.Octal, "rights that files lack").ShownAs("0022"),
		with("allow_utime", mountopt.Octal, "who but the owner may set times"),
		oneOf("check", "which names are refused", "relaxed", "normal", "strict", "r", "n", "s"),
		with("codepage", mountopt.Number, "the code page of short names").ShownAs("437"),
		oneOf("errors", "what to do when damage is found", "continue", "remount-ro", "panic").ShownAs("remount-ro"),
		flag("usefree", "the count of free clusters is believed"),
		flag("nocase", "short names keep their case"),
		flag("quiet", "changes of owner and mode are ignored without an error"),
		flag("showexec", "only .EXE, .COM and .BAT can be started"),
		flag("debug", "more messages from the kernel"),
		flag("sys_immutable", "the system attribute forbids changes"),
		flag("flush", "writes go out soon: for what is pulled out by hand"),
		oneOf("tz", "times are in UTC", "UTC"),
		with("time_offset", mountopt.Signed, "minutes by which times differ from UTC"),
		flag("discard", "freed clusters are told to the disk at once"),
		oneOf("nfs", "for export over the network", "stale_rw", "nostale_ro").Or(),
		flag("dos1xfloppy", "old diskettes without a description"),
		with("iocharset", mountopt.Text, "the character set of long names").Only("vfat"),
		oneOf("shortname", "the case of short names", "lower", "win95", "winnt", "mixed").ShownAs("mixed").Only("vfat"),
		yesNo("utf8", "names are UTF-8; makes their case matter"),
		yesNo("uni_xlate", "characters that cannot be shown are written as codes"),
		yesNo("nonumtail", "short names without ~1 where that can be"),
		flag("rodir", "read-only directories are read-only").Only("vfat"),
		flag("nodots", "no names that begin with a dot").Against("dots").Only("msdos"),
		flag("dots", "hidden files begin with a dot").Against("nodots").Only("msdos"),
		oneOf("dotsOK", "as dots or nodots", "yes", "no").Only("msdos"),
	}
	for _, o := range []mountopt.Option{
		oneOf("conv", "taken, without effect", "binary", "text", "auto", "b", "t", "a"),
		with("fat", mountopt.Number, "taken, without effect"), with("blocksize", mountopt.Number, "taken, without effect"),
		with("cvf_format", mountopt.Text, "taken, without effect"),
		with("cvf_options", mountopt.Text, "taken, without effect"), flag("posix", "taken, without effect"),
	} {
		o.Gone = true
		rows = append(rows, o)
	}
	return rows
}
