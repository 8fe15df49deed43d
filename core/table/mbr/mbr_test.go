package mbr

import (
	"testing"

	"fundus/core/block"
)

// sector0 is an MBR with one Linux partition; each case changes it.
func sector0(edit func(b []byte)) block.Device {
	b := make([]byte, 512)
	copy(b[diskSignature:], "\x0D\xF0\xAD\x0B")
	r := b[records:]
	r[recordType] = 0x83
	copy(r[recordFirst:], "\x00\x08\x00\x00\x00\x10\x00\x00")
	b[magic], b[magic+1] = 0x55, 0xAA
	edit(b)
	d := block.NewMemory(8<<20, block.DefaultGeometry)
	if _, err := d.WriteAt(b, 0); err != nil {
		panic(err)
	}
	return d
}

func TestRead(t *testing.T) {
	got, err := Read(sector0(func([]byte) {}))
	if err != nil || got == nil || len(got.Parts) != 1 {
		t.Fatalf("Read = %+v, %v", got, err)
	}
	p := got.Parts[0]
	if got.ID != "0badf00d" || p.Number != 1 || p.Span.Start != 2048 || p.Span.Count != 4096 || p.Type != "83" || p.UUID != "0badf00d-01" {
		t.Errorf("%s, %+v", got.ID, p)
	}
}

// TestWhatIsNoTable: a boot sector of a file system, a protective record, and a
// sector without partitions are not taken for one.
func TestWhatIsNoTable(t *testing.T) {
	for name, edit := range map[string]func(b []byte){
		"no magic":                func(b []byte) { b[magic] = 0 },
		"a boot flag of 0x41":     func(b []byte) { b[records+recordSize] = 0x41 },
		"a record that is 0xEE":   func(b []byte) { b[records+recordType] = typeGPT },
		"no record":               func(b []byte) { b[records+recordType] = 0 },
		"a record without length": func(b []byte) { clear(b[records+recordCount : records+recordCount+4]) },
	} {
		if got, err := Read(sector0(edit)); got != nil || err != nil {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
}
