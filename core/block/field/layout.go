package field

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/google/uuid"

	"fundus/core/block"
)

// Form says what the bytes of a field mean.
type Form func(b []byte, order binary.ByteOrder) string

// Spec is one field; it begins where the one before it ends.
type Spec struct {
	Size int // bytes
	Form Form
	Name string
}

// Structure is one structure of a device with all of its fields.
type Structure struct {
	Name   string
	Base   int64 // byte on the device
	Fields []Field
}

// Field is one field as it lies on the device.
type Field struct {
	At      int64 // byte on the device
	Raw     []byte
	Name    string
	Meaning string
}

// most bounds a structure: the largest superblock has 4 KiB.
const most = 8 << 10

// ReadStructure reads the fields of one structure. Those behind the end of the
// device are left out.
func ReadStructure(dev block.Device, name string, base int64, order binary.ByteOrder, specs []Spec) (Structure, error) {
	size := int64(0)
	for _, s := range specs {
		size += int64(s.Size)
	}
	s := Structure{Name: name, Base: base}
	if base < 0 || base >= dev.Size() {
		return s, nil
	}
	b, err := block.ReadSized(dev, base, min(size, dev.Size()-base), most)
	if err != nil {
		return s, err
	}
	at := 0
	for _, spec := range specs {
		if at+spec.Size > len(b) {
			break
		}
		raw := b[at : at+spec.Size]
		s.Fields = append(s.Fields, Field{base + int64(at), raw, spec.Name, spec.Form(raw, order)})
		at += spec.Size
	}
	return s, nil
}

// As is a field with a form of its own.
func As(size int, name string, form Form) Spec { return Spec{size, form, name} }

// Number is a count.
func Number(size int, name string) Spec { return Spec{size, number, name} }

// Signed is a count that may be negative.
func Signed(size int, name string) Spec { return Spec{size, signed, name} }

// Hex is a number that is read by its digits.
func Hex(size int, name string) Spec { return Spec{size, hex, name} }

// Numbers is several numbers of 4 bytes each.
func Numbers(size int, name string) Spec { return Spec{size, numbers, name} }

// Text is a text that ends with a zero byte or with its field; blanks at its end are padding.
func Text(size int, name string) Spec { return Spec{size, text, name} }

// Wide is a text of UTF-16 units.
func Wide(size int, name string) Spec { return Spec{size, wide, name} }

// ID is a UUID in the order in which it is written.
func ID(size int, name string) Spec { return Spec{size, id, name} }

// GUID is a UUID whose first three parts are little-endian (UEFI 2.10, appendix A).
func GUID(size int, name string) Spec { return Spec{size, guidText, name} }

// Seconds is a time, in seconds since 1970.
func Seconds(size int, name string) Spec { return Spec{size, seconds, name} }

// Power is an exponent of 2.
func Power(size int, name string) Spec { return Spec{size, power, name} }

// Bytes is bytes without a meaning of their own.
func Bytes(size int, name string) Spec { return Spec{size, bytes, name} }

// Uint is the number of at most 8 bytes.
func Uint(b []byte, order binary.ByteOrder) uint64 {
	wide := make([]byte, 8)
	b = b[:min(len(b), len(wide))]
	if order == binary.BigEndian {
		copy(wide[8-len(b):], b)
		return binary.BigEndian.Uint64(wide)
	}
	copy(wide, b)
	return binary.LittleEndian.Uint64(wide)
}

func number(b []byte, order binary.ByteOrder) string {
	return strconv.FormatUint(Uint(b, order), 10)
}

func signed(b []byte, order binary.ByteOrder) string {
	n := Uint(b, order)
	shift := 64 - 8*len(b)
	return strconv.FormatInt(int64(n<<shift)>>shift, 10)
}

func hex(b []byte, order binary.ByteOrder) string { return fmt.Sprintf("%#x", Uint(b, order)) }

