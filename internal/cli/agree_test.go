package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/schemes"
	"fundus/test/amount"
)

// documented runs a command on the world's bench and reads its document.
func documented(t *testing.T, w *world, line string, doc any) int {
	t.Helper()
	var out, errs bytes.Buffer
	e := *w.env
	e.o = options{}
	e.Out, e.Err = &out, &errs
	code := Run(t.Context(), &e, splitWords(line))
	if doc != nil {
		if err := json.Unmarshal(out.Bytes(), doc); err != nil {
			t.Fatalf("%s: %v: %s%s", line, err, out.String(), errs.String())
		}
	}
	return code
}

// The documents, as far as they are held against each other.
type (
	findings struct {
		Findings []struct{ ID, Severity, Thing string }
	}
	line struct {
		Line    int
		Dir     string `json:"mount_point"`
		Spec    string
		Type    string
		Device  string
		Options string
		Outcome string
		Reason  string
	}
	booted struct {
		Verdict string
		Lines   []line
	}
	device struct {
		Name, Form string
		UsedAt     []string `json:"used_at"`
		InKernel   bool     `json:"in_kernel"`
	}
	surveyed struct{ Devices []device }
)

// random is a machine: its disks are written beside the bench, and its fstab by hand.
type random struct {
	rng   *rand.Rand
	t     *testing.T
	specs []string
}

func pick[C any](rng *rand.Rand, list ...C) C { return list[rng.IntN(len(list))] }

// fill gives a device a content, which may be damaged, or reach past its end.
func (r *random) fill(dev block.Device) {
	word := pick(r.rng, "ext4", "ext4", "ext3", "ext2", "fat", "swap", "")
	if word == "" {
		return
	}
	m, err := kind.FindMaker(word)
	if err != nil {
		r.t.Fatal(err)
	}
	label, id := fmt.Sprintf("SEEDS%d", r.rng.IntN(1000)), uuid.Must(uuid.NewRandomFromReader(randomBytes{r.rng}))
	order := fs.Order{Label: label, ID: m.ID.Fresh(id), Time: time.Unix(1772352000, 0), Fresh: uuid.New}
	if _, err := m.Make(r.t.Context(), dev, order); err != nil {
		return // too small for it
	}
	r.specs = append(r.specs, "LABEL="+label, "UUID="+order.ID.String())
	if r.rng.IntN(3) == 0 {
		b := make([]byte, 1+r.rng.IntN(600))
		for i := range b {
			b[i] = byte(r.rng.Uint32())
		}
		if err := block.WriteBytes(dev, b, int64(r.rng.IntN(16<<10))); err != nil {
			r.t.Fatal(err)
		}
	}
}

type randomBytes struct{ rng *rand.Rand }

func (r randomBytes) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(r.rng.Uint32())
	}
	return len(p), nil
}

// disk writes a whole one: bare, or with a table, which may be damaged.
func (r *random) disk(dev block.Device) {
	if r.rng.IntN(4) == 0 {
		r.fill(dev)
		return
	}
	scheme := pick(r.rng, table.GPT, table.MBR)
	e, err := schemes.New(dev, schemes.Wanted{Scheme: scheme, Step: quantity.MiB, ID: uuid.Must(uuid.NewRandomFromReader(randomBytes{r.rng}))})
	if err != nil {
		r.t.Fatal(err)
	}
	typ, _ := table.ParseType(scheme, "linux")
	at := uint64(2048)
	for range 1 + r.rng.IntN(3) {
		count := uint64(16+r.rng.IntN(30)) * 2048
		if (at+count)*512 > uint64(dev.Size())-2<<20 {
			break
		}
		id := uuid.Must(uuid.NewRandomFromReader(randomBytes{r.rng})).String()
		if err := e.Add(table.Partition{Span: extent.Span{Start: at, Count: count}, Type: typ, UUID: id}); err != nil {
			r.t.Fatal(err)
		}
		part, err := block.NewSlice(dev, int64(at)*512, int64(count)*512)
		if err != nil {
			r.t.Fatal(err)
		}
		r.fill(part)
		at += count
	}
	if _, err := e.Write(dev); err != nil {
		r.t.Fatal(err)
	}
	for _, p := range e.Model().Parts {
		r.specs = append(r.specs, "PARTUUID="+p.UUID)
	}
	damage := map[int][2]int64{0: {512, 512}, 1: {dev.Size() - 512, 512}, 2: {446, 16}, 3: {446 + 8, 1}, 4: {446 + 16 + 12, 4}}
	if d, is := damage[r.rng.IntN(15)]; is {
		b := make([]byte, d[1])
		for i := range b {
			b[i] = byte(r.rng.Uint32())
		}
		if err := block.WriteBytes(dev, b, d[0]); err != nil {
			r.t.Fatal(err)
		}
	}
}

