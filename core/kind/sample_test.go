package kind

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/probe/sample"
)

func build(t testing.TB, s sample.Sample) block.Device {
	t.Helper()
	dev := block.NewMemory(s.Size, block.DefaultGeometry)
	for at, b := range s.Pieces {
		if err := block.WriteBytes(dev, b, at); err != nil {
			t.Fatal(err)
		}
	}
	return dev
}

// TestSamples: each sample is recognised as what it is, and as nothing else.
func TestSamples(t *testing.T) {
	for _, s := range sample.All() {
		found, err := Probe(build(t, s))
		if err != nil || len(found) != 1 {
			t.Errorf("%s: %d found, %v: %+v", s.Name, len(found), err, found)
			continue
		}
		c := found[0]
		if c.Kind != s.Kind || c.Label != s.Label || c.UUID != s.UUID || int64(c.Size) != s.Length || len(c.Signatures) == 0 {
			t.Errorf("%s: %q %q %q %d, want %q %q %q %d; %v", s.Name, c.Kind, c.Label, c.UUID, c.Size, s.Kind, s.Label, s.UUID, s.Length, c.Facts)
		}
	}
}

// TestBootSector: a file system on a whole disk, with boot code and a signature in
// front, is no partition table; without the file system it is an empty one.
func TestBootSector(t *testing.T) {
	all := sample.All()
	dev := build(t, all[slices.IndexFunc(all, func(s sample.Sample) bool { return s.Name == "ext2" })])
	boot := make([]byte, 512)
	copy(boot, "\xEB\x63\x90")
	copy(boot[440:], "\x12\x34\x56\x78")
	boot[510], boot[511] = 0x55, 0xAA
	if err := block.WriteBytes(dev, boot, 0); err != nil {
		t.Fatal(err)
	}
	if found, err := Probe(dev); err != nil || len(found) != 1 || found[0].Kind != "ext2" {
		t.Errorf("found %v, %v", found, err)
	}
	if err := dev.WriteZeroes(1024, 1024); err != nil {
		t.Fatal(err)
	}
	if found, err := Probe(dev); err != nil || len(found) != 1 || found[0].Kind != "MBR" {
		t.Errorf("without it: %v, %v", found, err)
	}
}

// TestFields: every kind shows the fields of its structures; each field's bytes
// are those of the device, and fields follow each other without a gap.
func TestFields(t *testing.T) {
	shown := map[string]bool{}
	for _, s := range sample.All() {
		dev := build(t, s)
		list, err := Fields(dev)
		if err != nil || len(list) == 0 {
			t.Errorf("%s: %d structures, %v", s.Name, len(list), err)
		}
		for _, x := range list {
			at := x.Base
			for _, f := range x.Fields {
				b, err := block.ReadSized(dev, f.At, int64(len(f.Raw)), 1<<16)
				if err != nil || string(b) != string(f.Raw) || f.At != at || f.Name == "" {
					t.Fatalf("%s: %s: %+v at %d, %v", s.Name, x.Name, f, at, err)
				}
				at += int64(len(f.Raw))
				digits := func(id string) string { return strings.ToLower(strings.ReplaceAll(id, "-", "")) }
				if s.UUID != "" && strings.Contains(digits(f.Meaning), digits(s.UUID)) || s.Label != "" && strings.Contains(f.Meaning, s.Label) {
					shown[s.Name] = true
				}
			}
			if len(x.Fields) < 4 && x.Name != "end of the first page" {
				t.Errorf("%s: %s has %d fields", s.Name, x.Name, len(x.Fields))
			}
		}
	}
	for _, k := range All() {
		if k.Fields == nil {
			t.Errorf("%s shows no fields", k.Name)
		}
	}
	if len(shown) < 21 { // some keep their name in a list or a file
		t.Errorf("only %d samples show their identifier or label among their fields: %v", len(shown), shown)
	}
}

// counting counts the bytes that are read.
type counting struct {
	block.Device
	bytes int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	return c.Device.ReadAt(p, off)
}

// TestProbesReadLittle: whatever is on a device, all probes together read less
// than a MiB of it.
func TestProbesReadLittle(t *testing.T) {
	for _, s := range append(sample.All(), sample.Sample{Name: "blank", Size: 1 << 30}) {
		c := &counting{Device: build(t, s)}
		if _, err := Probe(c); err != nil || c.bytes > 1<<20 {
			t.Errorf("%s: %d bytes read, %v", s.Name, c.bytes, err)
		}
	}
}

// FuzzSamples: a sample with some of its bytes changed is recognised or not,
// and never makes a probe fail, or read much.
func FuzzSamples(f *testing.F) {
	for i, s := range sample.All() {
		for at := range s.Pieces {
			f.Add(uint8(i), at+70, []byte{0xFF, 0xFF, 0xFF, 0xFF})
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, at int64, b []byte) {
		all := sample.All()
		s := all[int(which)%len(all)]
		if at < 0 || len(b) > 4096 || at > s.Size-int64(len(b)) {
			t.Skip()
		}
		dev := build(t, s)
		if err := block.WriteBytes(dev, b, at); err != nil {
			t.Fatal(err)
		}
		c := &counting{Device: dev}
		if _, err := Probe(c); err != nil || c.bytes > 2<<20 {
			t.Fatalf("%s: %v, %d bytes read", s.Name, err, c.bytes)
		}
		if _, err := Fields(dev); err != nil {
			t.Fatalf("%s: fields: %v", s.Name, err)
		}
	})
}

// unreadable fails reads that go beyond a byte.
type unreadable struct {
	block.Device
	from int64
}

var errUnreadable = errors.New("a bad sector")

func (u unreadable) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > u.from {
		return 0, errUnreadable
	}
	return u.Device.ReadAt(p, off)
}

// TestWhatIsRecognisedStays: what is made here is recognised by its superblock, with label and
// identifier, whatever behind it cannot be read. FAT alone has its label in a directory.
func TestWhatIsRecognisedStays(t *testing.T) {
	for _, m := range Makers() {
		dev, _ := made(t, m, 512, nil)
		want, err := MakerOf(m).Probe(dev)
		if err != nil {
			t.Fatal(err)
		}
		super := max(int64(want.Signatures[0].End()), int64(want.Super.End()), 4096)
		got, err := MakerOf(m).Probe(unreadable{dev, super})
		if err != nil || got == nil || got.UUID != want.UUID || got.Label != want.Label && m.Word != "fat" || got.Kind != want.Kind {
			t.Errorf("%s with only its first %d bytes: %+v, %v", m.Word, super, got, err)
		}
	}
}
