package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/problem"
	"fundus/internal/task/mount"
	"fundus/internal/task/several"
	"fundus/internal/view"
)

// driven runs a line with --json and reads its document strictly.
func driven(t *testing.T, w *world, line string, doc any) int {
	t.Helper()
	var out, beside bytes.Buffer
	e := *w.env
	e.o = options{}
	e.Out, e.Err = &out, &beside
	code := Run(context.Background(), &e, append(splitWords(line), "--json"))
	keepDocument(t, out.Bytes())
	dec := json.NewDecoder(&out)
	dec.DisallowUnknownFields()
	if err := dec.Decode(doc); err != nil || dec.More() || beside.Len() > 0 {
		t.Fatalf("%s: exit %d: %v; beside the document: %q", line, code, err, beside.String())
	}
	return code
}

// TestResultsAgree: of every command that changes something, the draft says what the commit makes,
// the survey shows it afterwards under the word that the result has for it, and the same words again
// are nothing to do and say the same.
func TestResultsAgree(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n$ fundus bench disk add sdc --size 4GiB --serial TA-7731\n")
	for _, c := range []struct{ line, again, roles string }{
		{"table new sdb", "--unless-there", "table"},
		{"table edit sdb --uuid=5eed0000-0000-4000-8000-00000000aaaa", "", "table"},
		{"partition add SERIAL=LS-20417 --number 1 --size 2GiB --name herbarium", "--unless-there", "partition"},
		{"partition add sdb --number 2 --size 1GiB --type swap", "--unless-there", "partition"},
		{"partition add sdb --number 3 --size 2GiB", "--unless-there", "partition"},
		{"partition edit SERIAL=LS-20417:3 --name scans", "", "partition"},
		{"format SERIAL=LS-20417:1 ext4 --label herbarium", "--unless-there", "file-system"},
		{"format sdb2 swap --label swap1", "--unless-there", "swap"},
		{"format sdb3 xfs --label scans", "--unless-there", "file-system"},
		{"label sdb3 plates", "", "file-system"},
		{"adjust sdb1 reserved=2%", "", "file-system"},
		{"fstab add sdb1 /srv/herbarium", "", "line directory"},
		{"fstab edit /srv/herbarium --add=noatime", "", "line"},
		{"mount /srv/herbarium --owner 7:7 --mode 2770 --link /herb", "", "mount owner link"},
		{"mount sdb3 /srv/scans --make", "", "mount directory"},
		{"mount /srv/scans --remount --options=noatime", "", "mount"},
		{"fstab add sdb2 swap", "", "line"},
		{"fstab edit sdb2 --before /srv/herbarium", "", "line"},
		{"swap on sdb2", "", "swap"},
		{"unmount /srv/scans", "", ""},
		{"format sdb3 ext4 --label scans --lose=plates", "--unless-there", "file-system"},
		{"resize sdb3 3000MiB", "", "partition file-system"},
		{"unit add sdb3 /srv/scans", "", "unit"},
		{"swap off sdb2", "", ""},
		{"table new sdc --scheme mbr", "--unless-there", "table"},
		// What takes away or goes back says what is on the device then, and is not done twice.
		{"partition add sdc --size 1GiB", "-", "partition"},
		{"undo", "-", "table"},
		{"partition add sdc --size 1GiB", "-", "partition"},
		{"format sdc1 ext4 --label plates", "-", "file-system"},
		{"erase sdc1 --lose=plates", "-", "partition"},
		{"undo", "-", "file-system partition"},
		{"partition remove sdc1 --lose=plates", "-", "table"},
		{"table convert sdc --scheme gpt", "-", "table"},
		{"fstab disable /srv/herbarium", "-", ""},
		{"fstab enable /srv/herbarium", "-", ""},
		{"fstab sort", "-", ""},
		{"unit remove /srv/scans", "-", ""},
		{"swap add /srv/herbarium/swap 64MiB --persist", "-", "swap line"},
		{"swap off /srv/herbarium/swap", "-", ""},
		{"fstab remove sdb2", "-", ""},
	} {
		var draft, done, again view.DraftDoc // a decoder leaves what a document has not
		if code := driven(t, w, c.line+" --draft", &draft); code != 0 {
			t.Errorf("%s --draft: exit %d", c.line, code)
		}
		code := driven(t, w, c.line+" --commit", &done)
		if code != 0 || !done.Changed {
			t.Errorf("%s: exit %d, changed %v", c.line, code, done.Changed)
		}
		if roles := rolesOf(done.Results); c.roles != "" && roles != sorted(c.roles) {
			t.Errorf("%s: results are %s, want %s", c.line, roles, c.roles)
		}
		if a, b := alike(draft.Results), alike(done.Results); !reflect.DeepEqual(a, b) {
			t.Errorf("%s: foretold %+v\nand made %+v", c.line, a, b)
		}
		if l := done.Layers; strings.HasPrefix(c.line, "resize") != (len(l) == 2 && l[0].Layer == "partition" && l[1].Layer == "content" && l[1].Kind == "ext4" && l[1].From < l[1].To && l[1].To == 3000<<20) {
			t.Errorf("%s: layers %+v", c.line, l)
		}
		for begins, want := range map[string]string{"mount sdb3": "fundus unmount /srv/scans", "swap on": "fundus swap off sdb2", "swap off sdb2": "fundus swap on sdb2", "unmount": "fundus mount sdb3 /srv/scans --options=noatime"} {
			if strings.HasPrefix(c.line, begins) && (len(done.Reverse) != 1 || done.Reverse[0].Text != want) {
				t.Errorf("%s: reversed by %+v, want %s", c.line, done.Reverse, want)
			}
		}
		shown(t, w, c.line, done.Results)
		if c.roles == "" || c.again == "-" {
			continue
		}
		driven(t, w, strings.TrimSpace(c.line+" "+c.again)+" --commit", &again)
		is := slices.DeleteFunc(slices.Clone(done.Results), func(r view.ResultDoc) bool { return r.Role == "directory" }) // made but once
		if again.Changed || again.Would || !reflect.DeepEqual(is, again.Results) {
			t.Errorf("%s again: changed %v, results %+v\nwant %+v", c.line, again.Changed, again.Results, is)
		}
	}
}

