//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"fundus/test/amount"
)

// walk is a list of commands that are typed on a bench and on a real kernel, each machine with the
// same blank disks; between them it is looked at the disks and at fstab. Every deed is
// taken back at the end.
type walk struct {
	name  string
	sizes []int64 // of sdb, sdc …
	lines []string
}

// typedLine is a line as it was typed on the bench, and what came of it.
type typedLine struct {
	line, said string
	code       int
	look       bool
}

// leftOut are the lines of the README and the demo that are not typed on both machines.
var leftOut = []struct{ line, why string }{
	{`^bench `, "a kernel has no disks that are plugged in by a word"},
	{`\bsda|resize / |edit / `, "the root of the kernel's machine is a directory of its host"},
	{`^rehearse`, "so that machine has another next boot"},
	{`^demo`, "it makes a bench of its own"},
	{`["']`, "a shell would put the words together"},
	{`--search`, "a disk of 64 GiB without holes is read for many minutes there; the search never asks a kernel"},
}

// proveWalk: every story, and the commands of the README and of the demo, with the undo of each,
// end on a real kernel as on a bench, with the same code, and leave the same there.
func proveWalk(t *testing.T, j *judge) {
	all := walks(t, j)
	third := slices.DeleteFunc(slices.Clone(all), func(w walk) bool {
		return !amount.Soak() && !amount.Turn(slices.IndexFunc(all, func(o walk) bool { return o.name == w.name }), 3)
	})
	lines := 0
	for len(third) > 0 {
		n := 1
		for n < len(third) && n < 6 && len(third[n].sizes) == 1 && len(third[0].sizes) == 1 {
			n++
		}
		t.Run("from "+third[0].name, func(t *testing.T) { lines += typeBoth(t, j, third[:n]) })
		third = third[n:]
	}
	fmt.Printf("kernel proof: of %d walks %d lines were typed on a bench and on the kernel, and came to the same: %v\n", len(all), lines, !t.Failed())
}

