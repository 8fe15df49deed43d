package mountopt

// Common lists the rows of every kind: flags, attributes, and what is not the kernel's.
func Common() []Option {
	return append(append(append(flags(), attributes()...), rights()...), boot()...)
}

// Source: fs/fs_context.c, common_set_sb_flag and common_clear_sb_flag.
func flags() []Option {
	to := func(o Option) Option { o.To = Superblock; return o }
	return []Option{
		to(Flag("ro", "mounted read-only").Against("rw")),
		to(Flag("rw", "mounted for writing").Against("ro").Usual()),
		to(Flag("sync", "every write waits for the disk").Against("async")),
		to(Flag("async", "writes are collected").Against("sync").Usual()),
		to(Flag("dirsync", "changes of directories wait for the disk")),
		to(Flag("lazytime", "times are kept in memory and written now and then").Against("nolazytime")),
		to(Flag("nolazytime", "times are written with the inode").Against("lazytime").Usual()),
		to(gone(Flag("mand", "mandatory locks, which the kernel no longer has"))),
		to(gone(Flag("nomand", "no mandatory locks"))),
	}
}

func gone(o Option) Option { o.Gone = true; return o }

// Source: mount_setattr(2).
func attributes() []Option {
	to := func(o Option) Option { o.To = Attribute; return o }
	return []Option{
		to(Flag("nosuid", "set-user-ID programs run as whoever starts them").Against("suid")),
		to(Flag("suid", "set-user-ID programs have effect").Against("nosuid").Usual()),
		to(Flag("nodev", "device nodes on it are dead").Against("dev")),
		to(Flag("dev", "device nodes on it work").Against("nodev").Usual()),
		to(Flag("noexec", "no program on it can be started").Against("exec")),
		to(Flag("exec", "programs on it can be started").Against("noexec").Usual()),
		to(Flag("noatime", "reading a file leaves its time of access").Against("atime")),
		to(Flag("atime", "times of access are kept as the kernel does").Against("noatime").Usual()),
		to(Flag("nodiratime", "reading a directory leaves its time of access").Against("diratime")),
		to(Flag("diratime", "directories too have times of access").Against("nodiratime").Usual()),
		to(Flag("relatime", "times of access are written once a day, or after a change").Against("norelatime").Usual()),
		to(Flag("norelatime", "as strictatime where nothing else is said").Against("relatime")),
		to(Flag("strictatime", "every access is written").Against("nostrictatime")),
		to(Flag("nostrictatime", "not every access is written").Against("strictatime").Usual()),
		to(Flag("nosymfollow", "symbolic links on it are not followed").Against("symfollow").From("5.10")),
		to(Flag("symfollow", "symbolic links on it are followed").Against("nosymfollow").Usual()),
		{Name: "silent", Alone: true, To: Attribute, Not: "loud", Says: "some messages of the kernel are left out"},
		{Name: "loud", Alone: true, To: Attribute, Not: "silent", Default: true, Says: "the kernel says all that it has to say"},
		{Name: "iversion", Alone: true, To: Attribute, Not: "noiversion", Says: "a counter of changes in each inode"},
		{Name: "noiversion", Alone: true, To: Attribute, Not: "iversion", Default: true, Says: "no such counter"},
		{Name: "private", Alone: true, To: Propagation, Says: "mounts below it stay in this namespace"},
		{Name: "shared", Alone: true, To: Propagation, Says: "mounts below it are seen in other namespaces, and theirs here"},
		{Name: "slave", Alone: true, To: Propagation, Says: "mounts of others are seen here, not the other way round"},
		{Name: "unbindable", Alone: true, To: Propagation, Says: "it cannot be mounted at a second place"},
		{Name: "rprivate", Alone: true, To: Propagation, Says: "as private, with all below"},
		{Name: "rshared", Alone: true, To: Propagation, Says: "as shared, with all below"},
		{Name: "rslave", Alone: true, To: Propagation, Says: "as slave, with all below"},
		{Name: "runbindable", Alone: true, To: Propagation, Says: "as unbindable, with all below"},
		{Name: "bind", Alone: true, To: Program, Says: "a directory at a second place"},
		{Name: "rbind", Alone: true, To: Program, Says: "a directory with all that is mounted below it at a second place"},
		{Name: "remount", Alone: true, To: Program, Says: "other options for what is mounted"},
		{Name: "loop", Alone: true, Value: Device, To: Program, Says: "an image file, by a loop device"},
		{Name: "offset", Value: Number, To: Program, Says: "where in the image file it begins, in bytes"},
		{Name: "helper", Value: Text, To: Program, Says: "the program that mounts it; it is taken by whoever starts that"},
		{Name: "uhelper", Value: Text, To: Program, Says: "the program that unmounts it; it is taken by whoever starts that"},
		{Name: "context", Value: Text, To: Program, Says: "the label of all files under SELinux; it is dropped where that does not run"},
		{
			Name:  "fscontext",
			Value: Text,
			To:    Program,
			Says:  "the label of the file system under SELinux; it is dropped where that does not run",
		},
		{
			Name:  "defcontext",
			Value: Text,
			To:    Program,
			Says:  "the label of files without one under SELinux; it is dropped where that does not run",
		},
		{Name: "rootcontext", Value: Text, To: Program, Says: "the label of its root under SELinux; it is dropped where that does not run"},
		{Name: "sizelimit", Value: Number, To: Program, Says: "how much of the image file it has, in bytes"},
	}
}