// line is one of fstab, right or wrong.
func (r *random) line(n int, names []string) string {
	specs := append(slices.Clone(r.specs), "UUID=5eed5eed-0000-4000-8000-00000000dead", "/dev/"+pick(r.rng, names...), "/dev/"+pick(r.rng, names...)+"1", "tmpfs", "LABEL=nowhere")
	typ := pick(r.rng, "auto", "ext4", "ext4", "ext3", "vfat", "swap", "xfs", "ext4,vfat")
	dir := pick(r.rng, fmt.Sprintf("/srv/%d", n), fmt.Sprintf("/srv/%d/below", max(n-1, 0)), "/etc/hostname", "/mnt")
	if typ == "swap" {
		dir = "none"
	}
	spec := pick(r.rng, specs...)
	if spec == "tmpfs" {
		typ = "tmpfs"
	}
	options := []string{pick(r.rng, "nofail", "nofail", "nofail", "defaults"), pick(r.rng, "defaults", "defaults", "noatime", "ro", "rw,noexec")}
	for range r.rng.IntN(3) {
		options = append(options, pick(r.rng, "nofail", "nofail", "noauto", "x-systemd.automount", "frobnicate", "remount", "uid=curator", "data=writeback", "commit=5", "x-systemd.device-timeout=5s", "user", "X-mount.mkdir"))
	}
	return fmt.Sprintf("%s %s %s %s 0 %d", spec, dir, typ, strings.Join(options, ","), pick(r.rng, 0, 2))
}

// TestRoomsAgree: of random machines verify, survey, rehearse, the check of fstab and a boot of the
// bench never contradict each other, by what their documents say.
func TestRoomsAgree(t *testing.T) {
	total, verdicts := amount.Of(40, 300), map[string]int{}
	for i := range total {
		w := newWorld(t)
		r := &random{rng: amount.Rand(7000 + i), t: t}
		documented(t, w, "bench new fernhill --host fernhill", nil)
		var names []string
		for d := range 1 + r.rng.IntN(4) {
			name := fmt.Sprintf("sd%c", 'b'+d)
			names = append(names, name)
			documented(t, w, fmt.Sprintf("bench disk add %s --size %dMiB --serial X-%d", name, pick(r.rng, 8, 64, 128, 200), d), nil)
			at := filepath.Join("fernhill", "disks", name+".img")
			if d > 0 && r.rng.IntN(8) == 0 { // a copy of the one before
				data, err := os.ReadFile(filepath.Join("fernhill", "disks", names[d-1]+".img"))
				st, errStat := os.Stat(at)
				if err == nil && errStat == nil && st.Size() == int64(len(data)) {
					err = os.WriteFile(at, data, 0o600)
				}
				if err != nil {
					t.Fatal(err)
				}
				continue
			}
			dev, err := file.Open(at, true, block.DefaultGeometry)
			if err != nil {
				t.Fatal(err)
			}
			r.disk(dev)
			if err := dev.Close(); err != nil {
				t.Fatal(err)
			}
		}
		at := filepath.Join("fernhill", "root", "etc", "fstab")
		text, err := os.ReadFile(at)
		if err != nil {
			t.Fatal(err)
		}
		for n := range 1 + r.rng.IntN(6) {
			text = append(text, r.line(n, names)+"\n"...)
		}
		if err := os.WriteFile(at, text, 0o644); err != nil {
			t.Fatal(err)
		}
		for _, wrong := range contradictions(t, w, verdicts) {
			t.Errorf("machine %d: %s\n%s", i, wrong, text)
		}
	}
	fmt.Printf("rooms: %d random machines without a contradiction: %v; seed %d\n", total, verdicts, amount.Seed())
}

