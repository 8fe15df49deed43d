package deed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

func sample() *Manifest {
	return &Manifest{Format: draft.Format, ID: "0007-3fa9c210", Number: 7, Code: "3fa9c210", Created: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), Title: "format sdb1 as ext4",
		Request: draft.Request{Verb: "format", Args: []byte(`{"target":"sdb1"}`)}, Devices: []draft.Device{{Written: true, Name: "sdb", Identity: inventory.Identity{Disk: "LS-20417"}}},
		Steps:   []draft.Step{{Title: "make ext4", Body: &draft.Writing{Target: machine.Target{Device: "sdb", Size: 512, Hold: machine.HoldContent}, Phases: 1}}},
		Strokes: []StrokeRecord{{Bytes: &BytesRecord{Role: draft.WritePart, After: [2]int{0, 1}, Before: [2]int{1, 2}}}},
		Digests: map[string]string{"extents": "ab"}}
}

// TestManifestIsKeptOrRefused: it is read as it was written; with any byte
// turned over, or cut anywhere, it is refused as damaged.
func TestManifestIsKeptOrRefused(t *testing.T) {
	data, err := sample().encode()
	if err != nil {
		t.Fatal(err)
	}
	m, err := decodeManifest(data)
	if err != nil || m.ID != "0007-3fa9c210" || m.Steps[0].Body.(*draft.Writing).Target.Size != 512 {
		t.Fatalf("decode: %+v, %v", m, err)
	}
	for i := range data {
		turned := bytes.Clone(data)
		turned[i] ^= 0x20
		if _, err := decodeManifest(turned); !errors.Is(err, ErrTorn) {
			t.Fatalf("byte %d turned over: %v", i, err)
		}
		if _, err := decodeManifest(data[:i]); !errors.Is(err, ErrTorn) {
			t.Fatalf("cut at %d: %v", i, err)
		}
	}
	later := sample()
	later.Format++
	data, _ = later.encode()
	if _, err := decodeManifest(data); !errors.Is(err, ErrVersion) {
		t.Errorf("of a later release: %v", err)
	}
	for _, c := range []struct {
		body draft.Body
		want error
	}{
		{&draft.Unread{Of: "shift", Data: []byte(`{}`)}, ErrVersion},
		{&draft.Unread{Data: []byte(`{}`)}, ErrVersion},
		{&draft.Unread{Of: draft.Write, Data: []byte(`null`)}, ErrTorn},
		{&draft.Unread{Of: draft.Write, Data: []byte(`{"phases":"two"}`)}, ErrTorn},
		{&draft.Unread{Of: draft.Link, Data: []byte(`{"path":"/herb"}`)}, ErrTorn}, // which has no strokes of bytes
	} {
		odd := sample()
		odd.Steps[0].Body = c.body
		data, _ = odd.encode()
		if _, err := decodeManifest(data); !errors.Is(err, c.want) {
			t.Errorf("a step of kind %q: %v, want %v", c.body.Kind(), err, c.want)
		}
	}
	wrong := sample()
	wrong.Strokes[0].Step = 9
	data, _ = wrong.encode()
	if _, err := decodeManifest(data); !errors.Is(err, ErrTorn) {
		t.Errorf("a stroke of no step: %v", err)
	}
	if err := sample().checkRanges(1); !errors.Is(err, ErrTorn) {
		t.Errorf("runs that are not there: %v", err)
	}
}

// FuzzManifest: any bytes give an error, or a manifest that is written again as
// one that reads the same.
func FuzzManifest(f *testing.F) {
	data, _ := sample().encode()
	f.Add(data)
	f.Add([]byte("{}\nsha256 44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := decodeManifest(data)
		if err != nil {
			return
		}
		again, err := m.encode()
		if err != nil {
			t.Skip() // a request that is no JSON
		}
		if _, err := decodeManifest(again); err != nil {
			t.Fatal(err)
		}
	})
}

