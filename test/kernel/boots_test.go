//go:build proof

package kernel

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/test/amount"
)

// reportUnits have the guest say what became of a boot: when all targets are reached or have
// failed, or in the emergency shell. What no boot of these needs is masked.
func reportUnits() map[string]string {
	files := map[string]string{
		"etc/systemd/system/report.service":                              "[Unit]\nDefaultDependencies=no\nAfter=sysinit.target rescue.target graphical.target multi-user.target\n[Service]\nStandardOutput=tty\nStandardError=tty\nTTYPath=/dev/console\nExecStart=/init report\n",
		"etc/systemd/system/report-shell.service":                        "[Unit]\nDefaultDependencies=no\n[Service]\nStandardOutput=tty\nStandardError=tty\nTTYPath=/dev/console\nExecStart=/init report\n",
		"etc/systemd/system/graphical.target.wants/report.service":       "-> ../report.service",
		"etc/systemd/system/emergency.target.wants/report-shell.service": "-> ../report-shell.service",
		"etc/systemd/system/emergency.service.d/quiet.conf":              "[Service]\nExecStart=\nExecStart=/bin/true\nRemainAfterExit=yes\n",
		"etc/hostname": "fernhill\n",
	}
	for _, name := range []string{"dbus.service", "dbus.socket", "systemd-logind.service", "systemd-networkd.service", "systemd-tmpfiles-setup.service", "systemd-tmpfiles-setup-dev.service", "systemd-tmpfiles-clean.timer", "systemd-sysctl.service",
		"systemd-sysusers.service", "systemd-firstboot.service", "systemd-machine-id-commit.service", "systemd-random-seed.service", "systemd-update-utmp.service", "systemd-update-utmp-runlevel.service", "systemd-binfmt.service", "systemd-modules-load.service",
		"getty.target", "apt-daily.timer", "apt-daily-upgrade.timer", "dpkg-db-backup.timer", "e2scrub_all.timer", "e2scrub_reap.service", "fstrim.timer", "systemd-pcrphase.service", "systemd-pcrphase-sysinit.service", "systemd-pstore.service",
		"sys-kernel-debug.mount", "sys-kernel-tracing.mount", "sys-kernel-config.mount", "sys-fs-fuse-connections.mount", "dev-hugepages.mount", "dev-mqueue.mount", "proc-sys-fs-binfmt_misc.automount", "kmod-static-nodes.service", "systemd-journal-flush.service"} {
		files["etc/systemd/system/"+name] = "-> /dev/null"
	}
	return files
}

// machines are what all boots are made of: the images of a root and of two other disks, which
// Fundus has made, and of which each machine has a copy.
//
// The kernel's own way to write beside an image is not taken: where one request reads of both,
// what stands behind the first change of sides comes from a wrong place (do_io in
// arch/um/drivers/ubd_kern.c counts the last piece alone).
type machines struct {
	j     *judge
	dir   string
	bases []string
	root  string // its PARTUUID
	id    string // its UUID
}

