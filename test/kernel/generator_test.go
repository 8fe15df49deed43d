//go:build proof

package kernel

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
	"fundus/internal/machine"
	"fundus/test/amount"
)

// generate has systemd's own generator make units of each table, with the command line of its
// own, in a root of its own. It is no container there, in which swap would be left out.
const generate = `mount -t proc proc /proc && mount -t sysfs sys /sys && cd / || exit 9
for f in /tables/*; do
	u=/units/${f##*/}
	cp $f /etc/fstab; mkdir -p $u/n $u/e $u/l
	mount --bind /lines/${f##*/} /proc/cmdline || exit 8
	/lib/systemd/system-generators/systemd-fstab-generator $u/n $u/e $u/l 2>/dev/null
	umount /proc/cmdline
done; true`

// commandLines are those under which tables are read: what the generator goes by, and what it
// does not.
func commandLines() []string {
	return []string{"quiet", "root=UUID=ab ro quiet", "fstab=0", "systemd.swap=0", "systemd.swap=no fstab=yes", "rd.fstab=0 noswap noresume", "systemd.volatile=state", "systemd.volatile=yes root=UUID=ab",
		"systemd.volatile=overlay rw", "root=tmpfs mount.usr=UUID=us", "root=gpt-auto fsck.mode=skip", `fstab="off" systemd.mask=x`, "systemd.swap fstab=0 fstab"}
}

// proveGenerator: of each table, under each command line, systemd's generator writes the units,
// links and drop-ins that are foretold, and no others.
func proveGenerator(t *testing.T, _ *judge) {
	root := generatorRoot(t)
	tables := oddTables()
	n := amount.Of(20, 200)
	for i := range n {
		tables = append(tables, randomTable(amount.Rand(7000+i)))
	}
	lines := commandLines()
	for _, line := range lines { // each meets a whole table
		tables = append(tables, "# "+line+"\n"+wholeTable)
	}
	of := func(i int) string {
		if at := i - (len(tables) - len(lines)); at >= 0 {
			return lines[at]
		}
		return lines[0]
	}
	for i, text := range tables {
		name := fmt.Sprintf("%04d", i)
		giveTable(t, root, name, text, of(i))
	}
	generateIn(t, root)
	read, files := 0, 0
	for i, text := range tables {
		foretold := fstab.Read(fstab.Parse([]byte(text)), follower(root))
		read += len(foretold)
		made := units.Generate(foretold, units.Facts{Words: units.Words(of(i)), Checks: checkers(root)})
		dir := filepath.Join(root, "units", fmt.Sprintf("%04d", i))
		for _, d := range []struct {
			name string
			made units.Tree
		}{{"n", made.Normal}, {"l", made.Late}, {"e", nil}} {
			got, want := written(t, filepath.Join(dir, d.name)), said(d.made)
			if at := slices.IndexFunc(foretold, func(u fstab.Unit) bool { return u.None == fstab.Dies }); at >= 0 { // it may have come far enough to write it
				dying := func(path, _ string) bool { return unfinished(foretold[at], path) }
				maps.DeleteFunc(got, dying)
				maps.DeleteFunc(want, dying)
			}
			if slices.ContainsFunc(foretold, func(u fstab.Unit) bool { return u.Where == "/" && u.None != "" }) { // given up, but the check was linked before
				delete(got, rootChecked)
				delete(want, rootChecked)
			}
			files += len(got)
			for _, path := range slices.Sorted(maps.Keys(got)) {
				if want[path] != got[path] {
					t.Errorf("table %d (%s), %s/%s: generated\n%s\nforetold\n%s", i, of(i), d.name, path, got[path], want[path])
				}
			}
			for _, path := range slices.Sorted(maps.Keys(want)) {
				if got[path] == "" {
					t.Errorf("table %d (%s), %s/%s is foretold, and not generated:\n%s", i, of(i), d.name, path, want[path])
				}
			}
		}
		if t.Failed() {
			for line := range strings.Lines(text) {
				t.Log(i, line)
			}
			t.FailNow()
		}
	}
	fmt.Printf("kernel proof: %d lines in %d tables (seed %d), %d command lines: the %d files, links and drop-ins of systemd's generator are those that are foretold: %v\n", read, len(tables), amount.Seed(), len(lines), files, !t.Failed())
}

// giveTable lays a table, and the command line that it is read under, where the generator finds them.
func giveTable(t *testing.T, root, name, text, line string) {
	t.Helper()
	if err := errors.Join(os.WriteFile(filepath.Join(root, "tables", name), []byte(text), 0o644), os.WriteFile(filepath.Join(root, "lines", name), []byte(line+"\n"), 0o644)); err != nil {
		t.Fatal(err)
	}
}