// FuzzExtents: any bytes give an error or runs that encode to the very same.
func FuzzExtents(f *testing.F) {
	f.Add([]byte(extentsTag))
	f.Add(run{Off: 4096, Len: 512, At: 7, Size: 30, CRC: 9}.append([]byte(extentsTag)))
	f.Fuzz(func(t *testing.T, data []byte) {
		runs, err := decodeRuns(data)
		if err != nil {
			return
		}
		again := []byte(extentsTag)
		for _, r := range runs {
			again = r.append(again)
		}
		if !bytes.Equal(again, data) {
			t.Fatalf("%x becomes %x", data, again)
		}
	})
}

// TestImagesGiveTheBytesBack: runs of data and zeros, shorter and longer than a
// frame; and a damaged frame is refused.
func TestImagesGiveTheBytesBack(t *testing.T) {
	dev := block.NewMemory(8<<20, block.DefaultGeometry)
	rng := rand.New(rand.NewPCG(1, 1))
	noise := make([]byte, 3<<20)
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	for _, at := range []int64{100 << 10, 1 << 20, 2<<20 - 8<<10} { // zeros in the midst, and at the end of a frame
		clear(noise[at : at+8<<10])
	}
	copy(noise[2<<20:], noise[:1<<20]) // stored already
	if _, err := dev.WriteAt(noise, 1<<20); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "after.img")
	w, err := newImageWriter(path)
	if err != nil {
		t.Fatal(err)
	}
	var runs []run
	for _, e := range []block.Extent{{Off: 0, Len: 512}, {Off: 1 << 20, Len: 2500 * 512}, {Off: 5 << 20, Len: 1 << 20, Zero: true}, {Off: 3<<20 - 512, Len: 2 << 20}} {
		for at := int64(0); at < e.Len; { // in pieces of any length
			n := min(e.Len-at, 512*(1+rng.Int64N(300)))
			part, err := block.ReadSized(dev, e.Off+at, n, 8<<20)
			if err != nil {
				t.Fatal(err)
			}
			if block.IsZero(part) {
				part = nil
			}
			if runs, err = w.put(runs, dev, block.Extent{Off: e.Off + at, Len: n, Zero: e.Zero}, part); err != nil {
				t.Fatal(err)
			}
			at += n
		}
	}
	if runs, err = w.ended(runs, dev); err != nil {
		t.Fatal(err)
	}
	data := 0
	for _, x := range runs {
		if data += min(1, int(x.Size)); x.Size > 0 && x.Off%chunk != 0 && x.Off != 3<<20-512 {
			t.Errorf("a frame from byte %d on: a piece's end has cut it", x.Off)
		}
	}
	if data != 20+16 { // the 512 bytes before 3 MiB are zeros
		t.Errorf("%d frames", data)
	}
	if err := w.close(); err != nil {
		t.Fatal(err)
	}
	r, err := newImageReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer r.close()
	zeros, last := 0, run{}
	for _, x := range runs {
		if x.Zero {
			zeros++
			continue
		}
		got, err := r.read(x)
		want, _ := block.ReadSized(dev, x.Off, x.Len, chunk)
		if err != nil || !bytes.Equal(got, want) {
			t.Fatalf("run at %d: %v", x.Off, err)
		}
		last = x
	}
	if zeros < 3 {
		t.Errorf("%d zero runs: zeros are stored", zeros)
	}
	if err := r.f.Close(); err != nil {
		t.Fatal(err)
	}
	if r.f, err = os.Open(os.DevNull); err != nil {
		t.Fatal(err)
	}
	clear(r.recent)
	if _, err := r.read(last); err == nil {
		t.Errorf("a frame that is not there: %v", err)
	}
}

func logLine(body string) string {
	return fmt.Sprintf("%08x %s\n", crc32.ChecksumIEEE([]byte(body)), body)
}