// Rights are for whoever is not root. They imply options that take rights away.
func rights() []Option {
	return []Option{
		{
			Name:    "user",
			Alone:   true,
			Value:   Text,
			To:      Rights,
			Not:     "nouser",
			Implies: []string{"nosuid", "nodev", "noexec"},
			Says:    "any user may mount it, and that one unmount it",
		},
		{
			Name:    "users",
			Alone:   true,
			To:      Rights,
			Not:     "nouser",
			Implies: []string{"nosuid", "nodev", "noexec"},
			Says:    "any user may mount it, and any unmount it",
		},
		{Name: "nouser", Alone: true, To: Rights, Not: "user", Default: true, Says: "root alone mounts it"},
		{Name: "owner", Alone: true, To: Rights, Implies: []string{"nosuid", "nodev"}, Says: "the owner of the device may mount it"},
		{
			Name:    "group",
			Alone:   true,
			To:      Rights,
			Implies: []string{"nosuid", "nodev"},
			Says:    "whoever is in the device's group may mount it",
		},
	}
}

// Source: systemd.mount(5), systemd.swap(5), systemd-fstab-generator(8).
func boot() []Option {
	with := func(name string, v Value, says string) Option {
		return Option{Name: name, Value: v, To: Boot, Says: says}
	}
	flag := func(name, not, says string) Option {
		return Option{Name: name, Alone: true, To: Boot, Not: not, Says: says}
	}
	usual := func(o Option) Option { o.Default = true; return o }
	any := func(name, says string) Option {
		return Option{Name: name, Alone: true, Value: Text, To: Boot, Says: says}
	}
	return []Option{
		usual(flag("defaults", "", "no option of its own")),
		usual(flag("auto", "noauto", "mounted at boot")),
		flag("noauto", "auto", "mounted only when asked for"),
		flag("nofail", "fail", "the boot goes on without it"),
		flag("_netdev", "", "the device needs the network"),
		with("x-systemd.device-timeout", Time, "how long the boot waits for the device; default 90s"),
		with("x-systemd.mount-timeout", Time, "how long mounting may take"),
		with("x-systemd.idle-timeout", Time, "after what time without use an automount is unmounted"),
		any("x-systemd.automount", "mounted at the first access"),
		with("x-systemd.requires", Text, "a unit that must be up"),
		with("x-systemd.before", Text, "a unit that comes later"),
		with("x-systemd.after", Text, "a unit that comes first"),
		with("x-systemd.requires-mounts-for", Text, "a path that must be mounted"),
		with("x-systemd.wanted-by", Text, "what pulls it in, instead of the boot"),
		with("x-systemd.required-by", Text, "what cannot do without it, instead of the boot"),
		any("x-systemd.rw-only", "fails where it could be mounted read-only alone"),
		any("x-systemd.makefs", "an empty device is formatted at boot"),
		any("x-systemd.growfs", "grown to its device at boot"),
		any("x-initrd.mount", "mounted in the initramfs already"),
	}
}
