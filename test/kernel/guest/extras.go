package main

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// extras are lines that are not commands of fundus.
type extras struct {
	writer  *writer
	watcher *exec.Cmd
	watched *os.File // what it told, in memory
	keepers
}

func (x *extras) find(name string) func(words []string) string {
	if word, ok := onFiles()[name]; ok {
		return word
	}
	return map[string]func([]string) string{
		"writer":  x.write,                                          // DIR: writes there without a pause
		"rest":    func([]string) string { return x.writer.rest() }, // the writer stops, and says how it went
		"watch":   x.watch,                                          // survey --watch in the background, until "watched"
		"watched": x.endWatch,                                       // WORDS: once they were told
		// The same, on the console.
		"see": func(w []string) string {
			fmt.Printf("\033[1m$ fundus survey --watch\033[0m\n%s\n", strings.TrimSuffix(x.endWatch(w), "[<nil>]"))
			return ""
		},
		"unmap":       unmap,   // NAME
		"suspend":     suspend, // NAME: the mapped device answers nothing
		"resume":      resume,  // NAME
		"chain":       chained, // DISK LABEL: table, partition, file system, fstab line and mount as one deed
		"suspended":   func([]string) string { return read("/sys/block/dm-0", "dm/suspended") },
		"figures":     figures, // what the kernel itself says of disks, mounts and swaps
		"bind":        func(w []string) string { return fine(syscall.Mount(w[0], w[1], "", syscall.MS_BIND, "")) },
		"attempt":     attempt, // DEVICE TYPE ro|rw: a mount by the kernel's own call
		"zram":        zram,    // BYTES: a disk in memory
		"grow":        func(w []string) string { return grow(w[0], w[1]) },
		"look":        look,      // DEVICE: what the kernel makes of it
		"helper":      helper,    // WORDS: a process of its own that holds something
		"apart":       apart,     // WORDS: the same in a mount namespace of its own
		"makeswap":    makeSwap,  // DEVICE: a swap area, in use
		"map":         mapDevice, // NAME DEVICE: a device-mapper device over it
		"stale":       stale,     // DISK NUMBER START SIZE: a partition in the kernel alone
		"end":         endAt,     // sync|any N COMMAND: the machine ends before or after one of its calls
		"counted":     counted,   // DISK COMMAND: sectors written and syncs
		"opens":       opens,     // DISK COMMAND: how often each node was opened
		"carry":       carry,     // DEVICE SECTOR: a loop device over it
		"partuuids":   partUUIDs, // the links by PARTUUID
		"lengthen":    func(w []string) string { return lengthen(w[0], w[1]) },
		"loops":       loops,      // what loop devices carry
		"install":     install,    // DEVICE TASK: makes the file system there a root
		"initialised": initialise, // DEVICE: the kernel initialises every inode table
		"conform":     conform,    // DISK ROOTDISK: the table of what is refused
		"rounds":      rounds,     // N DISK: the road, over and over
		"over":        func(w []string) string { return fmt.Sprint(unix.Mount(w[0], w[1], "ext4", 0, "")) },
		"gone":        gone,  // PATH: is there nothing?
		"names":       names, // IMAGE: a link to it, another name of it, and a link to its directory
		"image":       func(w []string) string { return makeImage(w[0], w[1]) },
		"plant":       plant,       // DEVICE OFFSET TEXT
		"members":     plantMember, // DEVICE OFFSET: an array member
		"started":     started,     // what runs by itself: swaps, arrays, mounts
		"udev":        udev,        // DISK: what udev says of its content
		"mountas":     mountAs,     // KIND DISK
		"statfs":      statfs,      // DIR
		"options":     options,     // TYPE DEVICE
		"limits":      limits,      // TYPE DEVICE: what only some types of a family take
		"fat":         fat,         // DEVICE: what the kernel makes of a new one
		"returns":     returns,     // DISK KIND…: each over each, and undone
		"fills":       fills,       // DEVICE N: a tree, and at the end the power is cut
		"reads":       reads,       // DEVICE N: that tree, after whatever
		"newuuid":     newUUID,     // DEVICE UUID: of an XFS that is not mounted
		"onlinexfs":   onlineXFS,
		"xfs":         xfs,       // DEVICE HOW…: what the kernel makes of a new one
		"ext":         ext,       // DEVICE TYPE HOW…: the same
		"online":      online,    // DEVICE TYPE BLOCKS: grown while it is mounted
		"entries":     entries,   // DIR N [read]: of one directory
		"digest":      digest,    // DEVICE
		"keep":        x.keep,    // HOW PLACE: a process that keeps a mount busy
		"release":     x.release, // of all that is kept
		"spoil":       spoil,     // DEVICE OFFSET N: bytes that are turned over
		"twin":        func(w []string) string { return "twin" + fine(copyFile(w[0], w[1])) },
		"area":        area,    // DEVICE: swapped on
		"awkward":     awkward, // ROOT HOW: an fstab that cannot simply be replaced
		"here":        here,    // WORDS: of Fundus, in this process
		"clear":       func([]string) string { fmt.Print("\033[H\033[2J"); return "" },
		"show":        show,     // COMMAND: on the console, as an administrator sees it
		"stuck":       stuck,    // waits for ever
		"loop":        loop,     // computes for ever
		"count":       counting, // N: lines
		"python":      python,   // SCRIPT WORDS: of another language
		"pause":       func([]string) string { time.Sleep(2 * time.Second); return "" },
	}[name]
}

