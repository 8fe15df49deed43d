package live

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"fundus/core/text/fstab"
)

// What is looked for of those who keep a mount busy, and for how long.
const (
	mostHolders   = 6
	holdersWithin = 2 * time.Second
)

// placeOf is a mount that somebody keeps busy.
type placeOf struct {
	where string
	id    string // of the mount, as mountinfo counts them
	dev   string // "8:1"
	until time.Time
	found []string
	more  int
}

// holdersOf names who keeps the mount at the place busy: what is mounted below, processes with
// files, directories, programs, mapped memory or bound sockets on it, and what of the kernel
// stands on a file there. It ends after a while; who may see less finds less.
func (m *Machine) holdersOf(where string) []string {
	p := &placeOf{where: where, until: time.Now().Add(holdersWithin)}
	m.mountedBelow(p)
	m.standingOn(p)
	sockets := m.socketsOn(p)
	self := strconv.Itoa(os.Getpid())
	for _, process := range m.processes() {
		if process == self || time.Now().After(p.until) {
			continue
		}
		if what := m.usesOf(p, process, sockets); what != "" {
			p.add(m.describe(process) + m.ownerOf(process) + " " + what)
		}
	}
	if p.more > 0 {
		p.found = append(p.found, fmt.Sprintf("%d more", p.more))
	}
	return p.found
}

func (p *placeOf) add(words string) {
	if len(p.found) >= mostHolders {
		p.more++
		return
	}
	p.found = append(p.found, words)
}

// has reports whether the path lies on the mount, by its name.
func (p *placeOf) has(path string) bool {
	return path == p.where || strings.HasPrefix(path, strings.TrimSuffix(p.where, "/")+"/")
}

// mountedBelow reads the mount table: the place's own number, and what is mounted further in,
// the innermost first.
func (m *Machine) mountedBelow(p *placeOf) {
	data, err := os.ReadFile(filepath.Join(m.at.proc, "self", "mountinfo"))
	if err != nil {
		return
	}
	var below []string
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		dash := slices.Index(f, "-")
		if len(f) < 7 || dash < 6 || dash+3 >= len(f) {
			continue
		}
		switch at := fstab.Unescape(f[4]); {
		case at == p.where:
			p.id, p.dev = f[0], f[2] // the last is the newest
		case p.has(at):
			below = append(below, at)
		case f[dash+1] == "overlay" && strings.Contains(f[dash+3], "="+p.where+"/"):
			p.add("the overlay at " + at + " stands on it")
		}
	}
	slices.SortFunc(below, func(a, b string) int { return len(b) - len(a) })
	for _, at := range below {
		p.add(at + " is mounted below it")
	}
}

// standingOn finds loop devices and swap that stand on a file of the mount.
func (m *Machine) standingOn(p *placeOf) {
	dirs, _ := filepath.Glob(filepath.Join(m.at.sys, "block", "loop*"))
	for _, dir := range dirs {
		if backing := attribute(dir, "loop/backing_file"); backing != "" && p.has(backing) {
			p.add(fmt.Sprintf("%s carries %s", filepath.Base(dir), backing))
		}
	}
	for _, a := range m.areas() {
		if a.File && p.has(a.Path) {
			p.add("the machine swaps on " + a.Path)
		}
	}
}

// socketsOn lists the sockets that are bound to a name on the mount, by their inode.
func (m *Machine) socketsOn(p *placeOf) map[string]string {
	out := map[string]string{}
	data, err := os.ReadFile(filepath.Join(m.at.proc, "net", "unix"))
	if err != nil {
		return out
	}
	for line := range strings.Lines(string(data)) {
		if f := strings.Fields(line); len(f) >= 8 && p.has(f[7]) {
			out["socket:["+f[6]+"]"] = f[7]
		}
	}
	return out
}

// usesOf says by what a process keeps the mount busy; "" for nothing that can be seen.
func (m *Machine) usesOf(p *placeOf, process string, sockets map[string]string) string {
	dir := filepath.Join(m.at.proc, process)
	for _, link := range []struct{ name, words string }{{"root", "has its root in"}, {"cwd", "works in"}, {"exe", "runs"}} {
		if path := filepath.Join(dir, link.name); p.on(path) {
			to, _ := os.Readlink(path)
			return link.words + " " + to
		}
	}
	files, _ := os.ReadDir(filepath.Join(dir, "fd"))
	for _, f := range files {
		to, err := os.Readlink(filepath.Join(dir, "fd", f.Name()))
		if err != nil {
			continue
		}
		if name := sockets[to]; name != "" {
			return "has the socket " + name
		}
		info, err := os.ReadFile(filepath.Join(dir, "fdinfo", f.Name()))
		if err == nil && slices.Contains(strings.Fields(string(info)), p.id) && strings.Contains(string(info), "mnt_id:\t"+p.id+"\n") {
			return "has " + to + " open"
		}
	}
	maps, _ := os.ReadFile(filepath.Join(dir, "maps"))
	for line := range strings.Lines(string(maps)) {
		if f := strings.Fields(line); len(f) >= 6 && p.has(strings.Join(f[5:], " ")) {
			return "has " + strings.Join(f[5:], " ") + " in its memory"
		}
	}
	threads, _ := filepath.Glob(filepath.Join(dir, "task", "*", "cwd"))
	for _, path := range threads {
		if p.on(path) {
			to, _ := os.Readlink(path)
			return "has a thread that works in " + to
		}
	}
	return ""
}

// on reports whether what the link leads to lies on the very mount; where the kernel does not
// say of which mount something is, on its device.
func (p *placeOf) on(link string) bool {
	var st unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, link, 0, unix.STATX_MNT_ID|unix.STATX_INO, &st); err != nil {
		return false
	}
	if st.Mask&unix.STATX_MNT_ID != 0 {
		return strconv.FormatUint(st.Mnt_id, 10) == p.id
	}
	return fmt.Sprintf("%d:%d", st.Dev_major, st.Dev_minor) == p.dev
}

// ownerOf names the user of a process that is not root's.
func (m *Machine) ownerOf(process string) string {
	status, err := os.ReadFile(filepath.Join(m.at.proc, process, "status"))
	if err != nil {
		return ""
	}
	_, rest, _ := strings.Cut(string(status), "\nUid:")
	ids := strings.Fields(rest)
	if len(ids) < 2 || ids[1] == "0" { // the second is the one that counts
		return ""
	}
	if u, err := user.LookupId(ids[1]); err == nil {
		return " of " + u.Username
	}
	return " of user " + ids[1]
}
