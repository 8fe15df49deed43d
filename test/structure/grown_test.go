package structure

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheProgramGrowsByFilesAndRows builds the program with a kind, a layer, a kind of step and a
// verb that are not there, each a file and a row, and with counters where text files, units, boots
// and nodes are gone through. Everything else must follow.
func TestTheProgramGrowsByFilesAndRows(t *testing.T) {
	o := newOverlay(t)
	o.row("core/kind/kind.go", "\t\txfsKind(),\n", "\t\t{Name: \"sprout\", Makes: []Maker{{Word: \"sprout\", ID: fs.Serial, Settings: sprout.Settings, Traits: fs.NoTraits, Make: sprout.Make}}, Values: sprout.Values, Probe: sprout.Probe, Fields: sprout.Fields},\n"+
		"\t\t{Name: \"nest\", Makes: []Maker{{Word: \"nest\", ID: fs.Serial, Settings: nest.Settings, Traits: fs.NoTraits, Make: nest.Make}}, Probe: nest.Probe, Resizing: &Resizing{Reach: nest.Reach, Resize: nest.Resize, Shrinks: true}},\n")
	o.row("core/kind/kind.go", "\t\"fundus/core/fs\"\n", "\t\"fundus/core/fs/sprout\"\n\t\"fundus/core/fs/nest\"\n")
	o.file("core/fs/sprout/sprout.go", "sprout.go.txt")
	o.file("core/fs/nest/nest.go", "layer/nest.go.txt")
	o.row("internal/task/space/layers.go", "\t\tfs.FileSystem: sized,\n", "\t\tnest.Class: sized,\n")
	o.row("internal/task/space/layers.go", "\t\"fundus/core/fs\"\n", "\t\"fundus/core/fs/nest\"\n")
	o.row("internal/deed/carrier.go", "\t\tdraft.Link:  linking{},\n", "\t\tCopied: copying{},\n")
	o.file("internal/deed/copying.go", "step/copying.go.txt")
	o.file("test/cuts/copying_test.go", "step/copying_test.go.txt")
	o.row("internal/machine/verbs.go", "\t\tverbsOfMounts(),\n", "\t\tverbsOfQuiet(),\n")
	o.file("internal/machine/quieten.go", "verb/quieten.go.txt")
	o.row("internal/machine/live/act.go", "\t\tmachine.Bind: ", "\t\tmachine.Quieten: (*Machine).quieten,\n\t\tmachine.Louden: (*Machine).quieten,\n")
	o.file("internal/machine/live/quieten.go", "verb/live.go.txt")
	o.file("test/cuts/quieten_test.go", "verb/quieten_test.go.txt")
	o.row("core/text/fstab/fstab.go", "\tf := &File{}\n\tlost := false\n", "\tParses.Add(1)\n")
	o.row("core/units/set.go", "\tat := map[string]int{}\n\tbeside := beside{", "\tLoads.Add(1)\n")
	o.row("core/boot/boot.go", "\treturn prepared(v, s).walked()\n", "\tRehearsals.Add(1)\n")
	o.row("core/inventory/nodes.go", "\tfor i := range v.Nodes {\n\t\tif pass(", "\tCompares.Add(int64(len(v.Nodes)))\n")
	o.row("core/inventory/resolver.go", "\tfor i := range v.Nodes {\n\t\tn := &v.Nodes[i]", "\tCompares.Add(int64(len(v.Nodes)))\n")
	o.row("core/inventory/mounts.go", "\tif v.texts == nil || len(v.Uses) <= few {\n\t\tfor _, u", "\tCompares.Add(int64(len(v.Uses)) * int64(1-min(1, len(v.Uses)/(few+1))))\n")
	o.row("core/inventory/mounts.go", "\tfor _, u := range slices.Backward(v.Others) {", "\tCompares.Add(int64(len(v.Others)))\n")
	o.row("core/inventory/mounts.go", "\tfor _, u := range v.Uses {\n\t\tinside", "\tCompares.Add(int64(len(v.Uses)))\n")
	o.row("core/inventory/nodes.go", "\tif v.texts == nil || len(v.Nodes) <= few {", "\tCompares.Add(1)\n")
	o.file("core/text/fstab/count.go", "count/count.go.txt")
	o.file("core/units/count.go", "count/units.go.txt")
	o.file("core/boot/count.go", "count/boot.go.txt")
	o.file("core/inventory/count.go", "count/inventory.go.txt")
	o.file("test/cuts/count_test.go", "count/count_test.go.txt")
	program := filepath.Join(o.dir, "fundus")
	o.run("go", "build", "-overlay", o.written(), "-o", program, "./cmd/fundus")
	out := o.run("go", "test", "-vet=off", "-overlay", o.written(), "./internal/machine", "./test/cuts", "-run", "TestVerbs|TestCopied|TestQuieten|TestCounted|TestCompares", "-count=1", "-v")
	t.Run("a kind", func(t *testing.T) { newKind(t, o, program) })
	t.Run("a layer", func(t *testing.T) { newLayer(t, o, program) })
	t.Run("a kind of step", func(t *testing.T) {
		if !strings.Contains(out, "cuts of a copied range: ") || !strings.Contains(out, "--- PASS: TestCopied") {
			t.Errorf("it proved nothing:\n%s", out)
		}
	})
	t.Run("a verb", func(t *testing.T) {
		if !strings.Contains(out, "--- PASS: TestVerbs") || !strings.Contains(out, "--- PASS: TestQuieten") {
			t.Errorf("it proved nothing:\n%s", out)
		}
	})
	t.Run("text files are read once a look", func(t *testing.T) { counted(t, out) })
}