func (x *extras) write(words []string) string {
	x.writer = startWriter(words[0])
	return ""
}

func (x *extras) watch([]string) string {
	fd, err := unix.MemfdCreate("watched", unix.MFD_CLOEXEC)
	if err != nil {
		return err.Error()
	}
	x.watched = os.NewFile(uintptr(fd), "watched")
	x.watcher = exec.Command("/bin/fundus", "survey", "--watch")
	x.watcher.Stdout, x.watcher.Stderr = x.watched, x.watched
	err = x.watcher.Start()
	for err == nil && !x.listens() {
		time.Sleep(50 * time.Millisecond)
	}
	return "watching" + fine(err)
}

// listens says whether a process keeps the kernel's announcements: the watching
// one is the only one here that could.
func (x *extras) listens() bool {
	list, err := os.ReadFile("/proc/net/netlink") // Eth is the protocol, 15 that of announcements
	for line := range strings.Lines(string(list)) {
		if f := strings.Fields(line); len(f) > 2 && f[1] == "15" && f[2] == strconv.Itoa(x.watcher.Process.Pid) {
			return true
		}
	}
	return err != nil
}

// endWatch gives what was told, once it has these words, or half a minute has gone.
func (x *extras) endWatch(words []string) string {
	told := func() string {
		data, _ := io.ReadAll(io.NewSectionReader(x.watched, 0, 1<<20))
		return string(data)
	}
	time.Sleep(time.Second)
	for range 300 {
		if strings.Contains(told(), strings.Join(words, " ")) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	err := errors.Join(x.watcher.Process.Signal(os.Interrupt), x.watcher.Wait())
	return fmt.Sprintf("%s[%v]", told(), err)
}

func look(words []string) string {
	line, err := json.Marshal(judge(words[0], false, ""))
	return fmt.Sprint(string(line), fine(err))
}

func python(words []string) string {
	out, err := exec.Command("/usr/bin/python3", words...).CombinedOutput()
	return strings.TrimSpace(string(out)) + fine(err)
}

func show(words []string) string {
	fmt.Printf("\033[1m$ fundus %s\033[0m\n", strings.Join(words, " "))
	cmd := exec.Command("/bin/fundus", words...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.Env = append(os.Environ(), "LANG=C.UTF-8", "TERM=xterm-256color")
	err := cmd.Run()
	fmt.Println()
	return fine(err)
}

func fine(err error) string {
	if err == nil {
		return ""
	}
	return " " + err.Error()
}

// help is what a helper process does: it holds something until it is killed.
func help(words []string) {
	var err error
	switch words[0] {
	case "report":
		report()
		return
	case "keep":
		keeping(words[1], words[2])
	case "mount":
		err = errors.Join(syscall.Mount("", "/", "", syscall.MS_REC|syscall.MS_PRIVATE, ""), syscall.Mount(words[1], words[2], "ext4", 0, ""))
	case "lock":
		var f *os.File
		if f, err = os.OpenFile(words[1], os.O_RDWR, 0); err == nil {
			err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
			defer f.Close()
		}
	case "claim":
		var f *os.File
		if f, err = os.OpenFile(words[1], os.O_RDWR|syscall.O_EXCL, 0); err == nil {
			defer f.Close()
		}
	}
	fmt.Println("holding", fine(err))
	time.Sleep(time.Hour)
}

func helper(words []string) string { return startHelper(0, words) }
func apart(words []string) string  { return startHelper(syscall.CLONE_NEWNS, words) }

func startHelper(unshare uintptr, words []string) string {
	cmd := exec.Command("/proc/self/exe", words...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: unshare}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return err.Error()
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(line) + fine(err)
}

// onDevice opens the device for writing.
func onDevice(path string, fn func(f *os.File) error) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(fn(f), f.Sync(), f.Close())
}

// makeSwap writes a swap header (mm/swapfile.c: version at 1024, last page at
// 1028, the magic at the end of the page) and uses it.
func makeSwap(words []string) string {
	path := "/dev/" + words[0]
	err := onDevice(path, func(f *os.File) error {
		size, err := f.Seek(0, io.SeekEnd)
		page := make([]byte, 4096)
		binary.LittleEndian.PutUint32(page[1024:], 1)
		binary.LittleEndian.PutUint32(page[1028:], uint32(size/4096-1))
		copy(page[4086:], "SWAPSPACE2")
		_, errWrite := f.WriteAt(page, 0)
		return errors.Join(err, errWrite)
	})
	if err == nil && len(words) == 1 {
		err = swapCall(syscall.SYS_SWAPON, path)
	}
	return "swap" + fine(err)
}

func swapCall(call uintptr, path string) error {
	p, err := syscall.BytePtrFromString(path)
	if err != nil {
		return err
	}
	if _, _, errno := syscall.Syscall(call, uintptr(unsafe.Pointer(p)), 0, 0); errno != 0 {
		return errno
	}
	return nil
}

type blkpg struct {
	op, flags, length int32
	_                 int32
	data              *blkpgPartition
}

type blkpgPartition struct {
	start, length int64
	number        int32
	_             [132]byte
}

// tell has the kernel add (1) or forget (2) a partition.
func tell(disk string, op int32, number, start, size int64) error {
	f, err := os.Open("/dev/" + disk)
	if err != nil {
		return err
	}
	defer f.Close()
	p := blkpgPartition{start: start, length: size, number: int32(number)}
	r := blkpg{op: op, length: int32(unsafe.Sizeof(p)), data: &p}
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), unix.BLKPG, uintptr(unsafe.Pointer(&r))); errno != 0 {
		return errno
	}
	return nil
}

