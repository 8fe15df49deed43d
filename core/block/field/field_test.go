package field

import (
	"encoding/binary"
	"errors"
	"strings"
	"testing"
)

// TestReaderKeepsTheFirstError and never panics on short data.
func TestReaderKeepsTheFirstError(t *testing.T) {
	r := New("header", 4096, []byte{1, 2, 3, 4, 'a', 'b', 0, 'c'}, binary.LittleEndian)
	if got := r.U32("count", 0); got != 0x04030201 {
		t.Errorf("U32 = %#x", got)
	}
	if got := r.Text("name", 4, 4); got != "ab" {
		t.Errorf("Text = %q", got)
	}
	if got := r.U16("kind", 1); got != 0x0302 || r.Err() != nil {
		t.Errorf("U16 = %#x, %v", got, r.Err())
	}
	if got := r.U64("far", 5); got != 0 {
		t.Errorf("past the end = %#x", got)
	}
	r.U8("farther", 100)
	r.Fail("later", 0, 1, "", ErrRange)
	var e *Error
	if !errors.As(r.Err(), &e) || e.Field != "far" || e.Off != 4101 || !errors.Is(e, ErrShort) {
		t.Errorf("Err = %v", r.Err())
	}
}

// TestMessages reads each form of the message aloud.
func TestMessages(t *testing.T) {
	for want, e := range map[string]*Error{
		"GPT header at byte 512: own LBA is 2: out of range":                       {Struct: "GPT header", Field: "own LBA", Off: 512, Got: 2, Err: ErrRange},
		"fence at byte 0: signature: not the expected signature":                   {Struct: "fence", Field: "signature", Err: ErrMagic},
		"ext superblock at byte 1024: size is 9, at most 8: out of range":          {Struct: "ext superblock", Field: "size", Off: 1024, Got: 9, Want: "at most 8", Err: ErrRange},
		"ext superblock at byte 1: bit: a valid feature that Fundus does not know": {Struct: "ext superblock", Field: "bit", Off: 1, Err: ErrUnsupported},
		"GPT header at byte 0: CRC is 1: the checksum does not match":              {Struct: "GPT header", Field: "CRC", Got: 1, Err: ErrChecksum},
		"GPT header at byte 9: entries: the structure ends before it":              {Struct: "GPT header", Field: "entries", Off: 9, Err: ErrShort},
	} {
		if got := e.Error(); got != want || strings.Contains(got, "%!") {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
