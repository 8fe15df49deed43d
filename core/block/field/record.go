package field

import (
	"encoding/binary"
	"fmt"
	"reflect"
	"strings"

	"fundus/core/block"
)

// A record is a struct of numbers of fixed size and arrays of them, in the order in which
// they lie on the disk without gaps: the one description of a structure, by which it is
// read (Decode), written (Encode) and shown (ReadRecord). Structs inside are joined on.
// Each field has a tag `disk` with its name, and `form` where it is no number:
// hex, seconds, text, power, numbers. A UUID is shown as one.

// Decode reads a record off the beginning of b; ErrShort where b ends before it.
func Decode(b []byte, order binary.ByteOrder, record any) error {
	if _, err := binary.Decode(b, order, record); err != nil {
		return fmt.Errorf("%w: %d bytes of %d", ErrShort, len(b), binary.Size(record))
	}
	return nil
}

// Encode gives the bytes of a record. Its type must be a record's; a test of the package
// that has it sees otherwise.
func Encode(order binary.ByteOrder, record any) []byte {
	b, err := binary.Append(make([]byte, 0, max(0, binary.Size(record))), order, record)
	if err != nil {
		panic(fmt.Sprintf("%T is no record: %v", record, err))
	}
	return b
}

// Specs lists the fields of a record for people. Forms are those that need more than a
// word, by the names of the struct's fields.
func Specs(record any, forms map[string]Form) (out []Spec) {
	t := reflect.TypeOf(record)
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			out = append(out, Specs(reflect.Zero(f.Type).Interface(), forms)...)
			continue
		}
		form, ok := forms[f.Name]
		if !ok {
			form = formOf(f)
		}
		out = append(out, Spec{int(f.Type.Size()), form, f.Tag.Get("disk")})
	}
	return out
}

func formOf(f reflect.StructField) Form {
	switch f.Tag.Get("form") {
	case "hex":
		return hex
	case "seconds":
		return seconds
	case "text":
		return text
	case "power":
		return power
	case "numbers":
		return numbers
	}
	switch {
	case strings.HasSuffix(f.Type.String(), "UUID"):
		return id
	case f.Type.Kind() == reflect.Array:
		return bytes
	case f.Type.Kind() >= reflect.Int && f.Type.Kind() <= reflect.Int64:
		return signed
	}
	return number
}

// At gives the offset in bytes of a record's field, by its name in the struct; -1 where
// there is none.
func At(record any, name string) int {
	at, found := offset(reflect.TypeOf(record), name)
	if !found {
		return -1
	}
	return at
}

func offset(t reflect.Type, name string) (at int, found bool) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Name == name {
			return at, true
		}
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			inner, found := offset(f.Type, name)
			if at += inner; found {
				return at, true
			}
			continue
		}
		at += int(f.Type.Size())
	}
	return at, false
}

// ReadRecord reads the fields of a record for people; those behind the end of the device
// are left out.
func ReadRecord(dev block.Device, name string, base int64, order binary.ByteOrder, record any, forms map[string]Form) (Structure, error) {
	return ReadStructure(dev, name, base, order, Specs(record, forms))
}