func stale(words []string) string {
	var n [3]int64
	for i := range n {
		n[i], _ = strconv.ParseInt(words[1+i], 10, 64)
	}
	err := tell(words[0], 1, n[0], n[1], n[2])
	return "stale" + fine(err)
}

// counted runs the command and says what it wrote: field 7 of the disk's
// statistics counts sectors, field 16 flushes (Documentation/block/stat.rst).
func counted(words []string) string {
	stat := func() (sectors, flushes int) {
		data, _ := os.ReadFile("/sys/block/" + words[0] + "/stat")
		f := strings.Fields(string(data))
		sectors, _ = strconv.Atoi(f[6])
		if len(f) > 15 {
			flushes, _ = strconv.Atoi(f[15])
		}
		return sectors, flushes
	}
	syscall.Sync()
	s0, f0 := stat()
	out := fundus(words[1:])
	s1, f1 := stat()
	return fmt.Sprintf("%s\nwrote %d sectors, %d flushes", out, s1-s0, f1-f0)
}

// opens counts how often the command opens the disk and its partitions.
func opens(words []string) string {
	fd, err := unix.InotifyInit1(unix.IN_NONBLOCK)
	if err != nil {
		return err.Error()
	}
	defer unix.Close(fd)
	names := map[int32]string{}
	nodes, _ := filepath.Glob("/dev/" + words[0] + "*")
	for _, n := range nodes {
		wd, err := unix.InotifyAddWatch(fd, n, unix.IN_OPEN)
		if err != nil {
			return err.Error()
		}
		names[int32(wd)] = filepath.Base(n)
	}
	out := fundus(words[1:])
	counts := map[string]int{}
	buf := make([]byte, 65536)
	for {
		n, err := unix.Read(fd, buf)
		if err != nil || n <= 0 {
			break
		}
		for at := 0; at+unix.SizeofInotifyEvent <= n; {
			event := (*unix.InotifyEvent)(unsafe.Pointer(&buf[at]))
			counts[names[event.Wd]]++
			at += unix.SizeofInotifyEvent + int(event.Len)
		}
	}
	return fmt.Sprintf("%s\nopened %v", out, counts)
}

