package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
)

// mounting is one mount on its way to the kernel.
type mounting struct {
	source, where string // paths of this system
	typ           string
	options       string // as fstab has them
	device        string // "8:1": what the source was when it was looked at; "" where it is no device of its own
}

// mostOption is how many bytes an option can have on its way by steps.
const mostOption = 255

// attach mounts through the kernel's interface of steps, which says what it does not like:
// the file system is made known first, and attached to a place that was opened before, so
// that nothing can be put in its way. What does without that interface, or an option that is
// too long for it, goes through mount(2).
//
// Source: fs/fsopen.c and fs/namespace.c of Linux.
func (m *Machine) attach(g mounting) error {
	mark := m.markLog()
	defer mark.close()
	s := kind.Options(g.typ).Sort(fstab.Split(g.options))
	if slices.ContainsFunc(s.Own, func(o string) bool { return len(o) > mostOption }) {
		return mark.explain(g, m.plainMount(g))
	}
	fs, err := unix.Fsopen(g.typ, unix.FSOPEN_CLOEXEC)
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		return mark.explain(g, m.plainMount(g))
	}
	if errors.Is(err, unix.ENODEV) {
		return &kernelSays{err, []string{fmt.Sprintf("it knows no file system %s, and no module brings it", g.typ)}}
	}
	if err != nil {
		return mark.explain(g, err)
	}
	defer unix.Close(fs)
	if err := configure(fs, g.source, slices.Concat(s.Superblock, s.Own)); err != nil {
		return mark.explain(g, said(fs, err))
	}
	mount, err := unix.Fsmount(fs, unix.FSMOUNT_CLOEXEC, int(attributesOf(s.Attributes)|attributesOf(s.Superblock)&unix.MOUNT_ATTR_RDONLY))
	if err != nil {
		return mark.explain(g, said(fs, err))
	}
	defer unix.Close(mount)
	if err := sameDevice(mount, g); err != nil {
		return err
	}
	if err := place(mount, g); err != nil {
		return mark.explain(g, err)
	}
	return propagate(g.where, s.Moves)
}

// configure gives the kernel the source and each option, and has it look at the device.
func configure(fs int, source string, options []string) error {
	if err := unix.FsconfigSetString(fs, "source", source); err != nil {
		return err
	}
	if err := setOptions(fs, options); err != nil {
		return err
	}
	return unix.FsconfigCreate(fs)
}