// TestNeedsOfAStoredDraft: what a stored draft says that it needs is what its commit asks for, all at
// once, and with that it goes ahead; one that fits no longer gives its successor with what that needs.
func TestNeedsOfAStoredDraft(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n$ fundus table new sdb --commit\n"+
		"$ fundus partition add sdb --size 2GiB --commit\n$ fundus format sdb1 ext4 --label herbarium --commit\n$ fundus fstab add sdb1 /srv/herbarium --commit\n")
	var stored, done view.DraftDoc
	if code := driven(t, w, "format sdb1 xfs --uuid=new --references=keep", &stored); code != exitWaiting || !stored.Stored || len(stored.Needs) == 0 {
		t.Fatalf("exit %d: %+v", code, stored)
	}
	var refused view.ErrorDoc
	if code := driven(t, w, "commit "+stored.Code, &refused); code != exitRefused || refused.ID != "needs" || !reflect.DeepEqual(refused.Needs, stored.Needs) {
		t.Errorf("exit %d: %+v, and the draft said %+v", code, refused, stored.Needs)
	}
	given := ""
	for _, n := range stored.Needs {
		given += " " + n.Option
	}
	driven(t, w, "label sdb1 mosses --commit", &done)
	if code := driven(t, w, "commit "+stored.Code+given, &refused); code != exitWaiting || refused.ID != "draft-stale" || refused.State != "drafted" || refused.Draft == nil {
		t.Fatalf("exit %d: %+v", code, refused)
	}
	given = ""
	for _, n := range refused.Draft.Needs {
		given += " " + n.Option
	}
	var last view.DraftDoc
	if code := driven(t, w, "commit "+refused.Draft.Code+given, &last); code != exitDone || !last.Changed || !reflect.DeepEqual(last.Results, refused.Draft.Results) {
		t.Errorf("exit %d: %+v\nforetold %+v", code, last.Results, refused.Draft.Results)
	}
}

// secondFails is a machine of which the second action fails.
type secondFails struct {
	machine.Machine
	done *int
}

func (m secondFails) Do(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	if *m.done++; *m.done == 2 {
		return errors.New("the kernel says no")
	}
	return m.Machine.Do(ctx, v, a)
}