func carry(words []string) string {
	sector, _ := strconv.Atoi(words[1])
	backing, err := os.OpenFile("/dev/"+words[0], os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer backing.Close()
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer control.Close()
	n, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
	if err != nil {
		return err.Error()
	}
	dev, err := os.OpenFile(fmt.Sprintf("/dev/loop%d", n), os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer dev.Close()
	config := unix.LoopConfig{Fd: uint32(backing.Fd()), Size: uint32(sector)}
	if len(words) > 2 { // the kernel is to look for a table
		config.Info.Flags = unix.LO_FLAGS_PARTSCAN
	}
	err = unix.IoctlLoopConfigure(int(dev.Fd()), &config)
	return fmt.Sprintf("loop%d%s", n, fine(err))
}

func lengthen(path, size string) string {
	n, err := strconv.ParseInt(size, 10, 64)
	return "longer" + fine(errors.Join(err, os.Truncate(path, n)))
}

// partUUIDs gives the PARTUUID of each partition that has such a link.
func partUUIDs([]string) string {
	out := map[string]string{}
	const dir = "/dev/disk/by-partuuid"
	entries, err := os.ReadDir(dir)
	for _, e := range entries {
		if to, err := os.Readlink(filepath.Join(dir, e.Name())); err == nil {
			out[filepath.Base(to)] = e.Name()
		}
	}
	text, errJSON := json.Marshal(out)
	return string(text) + fine(errors.Join(err, errJSON))
}

func loops([]string) string {
	var out []string
	found, _ := filepath.Glob("/sys/block/loop*/loop/backing_file")
	for _, f := range found {
		data, _ := os.ReadFile(f)
		dir := filepath.Dir(filepath.Dir(f))
		out = append(out, fmt.Sprintf("%s offset %s sector %s", strings.TrimSpace(string(data)),
			read(dir, "loop/offset"), read(dir, "queue/logical_block_size")))
	}
	return "loops: " + strings.Join(out, ", ")
}

// install copies what this guest needs onto the device, with another task.
func install(words []string) string {
	err := syscall.Mount("/dev/"+words[0], "/mnt", "ext4", 0, "")
	if err != nil {
		return err.Error()
	}
	for _, dir := range []string{"dev", "proc", "sys", "mnt", "bin", "etc", "srv/a/deep", "srv/b", "var/lib"} {
		err = errors.Join(err, os.MkdirAll("/mnt/"+dir, 0o755))
	}
	for from, to := range map[string]string{"/init": "/mnt/init", "/bin/fundus": "/mnt/bin/fundus", words[1]: "/mnt/proof.json"} {
		data, errRead := os.ReadFile(from)
		err = errors.Join(err, errRead, os.WriteFile(to, data, 0o755))
	}
	return "installed" + fine(errors.Join(err, syscall.Unmount("/mnt", 0)))
}

// initialise mounts the device and waits until the kernel's thread that
// initialises inode tables has nothing left to do.
func initialise(words []string) string {
	if err := syscall.Mount("/dev/"+words[0], "/mnt", "ext4", 0, "init_itable=0"); err != nil {
		return err.Error()
	}
	defer syscall.Unmount("/mnt", 0)
	for n := range 600 {
		if n%40 == 39 {
			progress("inode tables are being initialised, look %d of 600", n+1)
		}
		time.Sleep(50 * time.Millisecond)
		busy := false
		found, _ := filepath.Glob("/proc/[0-9]*/comm")
		for _, f := range found {
			name, _ := os.ReadFile(f)
			busy = busy || strings.TrimSpace(string(name)) == "ext4lazyinit"
		}
		if !busy {
			return "initialised"
		}
	}
	return "the kernel is still at it"
}

func makeImage(path, size string) string {
	n, err := strconv.ParseInt(size, 10, 64)
	f, errCreate := os.Create(path)
	if err := errors.Join(err, errCreate); err != nil {
		return err.Error()
	}
	return "image" + fine(errors.Join(f.Truncate(n), f.Close()))
}

func plant(words []string) string {
	off, err := strconv.ParseInt(words[1], 10, 64)
	return "planted" + fine(errors.Join(err, onDevice("/dev/"+words[0], func(f *os.File) error {
		_, err := f.WriteAt([]byte(words[2]), off)
		return err
	})))
}

// plantMember writes a superblock of a Linux array, version 1.2, 4 KiB from the
// offset: one disk of a mirror (include/uapi/linux/raid/md_p.h).
func plantMember(words []string) string {
	off, err := strconv.ParseInt(words[1], 10, 64)
	b := make([]byte, 512)
	le := binary.LittleEndian
	le.PutUint32(b, 0xa92b4efc)
	le.PutUint32(b[4:], 1)
	copy(b[16:32], "fundus-array-id!")
	copy(b[32:64], "fernhill:herbarium")
	le.PutUint32(b[72:], 1)     // level
	le.PutUint64(b[80:], 16384) // sectors used of each
	le.PutUint32(b[92:], 1)     // disks
	le.PutUint64(b[128:], 2048) // data offset
	le.PutUint64(b[136:], 16384)
	le.PutUint64(b[144:], 8) // where this superblock lies
	le.PutUint32(b[220:], 128)
	sum := uint64(0)
	le.PutUint32(b[216:], 0)
	for i := 0; i < 256+2*128 && i < len(b); i += 4 {
		sum += uint64(le.Uint32(b[i:]))
	}
	le.PutUint32(b[216:], uint32(sum)+uint32(sum>>32))
	return "member" + fine(errors.Join(err, onDevice("/dev/"+words[0], func(f *os.File) error {
		_, err := f.WriteAt(b, off+4096)
		return err
	})))
}

// started says what is in use without anybody having asked for it.
func started([]string) string {
	swaps, _ := os.ReadFile("/proc/swaps")
	arrays, _ := filepath.Glob("/sys/block/md*/md/array_state")
	var mounts []string
	table, _ := os.ReadFile("/proc/self/mountinfo")
	for line := range strings.Lines(string(table)) {
		if f := strings.Fields(line); len(f) > 4 && strings.Contains(line, " /dev/ubd") {
			mounts = append(mounts, f[4])
		}
	}
	records, _ := filepath.Glob("/run/udev/data/b98:*")
	var kinds []string
	for _, r := range records {
		data, _ := os.ReadFile(r)
		for line := range bytes.Lines(data) {
			if kind, ok := bytes.CutPrefix(bytes.TrimSpace(line), []byte("E:ID_FS_TYPE=")); ok {
				kinds = append(kinds, filepath.Base(r)+" "+string(kind))
			}
		}
	}
	slices.Sort(kinds)
	return fmt.Sprintf("swaps %d, arrays %d, mounts %v, udev %v", bytes.Count(swaps, []byte("\n"))-1, len(arrays), mounts, kinds)
}

// udev gives what its database says of the disk's content.
func udev(words []string) string {
	data, err := os.ReadFile("/run/udev/data/b" + read("/sys/class/block/"+words[0], "dev"))
	out := map[string]string{}
	for line := range strings.Lines(string(data)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		if name, ok := strings.CutPrefix(name, "E:ID_FS_"); ok && (name == "TYPE" || name == "UUID" || name == "LABEL") {
			out[name] = value
		}
	}
	line, errJSON := json.Marshal(out)
	return string(line) + fine(errors.Join(err, errJSON))
}

// mountAs mounts the disk for reading as the kind, and lists what is there.
func mountAs(words []string) string {
	if err := syscall.Mount("/dev/"+words[1], "/mnt", words[0], syscall.MS_RDONLY, ""); err != nil {
		return err.Error()
	}
	_, err := os.ReadDir("/mnt")
	return "mounted" + fine(errors.Join(err, syscall.Unmount("/mnt", 0)))
}

// statfs gives what statfs(2) says, in bytes and inodes.
func statfs(words []string) string {
	var st syscall.Statfs_t
	err := syscall.Statfs(words[0], &st)
	return fmt.Sprintf("blocks %d free %d files %d left %d%s", int64(st.Blocks)*st.Frsize, int64(st.Bfree)*st.Frsize,
		st.Files, st.Ffree, fine(err))
}

// names gives an image three other names.
func names(w []string) string {
	base := strings.TrimSuffix(w[0], ".img")
	return "named" + fmt.Sprint(errors.Join(os.Symlink(w[0], base+"-link.img"), os.Link(w[0], base+"-hard.img"),
		os.Symlink(filepath.Dir(w[0]), base+"-dir")))
}

// gone reports whether there is nothing at the path.
func gone(w []string) string {
	_, err := os.Lstat(w[0])
	if !os.IsNotExist(err) {
		return fmt.Sprintf("there is something at %s: %v", w[0], err)
	}
	return "gone" + fmt.Sprint(error(nil))
}