// typeBoth types walks one after the other, each on disks of its own.
func typeBoth(t *testing.T, j *judge, list []walk) (lines int) {
	t.Helper()
	dir, err := os.MkdirTemp("", "fundus-kernel-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	b := &bench{t, j, filepath.Join(dir, "fernhill")}
	b.must("bench", "new", b.dir, "--host", "fernhill")
	var images, serials []string
	commands := []string{"line proc /proc proc defaults 0 0"} // a table that is there, as on the bench
	var typed [][]typedLine
	for _, w := range list {
		first := len(images)
		for _, size := range w.sizes {
			name, serial := fmt.Sprintf("sd%c", 'b'+len(images)), fmt.Sprintf("LS-2041%d", len(images))
			b.must("bench", "disk", "add", name, "--size", fmt.Sprintf("%dB", size), "--serial", serial, "--sector", "512B", "--physical-sector", "512B")
			images, serials = append(images, blank(t, size)), append(serials, serial)
		}
		here := b.walked(w, first)
		typed = append(typed, here)
		for _, l := range here {
			commands = append(commands, onKernel(l.line))
		}
	}
	said := j.run(t, start{modules: []string{"xfs", "vfat", "nls_cp437", "nls_iso8859-1", "nls_ascii", "nls_utf8"}, images: images, serials: serials, commands: commands})[len(images)-1].Said[1:]
	for i, w := range list {
		for k, l := range typed[i] {
			if len(said) == 0 {
				t.Fatalf("%s: the kernel was not asked %q", w.name, l.line)
			}
			there := said[0]
			said = said[1:]
			lines++
			if diff := l.compared(there); diff != "" {
				t.Errorf("%s, line %d, %s: %s", w.name, k+1, l.line, diff)
				said = said[len(typed[i])-k-1:]
				break // what follows differs too
			}
		}
	}
	return lines
}

// walked types the lines on the bench, on its disks from the first on. What is needed to go ahead
// is typed in a second line.
func (b *bench) walked(w walk, first int) (typed []typedLine) {
	b.t.Helper()
	deeds := 0
	run := func(line string, look bool) typedLine {
		words := strings.Fields(line)
		if words[0] == "spoil" {
			at, err := strconv.ParseInt(words[2], 10, 64)
			if err == nil {
				err = turnOver(filepath.Join(b.dir, "disks", words[1]+".img"), at)
			}
			if err != nil {
				b.t.Fatal(err)
			}
			typed = append(typed, typedLine{line: line, said: "spoilt"})
			return typed[len(typed)-1]
		}
		said, code := b.run(words...)
		if strings.Contains(said, "\ndeed ") || strings.HasPrefix(said, "deed ") {
			deeds++
		}
		typed = append(typed, typedLine{line, said, code, look})
		return typed[len(typed)-1]
	}
	lined := false
	see := func(words string) {
		for i := range w.sizes {
			if name := fmt.Sprintf("sd%c", 'b'+first+i); len(w.sizes) == 1 || strings.Contains(words, name) || !strings.Contains(words, "sd") {
				run("survey "+name+" --json", true)
			}
		}
		if lined = lined || strings.Contains(words, "fstab") || strings.Contains(words, "unit"); lined {
			run("fstab list --json", true)
		}
	}
	for i, line := range w.lines {
		line = shifted(line, first)
		l := run(line, false)
		if _, needs, ok := strings.Cut(strings.Join(strings.Fields(l.said), " "), "needed to go ahead: "); ok && l.code == 1 {
			needs, _, _ = strings.Cut(needs, " fundus: ")
			needs = regexp.MustCompile(`\|\S*`).ReplaceAllString(needs, "") // the first of several answers
			run(line+" "+needs, false)
		}
		if len(w.lines) > 8 || i == len(w.lines)-1 { // on the way to the cut of a story it is the walk of another one
			see(line)
		}
	}
	for range deeds {
		l := run("undo --commit", false)
		if l.code != 0 {
			break
		}
		see(l.said)
	}
	return typed
}

// shifted is the line on disks that come later.
func shifted(line string, by int) string {
	return regexp.MustCompile(`\bsd([b-z])(\d*)\b`).ReplaceAllStringFunc(line, func(s string) string {
		return fmt.Sprintf("sd%c%s", s[2]+byte(by), s[3:])
	})
}

// onKernel is a line with the names that the kernel has for the disks, and fromKernel the way back.
func onKernel(line string) string {
	if at, ok := strings.CutPrefix(line, "spoil sd"); ok {
		return fmt.Sprintf("spoil /dev/ubd%c%s", at[0]-1, at[1:])
	}
	return "here " + regexp.MustCompile(`\bsd([b-z])(\d*)\b`).ReplaceAllStringFunc(line, func(s string) string {
		return fmt.Sprintf("ubd%c%s", s[2]-1, s[3:])
	})
}

func fromKernel(said string) string {
	return regexp.MustCompile(`\bubd([a-y])(\d*)\b`).ReplaceAllStringFunc(said, func(s string) string {
		return fmt.Sprintf("sd%c%s", s[3]+1, s[4:])
	})
}

// compared holds what came of the line on the bench against what the kernel's program said.
func (l typedLine) compared(there string) string {
	if strings.HasPrefix(l.line, "spoil") {
		return ""
	}
	end := strings.LastIndex(there, "[")
	code := 0
	if status, is := strings.CutPrefix(there[end:], "[exit status "); is {
		code, _ = strconv.Atoi(strings.TrimSuffix(status, "]"))
	} else if there[end:] != fine {
		code = -1
	}
	said := fromKernel(there[:end])
	if code != l.code {
		return fmt.Sprintf("exit %d, and on the bench %d:\n%s\n--- bench:\n%s", code, l.code, said, l.said)
	}
	if !l.look {
		return ""
	}
	got, want := fields(said), fields(l.said)
	if got == want {
		return ""
	}
	return fmt.Sprintf("leaves\n%s\n--- on the bench:\n%s", got, want)
}

// fields are those of a document that are alike wherever the same was done: neither what is drawn
// by chance nor what a disk says of itself.
func fields(said string) string {
	var doc struct {
		Devices []map[string]any `json:"devices"`
		Lines   []map[string]any `json:"lines"`
	}
	if err := json.Unmarshal([]byte(said), &doc); err != nil {
		return "no document: " + said
	}
	var b strings.Builder
	line := func(kind string, of map[string]any, keys ...string) {
		fmt.Fprintf(&b, "%s", kind)
		for _, k := range keys {
			if v, ok := of[k]; ok {
				fmt.Fprintf(&b, " %s=%v", k, v)
			}
		}
		b.WriteString("\n")
	}
	each := func(v any, do func(map[string]any)) {
		list, _ := v.([]any)
		for _, one := range list {
			if m, ok := one.(map[string]any); ok {
				do(m)
			}
		}
	}
	for _, d := range doc.Devices {
		line("device", d, "name", "form", "number", "start_bytes", "size_bytes", "table_scheme", "partition_name", "partition_type", "holds", "believed", "used_at", "in_kernel", "problem")
		each(d["contents"], func(c map[string]any) {
			line("  content", c, "kind", "version", "class", "label", "size_bytes", "block_bytes", "used_bytes", "state", "unknown_features", "signatures")
		})
		each(d["uses"], func(u map[string]any) { line("  use", u, "how", "where", "type", "read_only") })
	}
	for _, l := range doc.Lines {
		if l["mount_point"] != "/" && l["mount_point"] != "/proc" { // those that the machine had
			line("line", l, "mount_point", "type", "options", "check", "device", "mounted")
		}
	}
	return b.String()
}

// turnOver turns a byte of a file over, as the guest does.
func turnOver(path string, at int64) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	b := make([]byte, 1)
	if _, err := f.ReadAt(b, at); err != nil {
		return err
	}
	_, err = f.WriteAt([]byte{^b[0]}, at)
	return err
}