// newMachines makes the images in one machine, and fills the root.
func newMachines(t *testing.T, j *judge) *machines {
	t.Helper()
	dir, err := os.MkdirTemp(memoryDir(), "fundus-boots-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m := &machines{j: j, dir: dir}
	root := j.root(t)
	extra := filepath.Join(root, "extra")
	for path, text := range reportUnits() {
		at := filepath.Join(extra, path)
		err := os.MkdirAll(filepath.Dir(at), 0o755)
		if link, is := strings.CutPrefix(text, "-> "); is {
			err = errors.Join(err, os.Symlink(link, at))
		} else {
			err = errors.Join(err, os.WriteFile(at, []byte(text), 0o644))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	j.giveModules(t, extra, "autofs4", "vfat", "nls_cp437", "nls_iso8859-1", "nls_ascii", "nls_utf8")
	for i, size := range []int64{480 << 20, 800 << 20, 64 << 20} {
		at := filepath.Join(dir, fmt.Sprintf("base%d.img", i))
		f, err := os.Create(at)
		if err := errors.Join(err, f.Truncate(size), f.Close()); err != nil {
			t.Fatal(err)
		}
		m.bases = append(m.bases, at)
	}
	commands := []string{
		"table new ubda --commit", "partition add ubda --size 400MiB --type root@x86-64 --name fernhill-root --commit", "partition add ubda --size 16MiB --type swap --commit", "partition add ubda --size 24MiB --type /home --commit", "format ubda3 ext4 --label homes --commit", "format ubda1 ext4 --label fernhill --commit", "format ubda2 swap --label spare --commit",
		"table new ubdb --commit", "partition add ubdb --size 64MiB --size 320MiB --size 64MiB --size 64MiB --size 64MiB --size 64MiB --commit", "partition add ubdb --size 64MiB --name blank --commit",
		"format ubdb1 ext4 --label herbarium --commit", "format ubdb2 xfs --label scans --commit", "format ubdb3 fat --label CARD --commit", "format ubdb4 swap --label rest --commit", "format ubdb5 ext4 --label seeds --commit", "format ubdb6 ext2 --label mosses --commit",
		"table new ubdc --commit", "partition add ubdc --size 32MiB --commit", "format ubdc1 ext4 --label annex --commit",
		"copy ubda1 " + debianBase(t), "survey --json",
	}
	a := j.run(t, start{root: root, images: m.bases, commands: commands})
	said := a[len(a)-1].Said
	for i, s := range said[:len(said)-1] {
		if !strings.HasSuffix(s, fine) && !strings.HasPrefix(commands[i], "copy") || strings.HasPrefix(commands[i], "copy") && s != "filled" {
			t.Fatalf("%s: %s", commands[i], s)
		}
	}
	_, rest, found := strings.Cut(said[len(said)-1], `"partuuid": "`)
	m.root, _, _ = strings.Cut(rest, `"`)
	_, id, also := strings.Cut(rest, `"uuid": "`) // of what it holds
	if m.id, _, _ = strings.Cut(id, `"`); !found || !also {
		t.Fatalf("no identifiers of the root: %s", said[len(said)-1])
	}
	return m
}

// described is a machine, and what is foretold of it; core/boot has the same of all that stand
// there.
type described struct {
	Name   string              `json:"name"`
	Always bool                `json:"always"`
	Fstab  []string            `json:"fstab"`
	Files  map[string][]string `json:"files"`
	Words  []string            `json:"words"`
	Damage []string            `json:"damage"`
	Is     []string            `json:"foretold"`

	ask   []string // what is foretold, in place of today's boot
	root  string   // how the kernel is told of its root, with more words; "" for one that it finds
	disks string   // the letters of the images in the order in which they are plugged in; z is the task's
	only  bool     // it is foretold, and does not boot
}

// foretold is what Fundus says before a boot.
type foretold struct {
	Verdict  string         `json:"verdict"`
	Summary  string         `json:"summary"`
	Supposed []string       `json:"supposed"`
	Why      string         `json:"why"`
	Delay    int            `json:"delay_seconds"`
	Lines    []foretoldLine `json:"lines"`
	Notes    []string       `json:"notes"`
}

type foretoldLine struct {
	Number  int    `json:"line"`
	Unit    string `json:"unit_file"`
	Spec    string `json:"spec"`
	Dir     string `json:"mount_point"`
	Type    string `json:"type"`
	Device  string `json:"device"`
	Outcome string `json:"outcome"`
	Reason  string `json:"reason"`
	Wait    int    `json:"wait_seconds"`
	Cause   bool   `json:"cause"`
	Options string `json:"options"`
}

// became is what the guest reports; see there.
type became struct {
	Units  map[string]map[string]string
	Mounts string
	Swaps  string
	Jobs   []struct {
		Unit, How string
		At        int64
	}
	log string
}

// start boots the machine, and gives what was foretold and what became.
func (m *machines) start(t *testing.T, d described) (said foretold, is became) {
	t.Helper()
	dir, err := os.MkdirTemp(m.dir, "machine-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	files := map[string]string{"/etc/fstab": strings.Join(d.Fstab, "\n") + "\n"}
	for path, lines := range d.Files {
		if files[path] = strings.Join(lines, "\n") + "\n"; strings.HasPrefix(lines[0], "-> ") {
			files[path] = lines[0]
		}
	}
	task, err := json.Marshal(map[string]any{"Files": files, "Ask": append([]string{"rehearse", "--json"}, d.ask...), "NoBoot": d.only})
	if err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(dir, "task.img")
	if err := errors.Join(os.WriteFile(at, task, 0o644), os.Truncate(at, 1<<20)); err != nil {
		t.Fatal(err)
	}
	name, more, _ := strings.Cut(cmp.Or(d.root, "PARTUUID="+m.root), " ")
	s := start{rootDisk: true, root: dir, rootName: name, memory: "640M"}
	if more != "" {
		s.boot = append(s.boot, more)
	}
	for i, letter := range cmp.Or(d.disks, "abcz") {
		if letter == 'z' {
			s.boot = append(s.boot, fmt.Sprintf("FERNHILL=ubd%c", 'a'+i))
			s.images = append(s.images, at)
			continue
		}
		image := m.copied(t, dir, int(letter-'a'))
		for _, at := range d.Damage {
			if strings.HasPrefix(at, fmt.Sprintf("ubd%c ", letter)) {
				overwritten(t, image, at)
			}
		}
		s.images = append(s.images, image)
	}
	s.boot = append(append(s.boot, "systemd.log_target=kmsg", "systemd.show_status=no", "printk.devkmsg=on", "log_buf_len=4M"), d.Words...)
	for attempt := 1; ; attempt++ {
		console, err := m.j.watched(t, s)
		said, is = heard(t, console)
		// A kernel that is a process now and then aborts.
		if d.root != "" && bytes.Contains(console, []byte("Unable to mount root fs")) {
			return foretold{}, is
		}
		if broken := said.Verdict == "" || is.Units == nil && !d.only; broken && attempt == 3 {
			t.Fatalf("the machine said too little (%v):\n%s", err, console)
		} else if !broken {
			return said, is
		}
		fmt.Printf("kernel proof: machine %q begins anew (%v)\n", d.Name, err)
		for i := range m.bases { // the first attempt wrote to them
			at := m.copied(t, dir, i)
			for _, damage := range d.Damage {
				if strings.HasPrefix(damage, fmt.Sprintf("ubd%c ", 'a'+i)) {
					overwritten(t, at, damage)
				}
			}
		}
	}
}

// overwritten puts bytes of 0xFF over a part of an image: "DISK FROM COUNT".
func overwritten(t *testing.T, image, damage string) {
	t.Helper()
	var disk string
	var from, count int64
	_, err := fmt.Sscanf(damage, "%s %d %d", &disk, &from, &count)
	f, errOpen := os.OpenFile(image, os.O_WRONLY, 0)
	if err := errors.Join(err, errOpen); err != nil {
		t.Fatal(err)
	}
	_, err = f.WriteAt(bytes.Repeat([]byte{0xFF}, int(count)), from)
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
}

// copied is a copy of one of the images, in which what is empty stays a hole.
func (m *machines) copied(t *testing.T, dir string, number int) string {
	t.Helper()
	at := filepath.Join(dir, fmt.Sprintf("disk%d.img", number))
	if out, err := exec.Command("cp", "--sparse=always", m.bases[number], at).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return at
}

// heard is what the guest said on its console.
func heard(t *testing.T, console []byte) (said foretold, is became) {
	t.Helper()
	for line := range strings.Lines(string(console)) {
		var err error
		switch name, text, _ := strings.Cut(strings.TrimSpace(line), " "); name {
		case "FORETOLD":
			err = json.Unmarshal([]byte(text), &said)
		case "LOG":
			is.log = text
		case "REPORT":
			err = json.Unmarshal([]byte(text), &is)
		}
		if err != nil {
			t.Fatalf("%v: %s", err, line)
		}
	}
	for i := range said.Lines { // documents say of swap that it is on, and is nowhere
		if l := &said.Lines[i]; l.Type == "swap" {
			l.Dir = cmp.Or(l.Dir, "none")
			if l.Outcome == "on" {
				l.Outcome = "mounted"
			}
		}
	}
	return said, is
}

// lines are what is foretold, as core/boot's table has it.
func (f foretold) lines() []string {
	out := []string{f.Summary}
	if f.Why != "" {
		out[0] += ": " + f.Why
	}
	for _, l := range f.Lines {
		at := fmt.Sprint(l.Number)
		if l.Unit != "" {
			at = l.Unit
		}
		out = append(out, fmt.Sprintf("%s %s: %s", at, l.Dir, inWords(l.Outcome)))
	}
	return append(out, f.Notes...)
}

// inWords is an outcome as the machines say it; documents have codes.
func inWords(outcome string) string {
	words := map[string]string{"not-at-boot": "not at boot", "network": "left to the network", "passed-over": "passed over", "left-out": "left out", "not-mounted": "not mounted",
		"delays": "delays the boot", "emergency-shell": "emergency shell"}
	return cmp.Or(words[outcome], outcome)
}

// verdict is what the boot came to.
func (r became) verdict() string {
	switch {
	case r.Units["emergency.target"]["ActiveState"] == "active":
		return "emergency-shell"
	case r.Units["multi-user.target"]["ActiveState"] == "active", r.Units["rescue.target"]["ActiveState"] == "active":
		return "up"
	}
	return "not reached"
}

// unitOf is the name of the unit that a line is for.
func unitOf(spec, dir, typ string) string {
	if typ == "swap" {
		return unit.Name(fstab.Node(spec), "swap")
	}
	return unit.Name(dir, "mount")
}

// judged compares what was foretold with what became.
func (r became) judged(f foretold) (wrong []string) {
	differ := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	want := "up"
	switch {
	case f.Verdict == "emergency-shell":
		want = f.Verdict
	case strings.Contains(f.Why, "is not reached"):
		want = "not reached"
	case f.Verdict == "unknown":
		want = r.verdict()
	}
	if got := r.verdict(); got != want {
		differ("foretold %q (%s), and it became %q", f.Verdict, f.Why, got)
	}
	up := want != "emergency-shell"
	mounted := map[string][]string{}
	for line := range strings.Lines(r.Mounts) {
		w := strings.Fields(line)
		dash := slices.Index(w, "-")
		mounted[fstab.Unescape(w[4])] = []string{w[dash+1], w[dash+2], w[5] + "," + w[dash+3]}
	}
	for _, l := range f.Lines {
		name := unitOf(l.Spec, l.Dir, l.Type)
		at, there := mounted[l.Dir]
		swap := l.Type == "swap"
		if swap {
			_, there = r.swapped(l.Device)
		}
		automount := strings.Contains(l.Reason, "at the first access") || strings.Contains(l.Reason, "the first access")
		switch {
		case l.Outcome == "mounted" && automount:
			if there && at[0] != "autofs" || r.Units[unit.Name(l.Dir, "automount")]["ActiveState"] != "active" {
				differ("line %d%s %s is to wait for the first access: %v, %v", l.Number, l.Unit, l.Dir, at, r.Units[unit.Name(l.Dir, "automount")])
			}
		case l.Outcome == "mounted" && !there && up:
			differ("line %d%s %s is foretold as mounted, and is not (%s)", l.Number, l.Unit, l.Dir, r.why(name))
		case l.Outcome == "mounted" && there && !swap && l.Device != "" && at[1] != "/dev/"+l.Device && l.Dir != "/":
			differ("line %d%s %s: %s is mounted, foretold was %s", l.Number, l.Unit, l.Dir, at[1], l.Device)
		case l.Outcome == "mounted" && there && !swap && !strings.Contains(l.Reason, "given to it") && !strings.Contains(l.Reason, "which the kernel refuses") && !agrees(l.Options, at[2]):
			differ("line %d%s %s has the options %s, the line says %s", l.Number, l.Unit, l.Dir, at[2], l.Options)
		case l.Outcome == "mounted" && there && swap && !r.priority(l.Device, l.Options):
			differ("line %d%s: swap on %s has another priority than %s: %s", l.Number, l.Unit, l.Device, l.Options, r.Swaps)
		case slices.Contains([]string{"not-at-boot", "not-mounted", "left-out", "delays"}, l.Outcome) && there && (swap || at[0] != "autofs"):
			differ("line %d%s %s is mounted, foretold was %q: %s", l.Number, l.Unit, l.Dir, l.Outcome, l.Reason)
		}
		spec, absent := strings.CutPrefix(l.Reason, "no device has ")
		if l.Wait <= 0 || automount || !absent {
			continue
		}
		spec, _, _ = strings.Cut(spec, ";")
		device := unit.Name(fstab.Node(spec), "device")
		switch at, how := r.ended(device); {
		case f.Verdict == "emergency-shell" && !l.Cause && how == "": // it was not waited for to the end
		case how != "timed out" || at < int64(l.Wait)*1e6:
			differ("line %d%s is foretold to wait %vs for its device, which ended with %q at %v", l.Number, l.Unit, l.Wait, how, at)
		case l.Outcome == "delays" && up && !r.behind("systemd-user-sessions.service", device) && !r.behind("sysinit.target", device) && !r.behind("graphical.target", device) && want == "up":
			differ("line %d%s is foretold to hold up the boot, and nothing waited for it", l.Number, l.Unit)
		}
	}
	if ro := slices.Contains(strings.Split(mounted["/"][2], ","), "ro"); strings.Contains(f.Why, "stays read-only") != ro && up && !slices.ContainsFunc(f.Lines, func(l foretoldLine) bool { return l.Dir == "/" && strings.Contains(","+l.Options+",", ",ro,") }) {
		differ("the root is read-only: %v (%s)", ro, f.Why)
	}
	_, on := r.swapped("ubda2")
	home := mounted["/home"]
	for note, is := range map[string]bool{"ubda2 is swapped on": on, "ubda3 is mounted at /home": home != nil && home[1] == "/dev/ubda3"} {
		if byType := slices.Contains(f.Notes, note+", found by its type: no line says so"); byType != is && up && !strings.Contains(strings.Join(f.Notes, "; "), "is chance") {
			differ("%s: %v, foretold was %v", note, is, byType)
		}
	}
	for name, u := range r.Units {
		if u["ActiveState"] == "failed" && !f.failing(name) {
			differ("%s failed, which nobody foretold", name)
		}
	}
	return wrong
}

// failing reports whether a failed unit is that of a line which is foretold not to come, or the
// one that gives a root its options whose line names nothing.
func (f foretold) failing(name string) bool {
	return slices.ContainsFunc(f.Lines, func(l foretoldLine) bool {
		if name == "systemd-remount-fs.service" {
			return strings.Contains(l.Reason, "are not given to it") || strings.Contains(l.Reason, "which the kernel refuses")
		}
		return (unitOf(l.Spec, l.Dir, l.Type) == name || unit.Name(l.Dir, "automount") == name) && l.Outcome != "mounted"
	}) || strings.HasPrefix(name, "systemd-growfs@") // which only some kinds can, and nobody waits for
}

// agrees reports whether what the line asks of the kernel is so, as far as the kernel says it.
func agrees(line, kernel string) bool {
	has := strings.Split(kernel, ",")
	for _, o := range strings.Split(line, ",") {
		row, known := kind.Options("ext4").Find(o)
		kept := known && (row.To == mountopt.Boot || row.To == mountopt.Program || row.To == mountopt.Rights)
		own := kept || strings.HasPrefix(o, "uid=") || strings.HasPrefix(o, "gid=") || strings.HasPrefix(o, "umask=") || o == "exec" || o == "size=1m" || strings.HasPrefix(o, "pri=") || slices.Contains([]string{"", "defaults", "nofail", "noauto", "auto", "_netdev", "sw", "rw", "bind", "acl"}, o)
		if !own && !slices.Contains(has, o) {
			return false
		}
	}
	return true
}

func (r became) swapped(device string) (line string, there bool) {
	for line := range strings.Lines(r.Swaps) {
		if w := strings.Fields(line); len(w) > 4 && w[0] == "/dev/"+device {
			return line, true
		}
	}
	return "", false
}

func (r became) priority(device, options string) bool {
	line, _ := r.swapped(device)
	for _, o := range strings.Split(options, ",") {
		if p, ok := strings.CutPrefix(o, "pri="); ok {
			w := strings.Fields(line)
			return w[len(w)-1] == p
		}
	}
	return true
}

// ended is when and how the job of a unit failed.
func (r became) ended(name string) (at int64, how string) {
	for _, j := range r.Jobs {
		if j.Unit == name {
			return j.At, j.How
		}
	}
	return 0, ""
}

// behind reports whether a unit came up behind the failure of another one.
func (r became) behind(name, other string) bool {
	at, how := r.ended(other)
	var up int64
	_, _ = fmt.Sscan(r.Units[name]["ActiveEnterTimestampMonotonic"], &up)
	return how != "" && up >= at
}

func (r became) why(name string) string {
	_, how := r.ended(name)
	return fmt.Sprintf("%v %s", r.Units[name], how)
}

// proveBoots: machines really boot, and come to what was foretold. Of those that core/boot has a
// table of it is foretold as there; others are put together at random.
func proveBoots(t *testing.T, j *judge) {
	m := newMachines(t, j)
	data, err := os.ReadFile("../../core/boot/testdata/machines.json")
	var list []described
	if err := errors.Join(err, json.Unmarshal(data, &list)); err != nil {
		t.Fatal(err)
	}
	if !amount.Soak() {
		list = slices.DeleteFunc(list, func(d described) bool { return !d.Always })
	}
	const drawn = 12
	fixed, rng := len(list), amount.Rand(23)
	for i := range amount.Of(0, drawn) {
		list = append(list, drawnMachine(rng, i))
	}
	for _, d := range list {
		t.Run(d.Name, func(t *testing.T) {
			said, is := m.start(t, d)
			if d.Is != nil && !slices.Equal(said.lines(), d.Is) {
				t.Errorf("foretold is\n%s\nand not\n%s", strings.Join(said.lines(), "\n"), strings.Join(d.Is, "\n"))
			}
			for _, w := range is.judged(said) {
				t.Error(w)
			}
			if t.Failed() {
				t.Logf("%s\n%s\nfailed: %v\n%s", strings.Join(d.Fstab, "\n"), strings.Join(said.lines(), "\n"), is.Jobs, is.log)
			}
		})
	}
	t.Run("the names of disks are shuffled", func(t *testing.T) { m.shuffled(t) })
	t.Run("the root by its names", func(t *testing.T) { m.roots(t) })
	if amount.Soak() {
		t.Run("a disk is not plugged in", func(t *testing.T) { m.unplugged(t) })
	}
	fmt.Printf("kernel proof: %d machines and %d drawn ones (seed %d) came to what was foretold: %v\n", fixed, len(list)-fixed, amount.Seed(), !t.Failed())
}

// shuffled: what is foretold of disks that are found in another order becomes of them there.
func (m *machines) shuffled(t *testing.T) {
	d := described{Fstab: []string{"LABEL=fernhill / ext4 defaults 0 1", "/dev/ubdb6 /srv/mosses ext2 nofail,x-systemd.device-timeout=25s", "/dev/ubdc1 /srv/annex ext4 nofail,x-systemd.device-timeout=25s", "LABEL=seeds /srv/seeds ext4 defaults"}, ask: []string{"--names-shuffled"}, only: true}
	said, _ := m.start(t, d)
	_, order, is := strings.Cut(strings.Join(said.Supposed, ""), "shuffled: ")
	now := map[string]string{}
	for pair := range strings.SplitSeq(order, ", ") {
		from, to, _ := strings.Cut(pair, " is ")
		now[to] = from
	}
	letters := map[string]string{"ubda": "a", "ubdb": "b", "ubdc": "c", "ubdd": "z"}
	for _, name := range []string{"ubda", "ubdb", "ubdc", "ubdd"} {
		d.disks += letters[now[name]]
	}
	if !is || len(d.disks) != 4 {
		t.Fatalf("shuffled how? %v", said.Supposed)
	}
	d.ask, d.only = nil, false
	truth, became := m.start(t, d)
	for _, w := range became.judged(truth) {
		t.Error(w)
	}
	for i, l := range said.Lines {
		other := truth.Lines[i]
		device := other.Device // as it is called today
		if len(device) > 4 {
			device = now[device[:4]] + device[4:]
		}
		if l.Outcome != other.Outcome && l.Outcome != "unknown" || l.Device != device || l.Outcome == "unknown" && strings.HasPrefix(l.Spec, "LABEL=") {
			t.Errorf("line %d is foretold as %s on %q (%s), and is %s on %q", l.Number, l.Outcome, l.Device, l.Reason, other.Outcome, device)
		}
	}
}

// roots: the kernel alone finds its root by the names by which that is foretold, and by no other.
func (m *machines) roots(t *testing.T) {
	forms := []string{"UUID=" + m.id, "PARTUUID=" + strings.ToUpper(m.root), "/dev/ubda1", "PARTLABEL=fernhill-root", "98:1", "LABEL=fernhill", "PARTUUID=5eed5eed-0000-4000-8000-000000000bad", "/dev/ubda9", "98:77", "/dev/ubda1 rootfstype=xfs", "/dev/disk/by-label/fernhill"}
	for _, form := range forms[:amount.Of(2, len(forms))] {
		d := described{Name: form, Fstab: []string{"LABEL=fernhill / ext4 defaults 0 1"}, ask: []string{"--entry=it"}, only: true}
		d.Files = map[string][]string{"/boot/loader/entries/it.conf": {"linux /vmlinuz", "options ro root=" + form}}
		said, _ := m.start(t, d)
		d.ask, d.root = nil, form
		truth, _ := m.start(t, d)
		if lost := truth.Verdict == ""; lost != (said.Verdict == "no-root") {
			t.Errorf("root=%s: foretold is %q (%s), and the kernel did not find it: %v", form, said.Verdict, said.Why, lost)
		}
	}
}

// unplugged: what is foretold without a disk becomes of the machine without it.
func (m *machines) unplugged(t *testing.T) {
	d := described{Fstab: []string{"LABEL=fernhill / ext4 defaults 0 1", "LABEL=annex /srv/annex ext4 x-systemd.device-timeout=4s", "LABEL=seeds /srv/seeds ext4 defaults"}, ask: []string{"--absent=ubdc"}, only: true}
	said, _ := m.start(t, d)
	d.ask, d.only, d.disks = nil, false, "abz"
	truth, is := m.start(t, d)
	if !slices.Equal(said.lines(), truth.lines()) {
		t.Errorf("foretold without the disk:\n%s\nand it is\n%s", strings.Join(said.lines(), "\n"), strings.Join(truth.lines(), "\n"))
	}
	for _, w := range is.judged(said) {
		t.Error(w)
	}
}

// drawnMachine puts lines together at random, of devices that are there and of one that is gone.
func drawnMachine(rng *rand.Rand, number int) described {
	d := described{Name: fmt.Sprintf("drawn %d", number), Fstab: []string{"LABEL=fernhill / ext4 " + pick(rng, "defaults", "errors=remount-ro", "noatime", "ro") + " 0 1"}}
	kinds := map[string]string{"herbarium": "ext4", "scans": "xfs", "CARD": "vfat", "seeds": "ext4", "mosses": "ext2", "annex": "ext4", "gone": "ext4"}
	places := []string{"/srv", "/srv/a", "/srv/a/b", "/media/x", "/media/x/y", "/var/deep", "/opt"}
	rng.Shuffle(len(places), func(a, b int) { places[a], places[b] = places[b], places[a] })
	labels := slices.Sorted(maps.Keys(kinds))
	rng.Shuffle(len(labels), func(a, b int) { labels[a], labels[b] = labels[b], labels[a] })
	for i := range 3 + rng.IntN(3) {
		label := labels[i]
		options := []string{pick(rng, "defaults", "noatime", "nosuid", "ro")}
		for _, o := range []string{"nofail", "noauto", "x-systemd.automount", "_netdev", "x-systemd.wanted-by=multi-user.target", "x-systemd.growfs", "x-systemd.after=local-fs-pre.target", "acl"} {
			if rng.IntN(7) == 0 || o == "nofail" && rng.IntN(3) > 0 {
				options = append(options, o)
			}
		}
		if label == "gone" {
			options = append(options, fmt.Sprintf("x-systemd.device-timeout=%ds", 3+rng.IntN(3)))
		}
		kind := kinds[label]
		if rng.IntN(9) == 0 {
			kind = pick(rng, "auto", "xfs")
		}
		d.Fstab = append(d.Fstab, fmt.Sprintf("LABEL=%s %s %s %s 0 %d", label, places[i], kind, strings.Join(options, ","), rng.IntN(3)))
	}
	if rng.IntN(2) == 0 {
		d.Fstab = append(d.Fstab, pick(rng, "LABEL=rest none swap sw,pri=5", "LABEL=lost none swap sw,nofail,x-systemd.device-timeout=4s", "/dev/disk/by-label/rest none swap noauto"))
	}
	if rng.IntN(3) == 0 {
		d.Words = []string{pick(rng, "ro", "systemd.swap=0", "systemd.gpt_auto=0")}
	}
	return d
}

func pick(rng *rand.Rand, from ...string) string { return from[rng.IntN(len(from))] }