// TestLogTellsWhereThingsStand: after each sequence of events, which stroke is
// next, and whether it may be done in part.
func TestLogTellsWhereThingsStand(t *testing.T) {
	for _, c := range []struct {
		events string
		want   position
	}{
		{"", position{0, false, 0, Unfinished, ""}},
		{"begin 0", position{0, true, 0, Unfinished, "boot"}},
		{"begin 0,end 0", position{1, false, 0, Unfinished, "boot"}},
		{"begin 0,end 0,begin 1", position{1, true, 0, Unfinished, "boot"}},
		{"begin 0,end 0,begin 1,begin-back 1", position{1, true, 0, Unfinished, "boot"}},
		{"begin 0,end 0,begin 1,begin-back 1,end-back 1", position{1, false, 0, Unfinished, "boot"}},
		{"begin 0,end 0,begin-back 0,end-back 0,taken-back 0", position{0, false, 0, TakenBack, "boot"}},
		{"begin 0,end 0,completed 0", position{1, false, 0, Done, "boot"}},
		{"begin 0,end 0,begin-back 0,begin 0", position{0, true, 0, Unfinished, "boot"}},
		{"begin 0,mark 0 4096,mark 0 8192", position{0, true, 8192, Unfinished, "boot"}},
		{"begin 0,mark 0 8192,begin-back 0,mark 0 4096", position{0, true, 4096, Unfinished, "boot"}},
		{"begin 0,mark 0 8192,begin 0", position{0, true, 8192, Unfinished, "boot"}},
		{"begin 0,mark 0 8192,end 0,begin 1", position{1, true, 0, Unfinished, "boot"}},
	} {
		text := ""
		for e := range strings.SplitSeq(c.events, ",") {
			if e != "" {
				if !strings.HasPrefix(e, "mark") { // whose text is a number
					e += " words"
				}
				text += logLine("2026-03-01T08:00:00Z boot " + e)
			}
		}
		got, err := parseLog([]byte(text))
		if err != nil || got != c.want {
			t.Errorf("%q: %+v, %v, want %+v", c.events, got, err, c.want)
		}
		for cut := range len(text) { // a torn last line is left out
			if lines := strings.Count(text[:cut], "\n"); strings.Count(text, "\n")-lines > 1 {
				continue
			}
			if _, err := parseLog([]byte(text[:cut])); err != nil {
				t.Errorf("%q cut at %d: %v", c.events, cut, err)
			}
		}
	}
	for _, mark := range []string{"mark 0", "mark 0 -1", "mark 0 far"} {
		text := logLine("2026-03-01T08:00:00Z boot begin 0 x") + logLine("2026-03-01T08:00:00Z boot "+mark) + logLine("2026-03-01T08:00:00Z boot end 0 x")
		if _, err := parseLog([]byte(text)); !errors.Is(err, ErrTorn) {
			t.Errorf("%q: %v", mark, err)
		}
	}
	bad := logLine("2026-03-01T08:00:00Z boot begin 0 x") + "00000000 damaged\n" + logLine("2026-03-01T08:00:00Z boot end 0 x")
	if _, err := parseLog([]byte(bad)); !errors.Is(err, ErrTorn) {
		t.Errorf("damage before the last line: %v", err)
	}
}

// FuzzLog: any bytes are read without a panic, and a position is never
// negative.
func FuzzLog(f *testing.F) {
	f.Add([]byte(logLine("2026-03-01T08:00:00Z boot begin 3 write")))
	f.Add([]byte("\n\n\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, _ := parseLog(data); p.next < 0 {
			t.Fatalf("%+v", p)
		}
	})
}