func setOptions(fs int, options []string) error {
	for _, o := range options {
		name, value, valued := strings.Cut(o, "=")
		err := error(nil)
		if valued {
			err = unix.FsconfigSetString(fs, name, value)
		} else {
			err = unix.FsconfigSetFlag(fs, name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// attributesOf are those of a mount, each time of access as the last one says.
func attributesOf(options []string) (attributes uint64) {
	set := map[string]uint64{"ro": unix.MOUNT_ATTR_RDONLY, "nosuid": unix.MOUNT_ATTR_NOSUID,
		"nodev": unix.MOUNT_ATTR_NODEV, "noexec": unix.MOUNT_ATTR_NOEXEC,
		"nodiratime": unix.MOUNT_ATTR_NODIRATIME, "nosymfollow": unix.MOUNT_ATTR_NOSYMFOLLOW}
	times := map[string]uint64{
		"noatime":     unix.MOUNT_ATTR_NOATIME,
		"strictatime": unix.MOUNT_ATTR_STRICTATIME,
		"relatime":    unix.MOUNT_ATTR_RELATIME,
	}
	for _, o := range options {
		attributes |= set[o]
		if t, ok := times[o]; ok {
			attributes = attributes&^unix.MOUNT_ATTR__ATIME | t
		}
	}
	return attributes
}

// sameDevice refuses a mount of something else than was looked at: names move between
// devices.
func sameDevice(mount int, g mounting) error {
	var st unix.Stat_t
	if err := unix.Fstat(mount, &st); err != nil || g.device == "" {
		return err
	}
	if on := fmt.Sprintf("%d:%d", unix.Major(st.Dev), unix.Minor(st.Dev)); on != g.device && unix.Major(st.Dev) != 0 { // file systems over several devices have numbers of their own
		return fmt.Errorf("%s is another device now than it was when it was looked at (%s, it was %s); nothing was mounted",
			g.source, on, g.device)
	}
	return nil
}

// propagate says to which other namespaces later mounts below go.
func propagate(where string, moves []string) error {
	flags := map[string]uintptr{
		"shared":     unix.MS_SHARED,
		"slave":      unix.MS_SLAVE,
		"private":    unix.MS_PRIVATE,
		"unbindable": unix.MS_UNBINDABLE,
	}
	for _, o := range moves {
		flag, ok := flags[o]
		if name, recursive := strings.CutPrefix(o, "r"); !ok && recursive {
			flag, ok = flags[name]|unix.MS_REC, flags[name] != 0
		}
		if !ok {
			continue
		}
		if err := unix.Mount("", where, "", flag, ""); err != nil {
			return fmt.Errorf("%s: %s: %w", where, o, err)
		}
	}
	return nil
}

// plainMount is mount(2).
func (m *Machine) plainMount(g mounting) error {
	flags, data := mountFlags(g.typ, g.options)
	return unix.Mount(g.source, g.where, g.typ, flags, data)
}

// kernelSays is an error of the kernel with its words.
type kernelSays struct {
	err   error
	words []string
}

func (e *kernelSays) Error() string { return strings.Join(e.words, "; ") }
func (e *kernelSays) Unwrap() error { return e.err }

// said adds what the kernel says of a file system that is being made known: one message a
// read, each behind a letter and a blank.
func said(fs int, err error) error {
	var words []string
	buf := make([]byte, 4096)
	for range mostWords {
		n, errRead := unix.Read(fs, buf)
		if errRead != nil || n < 2 {
			break
		}
		if text := strings.TrimSpace(string(buf[:n])); !strings.HasPrefix(text, "i ") {
			words = append(words, strings.TrimLeft(text[1:], " "))
		}
	}
	if len(words) == 0 {
		return err
	}
	return &kernelSays{err, words}
}

// mostWords is how many messages of the kernel are shown.
const mostWords = 5

// logMark is a place in the kernel's log, behind all that it said before.
type logMark struct{ f *os.File }

// markLog remembers the end of the kernel's log; without rights to it nothing will be found.
func (m *Machine) markLog() *logMark {
	fd, err := unix.Open(m.at.dev+"/kmsg", unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return &logMark{}
	}
	if _, err := unix.Seek(fd, 0, unix.SEEK_END); err != nil {
		unix.Close(fd)
		return &logMark{}
	}
	return &logMark{os.NewFile(uintptr(fd), "kmsg")}
}

func (l *logMark) close() {
	if l.f != nil {
		l.f.Close()
	}
}

// explain adds to an error without words what the kernel's log says since the mark of the
// device or of the kind, else what the number of the error means there.
func (l *logMark) explain(g mounting, err error) error {
	var words *kernelSays
	if err == nil || errors.As(err, &words) {
		return err
	}
	if list := l.since(g); len(list) > 0 {
		return &kernelSays{err, list}
	}
	if text := meaning(g, err); text != "" {
		return &kernelSays{err, []string{text}}
	}
	return err
}

// since reads the log from the mark on: a record is numbers, a semicolon, and a line.
func (l *logMark) since(g mounting) (list []string) {
	if l.f == nil {
		return nil
	}
	name := g.source[strings.LastIndex(g.source, "/")+1:]
	prefix := map[string]string{
		"vfat":  "FAT-fs",
		"msdos": "FAT-fs",
		"ext2":  "EXT",
		"ext3":  "EXT",
		"ext4":  "EXT",
		"xfs":   "XFS",
		"btrfs": "BTRFS",
	}[g.typ]
	buf := make([]byte, 8192)
	for len(list) < mostWords {
		n, err := unix.Read(int(l.f.Fd()), buf)
		if err != nil || n <= 0 {
			break
		}
		_, text, _ := strings.Cut(string(buf[:n]), ";")
		text, _, _ = strings.Cut(text, "\n")
		if strings.Contains(text, name) || prefix != "" && strings.HasPrefix(text, prefix) {
			list = append(list, strings.ToValidUTF8(text, "?"))
		}
	}
	return list
}

// meaning is what the number of an error means for a mount.
func meaning(g mounting, err error) string {
	for _, e := range []struct {
		errno unix.Errno
		text  string
	}{
		{unix.EINVAL, "what is on it, or one of the options, is nothing that " + g.typ + " takes"},
		{unix.ENODEV, "it knows no file system " + g.typ + ", and no module brings it"},
		{unix.EBUSY, "something else uses it, or it is mounted differently"},
		{unix.EROFS, "the device is read-only, and this kind has to be written to"}, {unix.EACCES, "the device is read-only"},
		{unix.ENOENT, "a part of the path is missing"}, {unix.EUCLEAN, "what is on it is damaged"},
		{unix.EIO, "reading from the device failed"}, {unix.ENOMEM, "there is not enough memory"}, {unix.EPERM, forbidden()},
	} {
		if errors.Is(err, e.errno) {
			return e.text
		}
	}
	return ""
}

// remount gives a mount other options: those of the file system by having the kernel read them
// anew, and the attributes of this mount alone. What is not named stays.
func (m *Machine) remount(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	g := mounting{source: a.Device, where: m.below(a.Where), typ: a.Kind, options: a.Options}
	mark := m.markLog()
	defer mark.close()
	s := kind.Options(a.Kind).Sort(fstab.Split(a.Options))
	if own := slices.Concat(s.Superblock, s.Own); len(own) > 0 {
		fs, err := unix.Fspick(unix.AT_FDCWD, g.where, unix.FSPICK_CLOEXEC|unix.FSPICK_NO_AUTOMOUNT)
		if err != nil {
			return mark.explain(g, err)
		}
		defer unix.Close(fs)
		if err := errors.Join(setOptions(fs, own), unix.FsconfigReconfigure(fs)); err != nil {
			return mark.explain(g, said(fs, err))
		}
	}
	attr := unix.MountAttr{
		Attr_set: attributesOf(s.Attributes) | attributesOf(s.Superblock)&unix.MOUNT_ATTR_RDONLY,
		Attr_clr: opposites(slices.Concat(s.Superblock, s.Attributes)),
	}
	if attr.Attr_set|attr.Attr_clr == 0 && !slices.ContainsFunc(s.Attributes, isTime) {
		return nil
	}
	if slices.ContainsFunc(s.Attributes, isTime) { // the whole field, or the kernel refuses
		attr.Attr_clr |= unix.MOUNT_ATTR__ATIME
	}
	return mark.explain(g, unix.MountSetattr(unix.AT_FDCWD, g.where, 0, &attr))
}

func isTime(option string) bool {
	return slices.Contains([]string{"noatime", "relatime", "strictatime"}, option)
}

// opposites are the attributes that the options take away.
func opposites(options []string) (attributes uint64) {
	for _, o := range options {
		name, ok := map[string]string{
			"rw":        "ro",
			"suid":      "nosuid",
			"dev":       "nodev",
			"exec":      "noexec",
			"diratime":  "nodiratime",
			"symfollow": "nosymfollow",
		}[o]
		if ok {
			attributes |= attributesOf([]string{name})
		}
	}
	return attributes
}

// bind shows a directory at another place too, with attributes of its own from the first
// moment on: a copy of the tree is given them before it is attached.
func (m *Machine) bind(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	options := fstab.Split(a.Options)
	flags := uint(unix.OPEN_TREE_CLONE | unix.OPEN_TREE_CLOEXEC)
	recursive := uint(0)
	if slices.Contains(options, "rbind") {
		recursive = unix.AT_RECURSIVE
	}
	g := mounting{source: a.From, where: m.below(a.Where), typ: "none"}
	tree, err := unix.OpenTree(unix.AT_FDCWD, m.below(a.From), flags|recursive)
	if err != nil {
		return fmt.Errorf("%s: %w", a.From, err)
	}
	defer unix.Close(tree)
	attr := unix.MountAttr{Attr_set: attributesOf(options)}
	if attr.Attr_set&unix.MOUNT_ATTR__ATIME != 0 {
		attr.Attr_clr |= unix.MOUNT_ATTR__ATIME
	}
	if attr.Attr_set != 0 {
		if err := unix.MountSetattr(tree, "", unix.AT_EMPTY_PATH|recursive, &attr); err != nil {
			return err
		}
	}
	if a.Make {
		if err := os.MkdirAll(g.where, 0o755); err != nil {
			return err
		}
	}
	return place(tree, g)
}

// place attaches a mount that nobody sees yet to the place, which is opened before anything
// is attached: nothing can be put in its way between.
func place(mount int, g mounting) error {
	if real, err := filepath.EvalSymlinks(g.where); err == nil {
		g.where = real
	}
	at, err := unix.Open(g.where, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("%s: %w", g.where, err)
	}
	defer unix.Close(at)
	return unix.MoveMount(mount, "", at, "", unix.MOVE_MOUNT_F_EMPTY_PATH|unix.MOVE_MOUNT_T_EMPTY_PATH)
}