// contradictions holds the documents of one machine against each other.
func contradictions(t *testing.T, w *world, verdicts map[string]int) (wrong []string) {
	differ := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	var all, check findings
	var said, came booted
	var after surveyed
	documented(t, w, "verify --json", &all)
	documented(t, w, "fstab check --json", &check)
	documented(t, w, "rehearse --json", &said)
	documented(t, w, "bench boot --json", &came)
	documented(t, w, "survey --json", &after)
	verdicts[said.Verdict]++
	if said.Verdict != came.Verdict || fmt.Sprint(said.Lines) != fmt.Sprint(came.Lines) {
		differ("rehearsed was %s %v, booted %s %v", said.Verdict, said.Lines, came.Verdict, came.Lines)
	}
	about := map[string][]string{} // severities by line
	bad := 0
	for _, f := range all.Findings {
		if f.Severity == "error" || f.Severity == "warning" {
			bad++
		}
		if strings.HasPrefix(f.Thing, "/etc/fstab") {
			about[f.Thing] = append(about[f.Thing], f.Severity+" "+f.ID)
		}
	}
	for _, f := range check.Findings {
		if !slices.Contains(about[f.Thing], f.Severity+" "+f.ID) && f.ID != "fstab-emptied" {
			differ("fstab check has %s on %s, and verify has not", f.ID, f.Thing)
		}
	}
	if bad == 0 && said.Verdict != "comes up" {
		differ("verify is in order, and the boot %q", said.Verdict)
	}
	mounted := map[string]string{}
	for _, d := range after.Devices {
		for _, where := range d.UsedAt {
			mounted[where] = d.Name
		}
	}
	for _, l := range said.Lines {
		thing := fmt.Sprintf("/etc/fstab:%d", l.Line)
		mine := strings.Join(about[thing], ",")
		lost := slices.Contains([]string{"emergency shell", "not mounted", "delays the boot", "left out"}, l.Outcome)
		lenient := strings.Contains(l.Options, "nofail") || strings.Contains(l.Options, "x-systemd.automount") || l.Type == "swap"
		errors := strings.Contains(mine, "error")
		switch {
		case l.Dir == "/" || strings.Contains(mine, "fstab-parent-nofail") || strings.Contains(mine, "fstab-names-two"): // see core/boot
		case lost && !errors && !(lenient && strings.Contains(mine, "warning")):
			differ("line %d is %s (%s), and the check says %q", l.Line, l.Outcome, l.Reason, mine)
		case errors && l.Outcome == "mounted" && !strings.Contains(l.Reason, "first access"):
			differ("line %d is mounted, and the check says %q", l.Line, mine)
		}
		late := strings.Contains(l.Options, "x-systemd.automount")
		if l.Outcome == "mounted" && l.Type != "swap" && !late && l.Device != "" && mounted[l.Dir] != l.Device && !strings.HasPrefix(said.Verdict, "emergency") {
			differ("line %d is foretold as mounted from %s, and after the boot %q is there", l.Line, l.Device, mounted[l.Dir])
		}
		if i := slices.IndexFunc(after.Devices, func(d device) bool { return d.Name == l.Device }); i >= 0 && l.Outcome == "mounted" && !after.Devices[i].InKernel {
			differ("line %d is mounted from %s, of which the kernel has no device", l.Line, l.Device)
		}
	}
	for where, name := range mounted {
		if where != "/" && where != "" && !slices.ContainsFunc(said.Lines, func(l line) bool { return l.Dir == where && l.Outcome == "mounted" }) {
			differ("%s is mounted at %s after the boot, and nobody foretold it", name, where)
		}
	}
	return wrong
}
