package mountopt

// InMemory lists the options of tmpfs.
//
// Source: mm/shmem.c of Linux 6.1, shmem_fs_parameters.
func InMemory() []Option {
	return []Option{
		With("size", Size, "the most that it holds: bytes, with k, m or g, or a share of the memory with %"),
		With("nr_blocks", Size, "the same, in pages"),
		With("nr_inodes", Size, "how many files it can hold"),
		With("mode", Octal, "rights of its root"),
		With("uid", Number, "owner of its root"),
		With("gid", Number, "group of its root"),
		OneOf("huge", "large pages", "never", "always", "within_size", "advise").If(Built),
		With("mpol", Text, "the nodes of memory to take it from").If(Built),
		Flag("inode32", "inodes have numbers of 32 bits").Against("inode64"),
		Flag("inode64", "inodes have numbers of 64 bits").Against("inode32"),
	}
}