func numbers(b []byte, order binary.ByteOrder) string {
	var words []string
	for at := 0; at+4 <= len(b); at += 4 {
		words = append(words, strconv.FormatUint(uint64(order.Uint32(b[at:])), 10))
	}
	return strings.Join(words, " ")
}

func text(b []byte, _ binary.ByteOrder) string {
	text, _, _ := strings.Cut(string(b), "\x00")
	return strconv.Quote(strings.TrimRight(text, " "))
}

func wide(b []byte, order binary.ByteOrder) string {
	var units []uint16
	for at := 0; at+2 <= len(b); at += 2 {
		u := order.Uint16(b[at:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return strconv.Quote(string(utf16.Decode(units)))
}

func id(b []byte, _ binary.ByteOrder) string {
	id, err := uuid.FromBytes(b)
	switch {
	case err != nil:
		return err.Error()
	case id == uuid.Nil:
		return "none"
	}
	return id.String()
}

func guidText(b []byte, order binary.ByteOrder) string {
	if len(b) != 16 {
		return id(b, order)
	}
	b = slices.Clone(b)
	slices.Reverse(b[0:4])
	slices.Reverse(b[4:6])
	slices.Reverse(b[6:8])
	return id(b, order)
}

func seconds(b []byte, order binary.ByteOrder) string {
	n := Uint(b, order)
	switch {
	case n == 0:
		return "none"
	case n > 1<<40: // 34,000 years: damage, and no date that a calendar shows
		return fmt.Sprintf("%d s since 1970: no time", n)
	}
	return time.Unix(int64(n), 0).UTC().Format("2006-01-02 15:04:05 UTC")
}

func power(b []byte, order binary.ByteOrder) string {
	n := Uint(b, order)
	if n > 62 {
		return fmt.Sprintf("%d: no exponent", n)
	}
	return fmt.Sprintf("2^%d = %d", n, uint64(1)<<n)
}

// Shifted is an exponent of 2 behind a factor, such as blocks of 1024 << n.
func Shifted(size int, name string, factor uint64) Spec {
	return Spec{size, ShiftedForm(factor), name}
}

// ShiftedForm is the form of Shifted.
func ShiftedForm(factor uint64) Form {
	return func(b []byte, order binary.ByteOrder) string {
		n := Uint(b, order)
		if n > 40 {
			return fmt.Sprintf("%d: no exponent", n)
		}
		return fmt.Sprintf("%d × 2^%d = %d", factor, n, factor<<n)
	}
}

// Bits is a set of flags, named from the lowest; "" has no name here.
func Bits(size int, name string, names ...string) Spec {
	return Spec{size, BitsForm(names...), name}
}

// BitsForm is the form of Bits.
func BitsForm(names ...string) Form {
	return func(b []byte, order binary.ByteOrder) string {
		n := Uint(b, order)
		var words []string
		for i := range 64 {
			switch {
			case n>>i&1 == 0:
			case i < len(names) && names[i] != "":
				words = append(words, names[i])
			default:
				words = append(words, fmt.Sprintf("bit %d", i))
			}
		}
		if len(words) == 0 {
			return fmt.Sprintf("%#x", n)
		}
		return fmt.Sprintf("%#x: %s", n, strings.Join(words, ", "))
	}
}

// Words is a number whose values have names.
func Words(size int, name string, names map[uint64]string) Spec {
	return Spec{size, WordsForm(names), name}
}

// WordsForm is the form of Words.
func WordsForm(names map[uint64]string) Form {
	return func(b []byte, order binary.ByteOrder) string {
		n := Uint(b, order)
		if name, ok := names[n]; ok {
			return fmt.Sprintf("%d: %s", n, name)
		}
		return strconv.FormatUint(n, 10)
	}
}

func bytes(b []byte, _ binary.ByteOrder) string {
	if block.IsZero(b) {
		return "zeros"
	}
	return ""
}