// walks lists the stories as they are typed, the README's commands and the demo's.
func walks(t *testing.T, j *judge) (list []walk) {
	t.Helper()
	const g = 1 << 30
	var stories []struct {
		Name  string   `json:"name"`
		Size  int64    `json:"size_bytes"`
		Lines []string `json:"lines"`
	}
	text, err := os.ReadFile(filepath.Join("..", "cuts", "testdata", "typed.json"))
	if err == nil {
		err = json.Unmarshal(text, &stories)
	}
	readme, errReadme := os.ReadFile(filepath.Join("..", "..", "README.md"))
	if err != nil || errReadme != nil {
		t.Fatal(err, errReadme)
	}
	for _, s := range stories {
		list = append(list, walk{s.Name, []int64{s.Size}, s.Lines})
	}
	var lines []string
	for line := range strings.Lines(string(readme)) {
		if words, is := strings.CutPrefix(strings.TrimSpace(line), "fundus "); is && plainWords(words) {
			lines = append(lines, words)
		}
	}
	list = append(list, walk{"the README", []int64{64 * g}, lines})
	b := &bench{t, j, t.TempDir()}
	shown, code := b.run("demo", "all", "--fast")
	if code != 0 {
		t.Fatalf("the demo: exit %d\n%s", code, shown)
	}
	lines = nil
	for line := range strings.Lines(shown) {
		if words, is := strings.CutPrefix(strings.TrimSpace(line), "$ fundus "); is && plainWords(words) {
			lines = append(lines, words)
		}
	}
	if len(stories) < 70 || len(lines) < 50 {
		t.Fatalf("%d stories, %d lines of the demo", len(stories), len(lines))
	}
	return append(list, walk{"the demo", []int64{64 * g, 32 * g, 32 * g, 32 * g, 16 * g, 32 * g}, renumbered(lines)})
}

// plainWords reports whether the line is typed on both machines.
func plainWords(words string) bool {
	return !slices.ContainsFunc(leftOut, func(o struct{ line, why string }) bool { return regexp.MustCompile(o.line).MatchString(words) })
}

// renumbered gives the disks of the demo names without gaps.
func renumbered(lines []string) (out []string) {
	names := map[string]string{"sdb": "sdb", "sdc": "sdc", "sdd": "sdd", "sdf": "sde", "sdg": "sdf", "sdh": "sdg"}
	for _, line := range lines {
		out = append(out, regexp.MustCompile(`\bsd[b-z]`).ReplaceAllStringFunc(line, func(s string) string { return names[s] }))
	}
	return out
}