// TestDraftsAreForgotten after 24 hours, and when there are more than 50.
func TestDraftsAreForgotten(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	s := NewStore(filepath.Join(t.TempDir(), "state"), func() time.Time { return now })
	for i := range 60 {
		now = now.Add(time.Minute)
		if err := s.PutDraft(StoredDraft{Code: fmt.Sprintf("%08x", i), Created: now}); err != nil {
			t.Fatal(err)
		}
	}
	all, err := s.Drafts()
	if err != nil || len(all) != 50 || all[0].Code != "0000003b" {
		t.Errorf("%d drafts, newest %v, %v", len(all), all[0].Code, err)
	}
	if _, err := s.Draft("00000000"); !errors.Is(err, ErrNoDraft) {
		t.Errorf("the oldest: %v", err)
	}
	if err := os.WriteFile(s.path("drafts", "0000003b.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Draft("0000003b"); !errors.Is(err, ErrNoDraft) {
		t.Errorf("a torn one: %v", err)
	}
	now = now.Add(25 * time.Hour)
	if all, _ := s.Drafts(); len(all) != 0 {
		t.Errorf("%d drafts after a day", len(all))
	}
}

// TestDirectoryWithoutManifestIsNoDeed: it never touched a device.
func TestDirectoryWithoutManifestIsNoDeed(t *testing.T) {
	s := NewStore(t.TempDir(), time.Now)
	if err := os.MkdirAll(s.path("deeds", "0001-ab"), 0o700); err != nil {
		t.Fatal(err)
	}
	if all, err := s.List(); len(all) != 0 || err != nil {
		t.Errorf("List = %v, %v", all, err)
	}
	if _, err := s.Find(""); !errors.Is(err, ErrNone) {
		t.Errorf("Find = %v", err)
	}
}

// TestWhatLiesOnADiskTouchesIt: a deed on a volume and one on the disk below it are in
// each other's way, and so are two on a disk that has grown between them, on one link, one
// swap file, or one place's owners; two on other disks or files are not.
func TestWhatLiesOnADiskTouchesIt(t *testing.T) {
	disk := inventory.Identity{Disk: "LS-20417", Own: true, Size: 1 << 30, Sector: 512}
	grown := disk
	grown.Size *= 2
	on := func(d draft.Device, start quantity.Bytes) *Manifest {
		m := sample()
		d.Name, d.Written = "sdb", true
		m.Devices = []draft.Device{d}
		m.Steps[0].Body.(*draft.Writing).Target = machine.Target{Device: "sdb", Start: start, Size: 512}
		return m
	}
	does := func(s draft.Step) *Manifest { return &Manifest{Steps: []draft.Step{s}} }
	volume := draft.Device{Identity: inventory.Identity{Disk: "volume-images", Size: 1 << 20, Sector: 512}, Below: []inventory.Identity{disk}}
	other := draft.Device{Identity: inventory.Identity{Disk: "LS-20418", Own: true, Size: 1 << 30, Sector: 512}}
	for _, c := range []struct {
		name string
		a, b *Manifest
		want bool
	}{
		{"a volume and its disk", on(volume, 0), on(draft.Device{Identity: disk}, 4096), true},
		{"a disk that has grown", on(draft.Device{Identity: disk}, 0), on(draft.Device{Identity: grown}, 0), true},
		{"another place of it", on(draft.Device{Identity: disk}, 0), on(draft.Device{Identity: grown}, 4096), false},
		{"another disk", on(draft.Device{Identity: disk}, 0), on(other, 0), false},
		{"one link", does(draft.Step{Body: &draft.Linking{Path: "/herb", To: "/srv/a"}}), does(draft.Step{Body: &draft.Linking{Path: "/herb", To: "/srv/b"}}), true},
		{"a link and a swap file", does(draft.Step{Body: &draft.Linking{Path: "/herb"}}), does(draft.Step{Body: &draft.Making{Path: "/herb"}}), true},
		{"two swap files", does(draft.Step{Body: &draft.Making{Path: "/a"}}), does(draft.Step{Body: &draft.Making{Path: "/b"}}), false},
		{"the owners of one place", does(draft.Step{Body: &draft.Owning{Node: "sdb1", Where: "/srv"}}), does(draft.Step{Body: &draft.Owning{Node: "sdc1", Where: "/srv"}}), true},
		{"the owners of two", does(draft.Step{Body: &draft.Owning{Node: "sdb1", Where: "/srv"}}), does(draft.Step{Body: &draft.Owning{Node: "sdc1", Where: "/opt"}}), false},
	} {
		if want := map[bool]Touch{true: Under}[c.want]; c.a.Touches(c.b) != want || c.b.Touches(c.a) != want {
			t.Errorf("%s: %v, %v", c.name, c.a.Touches(c.b), c.b.Touches(c.a))
		}
	}
}

// TestAnOlderFormatIsShownAlone: a deed of format 1 says what it was and when; it is not
// carried out, and says who can.
func TestAnOlderFormatIsShownAlone(t *testing.T) {
	body := `{"format":1,"id":"0007-3fa9c210","number":7,"code":"3fa9c210","title":"format sdb1 as ext4","created":"2026-03-01T08:00:00Z","undo":"exactly",
"targets":[{"name":"sdb"}],"steps":[{"kind":"write","title":"make ext4","disk":"sdb","target":{"Disk":"sdb","Size":512,"Content":true},"phases":[0,1]}],"units":[{"step":0,"kind":"write","disk":"sdb"}],"digests":{}}`
	sum := sha256.Sum256([]byte(body))
	s := NewStore(t.TempDir(), time.Now)
	dir := filepath.Join(s.Dir, "deeds", "0007-3fa9c210")
	err := os.MkdirAll(dir, 0o700)
	err = errors.Join(err, os.WriteFile(filepath.Join(dir, "manifest"), []byte(body+"\nsha256 "+hex.EncodeToString(sum[:])+"\n"), 0o600))
	all, errList := s.List()
	if err = errors.Join(err, errList); err != nil || len(all) != 1 || all[0].Problem != nil || all[0].Title != "format sdb1 as ext4" || all[0].Steps[0].Title != "make ext4" {
		t.Fatalf("%+v, %v", all, err)
	}
	if _, err := all[0].OpenFormer(); !errors.Is(err, ErrOld) {
		t.Errorf("undo = %v", err)
	}
	r := Recover{Store: s}
	if _, err := r.Run(context.Background(), all[0]); !errors.Is(err, ErrOld) || !strings.Contains(err.Error(), "older than 0.1.0") {
		t.Errorf("recover = %v", err)
	}
}

// TestAListingReadsNoManifest: what a commit has to know of a thousand deeds stands in their names
// and logs; what is kept is pruned by that, but for what was cut short or cannot be read.
func TestAListingReadsNoManifest(t *testing.T) {
	s := NewStore(t.TempDir(), time.Now)
	s.Deeds = 10
	if err := s.prepare(); err != nil {
		t.Fatal(err)
	}
	for i := range 50 {
		m := sample()
		m.Number, m.ID = i+1, fmt.Sprintf("%04d-3fa9c210", i+1)
		data, err := m.encode()
		dir := s.path("deeds", m.ID)
		log := logLine("2026-03-01T08:00:00Z boot begin 0 x") + logLine("2026-03-01T08:00:00Z boot completed 0 x")
		switch i {
		case 3: // cut short
			log = logLine("2026-03-01T08:00:00Z boot begin 0 x")
		case 5: // whoever wrote it is not to be believed
			data[10] ^= 1
		case 7:
			log = "00000000 damaged\n" + log
		}
		err = errors.Join(err, os.Mkdir(dir, 0o700), os.WriteFile(filepath.Join(dir, "manifest"), data, 0o600), os.WriteFile(filepath.Join(dir, "log"), []byte(log), 0o600))
		if err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.listing()
	if err != nil || len(list) != 50 || list[0].number != 50 || len(s.manifests.known) != 0 {
		t.Fatalf("%d deeds, the first is %+v, %d manifests read, %v", len(list), list[0], len(s.manifests.known), err)
	}
	unfinished := 0
	for _, e := range list {
		if e.state == Unfinished {
			unfinished++
		}
	}
	if err := s.prune(list); unfinished != 2 || err != nil {
		t.Errorf("%d unfinished, %v", unfinished, err)
	}
	left, err := s.List()
	if err != nil || len(left) != 9+3 || left[9].Number != 8 || left[11].Number != 4 {
		t.Errorf("%d deeds are left, %v", len(left), err)
	}
}