// TestWhatStaysIsSaid: of two areas of swap the second fails: the answer does not say that nothing was
// changed, but what was, and how that goes back.
func TestWhatStaysIsSaid(t *testing.T) {
	w := newWorld(t)
	transcript(w, "$ fundus bench new fernhill --host fernhill\n$ fundus bench disk add sdb --size 8GiB --serial LS-20417\n$ fundus table new sdb --commit\n"+
		"$ fundus partition add sdb --size 1GiB --size 1GiB --commit\n$ fundus format sdb1 swap --commit\n$ fundus format sdb2 swap --commit\n")
	e := *w.env
	e.o = options{bench: "fernhill"}
	m, err := e.open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	m.Machine = secondFails{m.Machine, new(int)}
	both, err := several.Of("swap on sdb1 sdb2", &mount.SwapOn{Target: "sdb1"}, &mount.SwapOn{Target: "sdb2"})
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	e.Out, e.Err = &out, &out
	err = e.useOn(t.Context(), m, both, way.SwapOff)
	r := e.problemOf(exitCode(err), err)
	if r.State != problem.Partly || !strings.Contains(r.Text, "left so: use sdb1 as swap") || r.Next.Line() != "fundus swap off sdb1" {
		t.Errorf("%+v", r)
	}
	e.report(exitCode(err), err)
	if said := out.String(); strings.Contains(said, "nothing was changed") || !strings.Contains(said, "  fundus swap off sdb1\n") {
		t.Errorf("it says\n%s", said)
	}
	if v, err := m.Machine.Inventory(t.Context()); err != nil || !v.SwapsOn("sdb1") || v.SwapsOn("sdb2") {
		t.Errorf("sdb1 is on: %v, sdb2: %v, %v", v.SwapsOn("sdb1"), v.SwapsOn("sdb2"), err)
	}
}

// alike are results without what each draft draws anew.
func alike(list []view.ResultDoc) []view.ResultDoc {
	out := slices.Clone(list)
	for i := range out {
		if out[i].UUID != "" || out[i].PartUUID != "" || out[i].TableID != "" {
			out[i].UUID, out[i].PartUUID, out[i].TableID = "", "", ""
		}
	}
	return out
}

func rolesOf(list []view.ResultDoc) string {
	roles := map[string]bool{}
	for _, r := range list {
		roles[r.Role] = true
	}
	return strings.Join(slices.Sorted(maps.Keys(roles)), " ")
}

func sorted(words string) string {
	list := strings.Fields(words)
	slices.Sort(list)
	return strings.Join(list, " ")
}

// shown holds results against the survey: what is called so there is what the result says.
func shown(t *testing.T, w *world, line string, results []view.ResultDoc) {
	t.Helper()
	for _, r := range results {
		if r.Target == "" {
			continue
		}
		var i view.InspectDoc
		driven(t, w, "inspect "+r.Target, &i)
		d := i.Device
		if d.Name != r.Device || d.Target.Word != r.Target || !d.Target.Stable {
			t.Errorf("%s: %s is %s, which is called %s there", line, r.Device, d.Name, d.Target.Word)
		}
		switch r.Role {
		case "table":
			if d.Scheme != r.Scheme || d.TableID != r.TableID {
				t.Errorf("%s: %+v, and the disk has %s %s", line, r, d.Scheme, d.TableID)
			}
		case "partition":
			if d.PartUUID != r.PartUUID || d.Start != int64(r.First)*d.Logical || d.Size != int64(r.Sectors)*d.Logical {
				t.Errorf("%s: %+v, and the partition begins at byte %d with %d, %s", line, r, d.Start, d.Size, d.PartUUID)
			}
		case "file-system", "swap":
			if len(d.Contents) != 1 || d.Contents[0].UUID != r.UUID || d.Contents[0].Label != r.Label || d.Contents[0].Kind != r.Kind || d.Contents[0].Size != r.Size {
				t.Errorf("%s: %+v, and the device holds %+v", line, r, d.Contents)
			}
		case "line":
			var f view.FstabDoc
			driven(t, w, "fstab list", &f)
			at := slices.IndexFunc(f.Lines, func(l view.FstabLineDoc) bool { return l.Number == r.Line })
			if at < 0 || f.Lines[at].Device != r.Device || !strings.Contains(line, r.Device) && f.Lines[at].MountPoint != r.MountPoint {
				t.Errorf("%s: %+v, and the lines are %+v", line, r, f.Lines)
			}
		case "mount":
			if !slices.Contains(d.UsedAt, r.MountPoint) {
				t.Errorf("%s: %+v, and the device is used at %v", line, r, d.UsedAt)
			}
		}
	}
}