// newKind is asked for by every command that is about kinds.
func newKind(t *testing.T, o *overlay, program string) {
	image := filepath.Join(o.dir, "herbs.img")
	if err := os.WriteFile(image, make([]byte, 1<<20), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ words, want string }{
		{"settings sprout", "depth"},
		{"format " + image + " sprout depth=3KiB --label herbs --commit", "depth    3KiB   asked"},
		{"format " + image + " sprout depth=9KiB --lose=herbs --commit", "it takes 1KiB to 8KiB"},
		{"settings " + image, "depth  3KiB"},
		{"inspect " + image, "herbs"},
		{"inspect " + image + " --fields", "depth in bytes"},
		{"label " + image + " other --commit", "Fundus does not change its label"},
		{"inspect --configuration", "format.sprout.*"},
		{"__complete format x sprout ", "depth=\t1KiB to 8KiB"},
	} {
		cmd := exec.Command(program, append(strings.Fields(c.words), "--state", filepath.Join(o.dir, "state"))...)
		if strings.HasSuffix(c.words, " ") {
			cmd.Args = append(append([]string{program}, strings.Fields(c.words)...), "")
		}
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(strings.Join(strings.Fields(string(out)), " "), strings.Join(strings.Fields(c.want), " ")) { // lines are broken where paths are long
			t.Errorf("fundus %s lacks %q:\n%s", c.words, c.want, out)
		}
	}
}

// counted: a change reads the table before and after it, when it is planned and when it is planned
// again; nothing else reads it, and so it is with the units. What a draft goes through grows with
// the disks, and not with their square.
func counted(t *testing.T, out string) {
	commands := 0
	for line := range strings.Lines(out) {
		var verb string
		var tables, loads int
		name, rest, is := strings.Cut(strings.TrimPrefix(line, "counted: "), ": ")
		if !is || !strings.HasPrefix(line, "counted: ") {
			continue
		}
		if _, err := fmt.Sscanf(rest, "%d tables, %d times the units", &tables, &loads); err != nil {
			t.Fatalf("%q: %v", line, err)
		}
		commands++
		if verb = name; tables > 4 || loads > 8 {
			t.Errorf("%s reads the table %d times and the units %d times", verb, tables, loads)
		}
	}
	// A list of 7 edits and one of 70: before and after, planned twice.
	if strings.Count(out, "rehearsed: 4 times\n") != 2 {
		t.Errorf("lists of 7 and of 70 requests rehearse the boot as often as that:\n%s", out)
	}
	var few, many int
	at := strings.Index(out, "compares: 200 disks")
	if _, err := fmt.Sscanf(out[max(at, 0):], "compares: 200 disks %d\ncompares: 1000 disks %d", &few, &many); err != nil || few == 0 || many > 6*few {
		t.Errorf("a draft goes through %d nodes and uses with 200 disks, and through %d with 1000 (%v)", few, many, err)
	}
	t.Logf("compares: %d, %d", few, many)
	if commands != 4 {
		t.Errorf("%d commands were counted:\n%s", commands, out)
	}
}

// newLayer is something with a size of its own, of a class that nobody knows: it grows with its
// partition, and goes back with the undo.
func newLayer(t *testing.T, o *overlay, program string) {
	image := filepath.Join(o.dir, "seeds.img")
	if err := os.WriteFile(image, make([]byte, 8<<20), 0o644); err != nil {
		t.Fatal(err)
	}
	fundus := func(words string) string {
		return o.run(append(append([]string{program}, strings.Fields(words)...), "--state", filepath.Join(o.dir, "state"))...)
	}
	fundus("table new " + image + " --commit")
	fundus("partition add " + image + " --size 2MiB --commit")
	fundus("format " + image + ":1 nest --commit")
	size := func() string {
		_, rest, _ := strings.Cut(fundus("inspect "+image+":1 --json"), `"kind": "nest"`)
		_, rest, _ = strings.Cut(rest, `"size_bytes": `)
		return strings.TrimSpace(strings.SplitN(rest, ",", 2)[0])
	}
	before := size()
	fundus("resize " + image + ":1 max --commit")
	grown := size()
	fundus("undo --commit")
	if back := size(); before != "2097152" || grown <= before || len(grown) != 7 || back != before {
		t.Errorf("it had %s bytes, grew to %s, and went back to %s", before, grown, back)
	}
}