// generateIn runs systemd's generator over the tables.
func generateIn(t *testing.T, root string) {
	t.Helper()
	cmd := exec.Command("/bin/bash", "-c", generate)
	cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: root, Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID}
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// proveUnitNames: of paths at random systemd names the units that are foretold, or refuses.
func proveUnitNames(t *testing.T, _ *judge) {
	root, r := debianBase(t), amount.Rand(7)
	pieces := []string{"a", "B9", ".", "..", ".x", "é", " ", "-", "_", ":", "@", "%", `\`, "\t", "=", "#", "\xff", "srv", "~", "'", "\"", "x-y", "*", "//"}
	var paths, want []string
	for range amount.Of(300, 2000) {
		path := "/"
		for range 1 + r.IntN(9) {
			path += pieces[r.IntN(len(pieces))]
			if r.IntN(3) == 0 {
				path += "/"
			}
		}
		name := "refused"
		if parts := strings.Split(path, "/"); !slices.Contains(parts, "..") {
			name = unit.Name(path, "mount")
		}
		paths, want = append(paths, path), append(want, name)
	}
	script := `for p in "$@"; do systemd-escape --path --suffix=mount -- "$p" 2>/dev/null || echo refused; done`
	cmd := exec.Command("/bin/bash", append([]string{"-c", script, "names"}, paths...)...)
	cmd.SysProcAttr, cmd.Dir = &syscall.SysProcAttr{Chroot: root}, "/"
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	got := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	for i, path := range paths {
		if i >= len(got) || got[i] != want[i] {
			t.Fatalf("%q: %q, foretold %q", path, got[min(i, len(got)-1)], want[i])
		}
	}
	fmt.Printf("kernel proof: %d paths (seed %d) have the names that systemd gives them\n", len(paths), amount.Seed())
}

// proveVerified: of units that are made of odd lines at random, systemd's verification says nothing,
// which does not show in its exit code.
func proveVerified(t *testing.T, _ *judge) {
	root := generatorRoot(t)
	n, made := amount.Of(60, 1000), 0
	var paths []string
	for i := 0; made < n; i++ {
		for _, l := range fstab.Parse([]byte(randomTable(amount.Rand(9000 + i)))).Entries() {
			m, err := units.FromLine(*l.Entry, follower(root))
			if err != nil || l.Entry.Has("x-systemd.requires") { // what it requires is not there, which is said
				continue
			}
			dir := fmt.Sprintf("/units/%d", made)
			for path, e := range m.Tree {
				if e.To != "" || strings.Contains(path, "/") {
					continue
				}
				if err := errors.Join(os.MkdirAll(filepath.Join(root, dir), 0o755), os.WriteFile(filepath.Join(root, dir, path), e.Data, 0o644)); err != nil {
					t.Fatal(err)
				}
				paths = append(paths, dir+"/"+path)
			}
			if made++; made >= n {
				break
			}
		}
	}
	script := `mount -t proc proc /proc; for p in "$@"; do systemd-analyze verify "$p" 2>&1 | sed "s|^|$p: |"; done`
	cmd := exec.Command("/bin/bash", append([]string{"-c", script, "verify"}, paths...)...)
	cmd.SysProcAttr, cmd.Dir = &syscall.SysProcAttr{Chroot: root, Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID}, "/"
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for line := range strings.Lines(string(out)) {
		path, words, _ := strings.Cut(line, ": ")
		data, _ := os.ReadFile(filepath.Join(root, path))
		t.Errorf("%s: %s%s", path, words, data)
	}
	fmt.Printf("kernel proof: of %d units that were made of lines (seed %d), systemd's verification says nothing: %v\n", len(paths), amount.Seed(), !t.Failed())
}

// unfinished reports whether the path may be what the reader wrote before it died at the line.
func unfinished(u fstab.Unit, path string) bool {
	own := unit.Name(u.Where, "mount")
	if u.Entry.IsSwap() {
		own = unit.Name(u.What, "swap")
	}
	return strings.HasPrefix(path, own) || strings.HasPrefix(path, unit.Name(u.What, "device")+".d/")
}

// written reads what lies in a directory of units.
func written(t *testing.T, dir string) map[string]string {
	t.Helper()
	tree := units.Tree{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		switch {
		case err != nil || d.IsDir():
			return err
		case d.Type()&fs.ModeSymlink != 0:
			to, err := os.Readlink(path)
			tree[rel] = units.Entry{To: to}
			return err
		}
		data, err := os.ReadFile(path)
		tree[rel] = units.Entry{Data: data}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return said(tree)
}

// said is what a directory of units says: where each link leads, and of each file the settings
// of its sections, in any order. What was given up has nothing to mount, and does not count.
func said(tree units.Tree) map[string]string {
	out := map[string]string{}
	for path, e := range tree {
		if e.To != "" {
			out[path] = "-> " + e.To
			continue
		}
		var sections []string
		for text := range strings.SplitSeq("\n"+string(e.Data), "\n[") {
			var list []string
			for line := range strings.SplitSeq(text, "\n") {
				key, value, _ := strings.Cut(line, "=")
				switch {
				case line == "" || line[0] == '#' || key == "Documentation":
					continue
				case key == "TimeoutSec" && !strings.HasPrefix(path, "systemd-") || key == "TimeoutIdleSec":
					line = key + "=" + span(value)
				case key == "Options" && strings.HasSuffix(path, ".swap"): // as they stand, with empty ones
					if value = strings.Join(fstab.Split(value), ","); value == "" || value == "defaults" {
						continue
					}
					line = key + "=" + value
				}
				if slices.Contains([]string{"After", "Before", "Requires", "Wants", "RequiresMountsFor"}, key) { // a list in one line or in several
					for word := range strings.FieldsSeq(value) {
						list = append(list, key+"="+word)
					}
					continue
				}
				list = append(list, line)
			}
			slices.Sort(list)
			sections = append(sections, strings.Join(list, "\n"))
		}
		text := strings.Join(sections, "\n")
		suffix := unit.Suffix(path)
		if !strings.Contains(path, "/") && (suffix == ".mount" || suffix == ".swap") && !strings.Contains(text, "\nWhat=") || suffix == ".automount" && !strings.Contains(text, "\nWhere=") {
			continue
		}
		out[path] = text
	}
	return out
}

// wholeTable has a line of each sort.
const wholeTable = `UUID=ab / ext4 errors=remount-ro 0 1
UUID=us /usr ext4 ro 0 2
UUID=cd /srv/a ext4 noatime,nofail,x-systemd.device-timeout=5 0 2
UUID=ef /srv/b xfs x-systemd.automount,x-systemd.idle-timeout=60,x-systemd.mount-timeout=7 0 0
LABEL=s none swap sw,pri=5,nofail 0 0
/swapfile none swap defaults 0 0
tmpfs /tmp tmpfs size=1g 0 0
host:/x /net nfs bg,_netdev 0 0
/proc /proc proc hidepid=2 0 0
`

// generatorRoot is a small Debian with places and links for mount points.
func generatorRoot(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "fundus-generator-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	root := filepath.Join(dir, "root")
	if out, err := exec.Command("cp", "-a", debianBase(t), root).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for _, d := range []string{"tables", "lines", "units", "srv/real", "srv/deep/er"} {
		if err := os.MkdirAll(filepath.Join(root, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	err = errors.Join(os.Symlink("/srv/real", filepath.Join(root, "srv/link")), os.Symlink("nowhere/yet", filepath.Join(root, "srv/dangling")),
		os.Symlink("../deep", filepath.Join(root, "srv/real/up")), os.Symlink("loop", filepath.Join(root, "srv/loop")), os.WriteFile(filepath.Join(root, "srv/file"), nil, 0o644))
	if err != nil {
		t.Fatal(err)
	}
	return root
}

// follower follows mount points in the root.
func follower(root string) fstab.Real {
	return func(dir string) (string, bool) {
		at, err := machine.Below(root, dir)
		return at.Path, err == nil
	}
}

// checkers tells for which kinds the root has a program that checks them: without one
// systemd leaves the check out.
func checkers(root string) func(kind string) bool {
	return func(kind string) bool {
		if kind == "" || kind == "auto" {
			return true
		}
		_, err := os.Stat(filepath.Join(root, "sbin", "fsck."+kind))
		return err == nil
	}
}

// span is a time in one form: systemd writes it in its own, and nothing for 0, which it takes
// for no limit.
func span(s string) string {
	d, ok := fstab.Span(s)
	switch {
	case !ok:
		return "none"
	case d == 0 || d == fstab.Forever:
		return "infinity"
	}
	return d.String()
}

const rootChecked = "local-fs.target.wants/systemd-fsck-root.service"

// oddTables are lines that people write, and others that are legal but odd: one table each,
// for one of them ends the reader.
func oddTables() (out []string) {
	data, err := os.ReadFile("../../core/text/fstab/testdata/cases.txt")
	if err != nil {
		panic(err)
	}
	for line := range strings.Lines(string(data)) {
		if raw, _, is := strings.Cut(line, " => "); is {
			text, err := strconv.Unquote(raw)
			if err != nil {
				panic(err)
			}
			out = append(out, text)
		}
	}
	return out
}

// randomTable is some fifty lines of pieces that mean something, odd ones among them.
func randomTable(r *rand.Rand) string {
	one := func(words ...string) string { return words[r.IntN(len(words))] }
	id := func() string { return fmt.Sprintf("%x", r.IntN(1<<20)) }
	var b strings.Builder
	for range 48 {
		spec := one("UUID="+id(), "LABEL="+id(), "PARTUUID="+id(), "PARTLABEL="+id(), `LABEL="`+id()+`"`, "LABEL='q"+id(), "LABEL=a/b"+id(), `PARTLABEL=seed\040`+id(), "uuid="+id(),
			"/dev/sdb"+id(), "/dev/disk/by-label/"+id(), "/dev/./x//"+id(), "/srv/file"+id(), "tmpfs", "none", "host:/x"+id(), "ID="+id(), `LABEL=\043`+id(), "/dev/../x"+id(), "LABEL=é€"+id(), "\xef\xbb\xbfUUID="+id(), "rel/"+id(), "LABEL=", "/dev/mapper/vg-"+id(), "LABEL=%i"+id())
		dir := one("/m"+id(), "/m"+id(), "/m"+id(), "/srv/link/"+id(), "/srv/dangling", "/srv/real/up/"+id(), "/srv/link/../"+id(), "/srv/none/../"+id(), "/srv/file/"+id(), "/srv/loop/"+id(), "srv/"+id(), "none", "swap", "-", "/", "/usr", "/m//"+id()+"/", "/m/./"+id(), `/m\040`+id(), `/m\043`+id(), `/m\134`+id(), "/.m"+id(), "/é%"+id(), "/m-"+id(), "/run/m"+id(), "/proc", "/dev/shm", "/sys/fs/cgroup/x", "/boot/../m"+id(), "/m"+strings.Repeat("ab-", r.IntN(30))+id(), "./m"+id())
		kind := one("ext4", "ext4", "ext4", "xfs", "vfat", "btrfs", "auto", "swap", "swap", "tmpfs", "nfs", "nfs4", "cifs", "none", "fuse.sshfs", "autofs", "udf,iso9660", "")
		var options []string
		for range r.IntN(5) {
			options = append(options, one("defaults", "ro", "rw", "noatime", "nofail", "fail", "noauto", "auto", "NoAuto", "_netdev", "bg", "fg", "ignore", "bind", "loop", "x-systemd.automount", "x-systemd.automount=no", "comment=systemd.automount",
				"x-systemd.device-timeout="+one("5", "5s", "1min 3s", "infinity", "abc", "", "0", "1.5h", "3m2"), "x-systemd.mount-timeout="+one("7", "abc", "infinity"), "x-systemd.idle-timeout="+one("9", "x"), "x-systemd.wanted-by="+one("a.target", "b.service"),
				"x-systemd.required-by=c.service", "x-systemd.requires="+one("/m", "foo", "dev-sdb.device", "/dev/sdb", "a%b", "/a/../b", "*", "x.foo", "@.service"), "x-systemd.before="+one("/m", "b.service"), "x-systemd.after="+one("", "", "/m%", "q.target"), "x-systemd.requires-mounts-for="+one("/q", "rel", "/a%b", ""), "x-systemd.growfs", "x-systemd.makefs", "x-systemd.rw-only", "pri=3", "discard", "", `a\134`, `ro\`, `no\040fail`, "x-initrd.mount", "comment=systemd.device-timeout=4", "x-systemd.wanted-by", "nofail=1", "x-systemd.requires"))
			if r.IntN(200) == 0 {
				options = append(options, one("x-systemd.device-timeout", "x-systemd.mount-timeout", "x-systemd.idle-timeout"))
			}
		}
		fields := []string{spec, dir, kind, strings.Join(options, ","), one("0", "0", "1", "x", "-1", "0x1", "1.5", "noatime"), one("0", "1", "2", "2\r", "x", "99999999999", "4294967296", "+2", "-1"), "junk", "# said"}
		fields = fields[:min(len(fields), 2+r.IntN(7))]
		b.WriteString(one("", "", "", " ", "\t ", "#") + strings.Join(fields, one(" ", "\t", "  ")) + one("\n", "\n", "\n", " \n", "\r\n", "\n\n"))
		if r.IntN(150) == 0 {
			b.WriteString("LABEL=n" + id() + " /n" + id() + "\x00 ext4\n")
		}
		if r.IntN(150) == 0 {
			b.WriteString("LABEL=l" + id() + " /l" + id() + " ext4 " + strings.Repeat("ro,", 1300+r.IntN(200)) + "nofail 0 2\n")
		}
	}
	return b.String()
}
