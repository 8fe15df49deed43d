// Package field reads numbers and texts off a structure's bytes.
//
// A Reader knows the structure's name and where it lies on the device, and
// keeps the first error, so that a decoder reads field after field and asks
// once. Nothing here panics on short data.
package field

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// Classes of errors that a decoder reports.
var (
	ErrShort       = errors.New("the structure ends before it")
	ErrMagic       = errors.New("not the expected signature")
	ErrChecksum    = errors.New("the checksum does not match")
	ErrRange       = errors.New("out of range")
	ErrUnsupported = errors.New("a valid feature that Fundus does not know")
)

// Error is a field that broke a rule.
type Error struct {
	Struct, Field string // "GPT header", "first usable LBA"
	Off           int64  // byte on the device
	Got           any
	Want          string // the rule in words, may be empty
	Err           error
}

func (e *Error) Error() string {
	text := fmt.Sprintf("%s at byte %d: %s", e.Struct, e.Off, e.Field)
	if e.Got != nil {
		text += fmt.Sprintf(" is %v", e.Got)
	}
	if e.Want != "" {
		text += ", " + e.Want
	}
	return text + ": " + e.Err.Error()
}

// Unwrap gives the class.
func (e *Error) Unwrap() error { return e.Err }

// Reader reads fields at fixed offsets of one structure.
type Reader struct {
	Struct string
	Base   int64 // byte on the device of the structure's first byte
	Bytes  []byte
	Order  binary.ByteOrder
	err    error
}

// New is a reader of the structure with the given byte order.
func New(name string, base int64, b []byte, order binary.ByteOrder) *Reader {
	return &Reader{Struct: name, Base: base, Bytes: b, Order: order}
}

// Err is the first error so far.
func (r *Reader) Err() error { return r.err }

// Fail records an error about a field, unless there is one already.
func (r *Reader) Fail(name string, off int, got any, want string, class error) {
	if r.err == nil {
		r.err = &Error{r.Struct, name, r.Base + int64(off), got, want, class}
	}
}

// Raw gives n bytes at off; on an error n zeros, so that the caller can go on.
func (r *Reader) Raw(name string, off, n int) []byte {
	if off < 0 || n < 0 || off > len(r.Bytes)-n {
		r.Fail(name, off, nil, "", ErrShort)
		return make([]byte, max(n, 0))
	}
	return r.Bytes[off : off+n]
}

// U8 reads one byte.
func (r *Reader) U8(name string, off int) uint8 { return r.Raw(name, off, 1)[0] }

// U16 reads two bytes.
func (r *Reader) U16(name string, off int) uint16 { return r.Order.Uint16(r.Raw(name, off, 2)) }

// U32 reads four bytes.
func (r *Reader) U32(name string, off int) uint32 { return r.Order.Uint32(r.Raw(name, off, 4)) }

// U64 reads eight bytes.
func (r *Reader) U64(name string, off int) uint64 { return r.Order.Uint64(r.Raw(name, off, 8)) }

// Text reads n bytes up to the first zero byte.
func (r *Reader) Text(name string, off, n int) string {
	text, _, _ := strings.Cut(string(r.Raw(name, off, n)), "\x00")
	return text
}
