package fs

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"
)

// IDForm is how a kind writes its identifier.
type IDForm string

// The forms.
const (
	Wide   IDForm = "UUID"   // 128 bits
	Serial IDForm = "serial" // 32 bits, of FAT
)

// ErrID is a word that is no identifier of the form.
var ErrID = errors.New("no identifier of this kind")

// ID is the identifier of a file system, of either form. The zero ID is none.
type ID struct {
	form  IDForm
	bytes [16]byte // a serial is in the first four, high byte first
}

// Fresh cuts a new random UUID down to the form.
func (f IDForm) Fresh(random uuid.UUID) ID {
	if f == Serial {
		if random[0] == 0 && random[1] == 0 && random[2] == 0 && random[3] == 0 {
			random[3] = 1 // nought would be none
		}
		return ID{f, [16]byte{random[0], random[1], random[2], random[3]}}
	}
	return ID{f, random}
}

// Parse reads the word that String gives. Letters of either case will do.
func (f IDForm) Parse(word string) (ID, error) {
	if f != Serial {
		u, err := uuid.Parse(word)
		if err != nil || len(word) != 36 || u == uuid.Nil {
			return ID{}, fmt.Errorf("%q: %w: it is a UUID of 32 hexadecimal digits, such as 5eed0000-0000-4000-8000-00000000fe11", word, ErrID)
		}
		return ID{Wide, u}, nil
	}
	n, err := strconv.ParseUint(strings.Replace(word, "-", "", 1), 16, 32)
	if err == nil && n == 0 && len(word) == 9 {
		return ID{}, fmt.Errorf("%q: %w: a serial number of nought is none", word, ErrID)
	}
	if err != nil || len(word) != 9 || word[4] != '-' {
		return ID{}, fmt.Errorf("%q: %w: it is a number of 8 hexadecimal digits, such as 5EED-FE11", word, ErrID)
	}
	return ID{Serial, [16]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}}, nil
}

// String is the identifier as Linux and fstab write it.
func (id ID) String() string {
	switch id.form {
	case Serial:
		return fmt.Sprintf("%02X%02X-%02X%02X", id.bytes[0], id.bytes[1], id.bytes[2], id.bytes[3])
	case Wide:
		return uuid.UUID(id.bytes).String()
	}
	return ""
}

// Number is a serial as a number; of a UUID its first 32 bits.
func (id ID) Number() uint32 {
	return uint32(id.bytes[0])<<24 | uint32(id.bytes[1])<<16 | uint32(id.bytes[2])<<8 | uint32(id.bytes[3])
}

// UUID gives the 128 bits; of a serial the first 32 of them are set.
func (id ID) UUID() uuid.UUID { return id.bytes }
