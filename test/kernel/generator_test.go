package kernel

import (
	"errors"
	"fmt"
	"io/fs"
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
	"fundus/internal/machine"
	"fundus/test/amount"
)

// generate has systemd's own generator make units of each table, in a root of its own. It
// is no container there, in which swap would be left out.
const generate = `mount -t proc proc /proc && mount -t sysfs sys /sys && cd / || exit 9
for f in /tables/*; do
	cp $f /etc/fstab; mkdir -p /units/${f##*/}/n /units/${f##*/}/e /units/${f##*/}/l
	/lib/systemd/system-generators/systemd-fstab-generator /units/${f##*/}/n /units/${f##*/}/e /units/${f##*/}/l 2>/dev/null
done; true`

// TestGenerator: of each line, systemd's generator makes the unit that is foretold: name,
// device, place, kind, options, times, check, and what pulls it in; and no other.
func TestGenerator(t *testing.T) {
	root := generatorRoot(t)
	tables := oddTables()
	n := amount.Of(20, 200)
	for i := range n {
		tables = append(tables, randomTable(amount.Rand(7000+i)))
	}
	for i, text := range tables {
		if err := os.WriteFile(filepath.Join(root, "tables", fmt.Sprintf("%04d", i)), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("/bin/bash", "-c", generate)
	cmd.SysProcAttr = &syscall.SysProcAttr{Chroot: root, Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID}
	cmd.Dir = "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	lines := 0
	for i, text := range tables {
		foretold := fstab.Read(fstab.Parse([]byte(text)), follower(root))
		lines += len(foretold)
		want := foretell(foretold, checkers(root))
		got := generated(t, filepath.Join(root, "units", fmt.Sprintf("%04d", i), "n"))
		if slices.ContainsFunc(foretold, func(u fstab.Unit) bool { return u.Where == "/" && u.None != "" }) { // given up, but the check was linked before
			got, want = without(got, rootChecked), without(want, rootChecked)
		}
		if at := slices.IndexFunc(foretold, func(u fstab.Unit) bool { return u.None == fstab.Dies }); at >= 0 { // it may have come far enough to write it
			dying, waits := unitOf(foretold[at])+" what", unit.Name(foretold[at].What, "device")+" waits"
			got = slices.DeleteFunc(got, func(fact string) bool { return strings.HasPrefix(fact, dying) || strings.HasPrefix(fact, waits) })
			want = slices.DeleteFunc(want, func(fact string) bool { return strings.HasPrefix(fact, waits) })
		}
		if !slices.Equal(got, want) {
			t.Errorf("table %d:\n%s\n-- generated, not foretold:\n%s\n-- foretold, not generated:\n%s", i, text, less(got, want), less(want, got))
		}
	}
	fmt.Printf("kernel proof: %d lines in %d tables (seed %d): systemd's generator makes of each what is foretold: %v\n", lines, len(tables), amount.Seed(), !t.Failed())
}

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
	for _, d := range []string{"tables", "units", "srv/real", "srv/deep/er"} {
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

// foretell writes what is foretold of each unit as facts, one a line.
func foretell(units []fstab.Unit, checked func(kind string) bool) (out []string) {
	for _, u := range units {
		if u.None != "" {
			continue
		}
		name := unitOf(u)
		pulled := name
		if u.Automount {
			pulled = strings.TrimSuffix(name, ".mount") + ".automount"
			out = append(out, fmt.Sprintf("%s idle %v", pulled, span(u.Idle)))
		}
		kind := u.Entry.Type
		if kind == "auto" || u.Entry.IsSwap() {
			kind = ""
		}
		check := u.Check && checked(u.Entry.Type)
		if check && u.Where == "/" {
			out = append(out, rootChecked)
		}
		options := strings.Join(u.Options, ",")
		if options == "defaults" {
			options = ""
		}
		out = append(out, fmt.Sprintf("%s what %q where %q type %q options %q times %v check %v late %v", name, u.What, u.Where, kind, options, span(u.Mount), check && u.Where != "/", u.Late))
		for _, by := range u.By {
			out = append(out, fmt.Sprintf("%s.%s %s", by.Target, map[fstab.Tie]string{fstab.Required: "requires", fstab.Wanted: "wants"}[by.Tie], pulled))
		}
		if u.Device != "" {
			out = append(out, fmt.Sprintf("%s waits %q", unit.Name(u.What, "device"), u.Device))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func unitOf(u fstab.Unit) string {
	if u.Entry.IsSwap() {
		return unit.Name(u.What, "swap")
	}
	return unit.Name(u.Where, "mount")
}

// generated reads the same facts from the units that the generator wrote. A unit that it
// gave up has no link and no section of its own.
func generated(t *testing.T, dir string) (out []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		base := filepath.Base(path)
		switch {
		case err != nil || d.IsDir():
			return err
		case d.Type()&fs.ModeSymlink != 0:
			if base == "systemd-fsck-root.service" {
				out = append(out, rootChecked)
			} else if !strings.HasPrefix(base, "systemd-") {
				out = append(out, strings.TrimSuffix(rel, "/"+base)+" "+base)
			}
			return nil
		}
		data, err := os.ReadFile(path)
		get := func(key string) string { return strings.ReplaceAll(setting(string(data), key), "%%", "%") }
		switch {
		case strings.HasSuffix(base, ".automount"):
			if get("Where") != "" {
				out = append(out, fmt.Sprintf("%s idle %v", base, span(get("TimeoutIdleSec"))))
			}
		case strings.HasSuffix(base, ".mount") || strings.HasSuffix(base, ".swap"):
			if get("What") == "" && get("Where") == "" {
				return err
			}
			check := strings.Contains(string(data), "Requires=systemd-fsck@") || strings.Contains(string(data), "Wants=systemd-fsck@")
			options := get("Options")
			if strings.HasSuffix(base, ".swap") { // as they stand, with empty ones
				if options = strings.Join(fstab.Split(options), ","); options == "defaults" {
					options = ""
				}
			}
			late := strings.HasSuffix(base, ".mount") && !strings.Contains(string(data), "Before=local-fs.target\n") && !strings.Contains(string(data), "Before=remote-fs.target\n")
			out = append(out, fmt.Sprintf("%s what %q where %q type %q options %q times %v check %v late %v", base, get("What"), get("Where"), get("Type"), options, span(get("TimeoutSec")), check, late))
		case base == "50-device-timeout.conf":
			out = append(out, fmt.Sprintf("%s waits %q", strings.TrimSuffix(filepath.Base(filepath.Dir(path)), ".d"), get("JobRunningTimeoutSec")))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// setting is the value of a key to the byte: what a unit's own syntax makes of it is another
// matter.
func setting(text, key string) string {
	for line := range strings.Lines(text) {
		if v, ok := strings.CutPrefix(line, key+"="); ok {
			return strings.TrimSuffix(v, "\n")
		}
	}
	return ""
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

const rootChecked = "the root is checked"

func without(facts []string, fact string) []string {
	return slices.DeleteFunc(facts, func(f string) bool { return f == fact })
}

func less(a, b []string) string {
	return strings.Join(slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) }), "\n")
}

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
				"x-systemd.required-by=c.service", "x-systemd.requires="+one("/m", "foo", "dev-sdb.device"), "x-systemd.after=", "x-systemd.rw-only", "pri=3", "discard", "", `a\134`, `ro\`, `no\040fail`, "x-initrd.mount", "comment=systemd.device-timeout=4", "x-systemd.wanted-by", "nofail=1", "x-systemd.requires"))
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
