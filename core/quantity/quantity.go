package quantity

import (
	"fmt"
	"math"
	"math/bits"
)

// Bytes is a length or a position in bytes. It is never negative on a device;
// relative sizes use it signed.
type Bytes int64

// Count is a number of things: sectors, blocks, inodes.
type Count uint64

// LBA is the number of a logical sector together with that sector's size.
type LBA struct {
	Number uint64
	Sector Bytes
}

// Binary units.
const (
	KiB Bytes = 1 << (10 * (iota + 1))
	MiB
	GiB
	TiB
	PiB
	EiB
)

// Bytes is the position in bytes of the sector's first byte. It reports false
// where that does not fit.
func (l LBA) Bytes() (Bytes, bool) { return Count(l.Number).Times(l.Sector) }

// Times is n things of the given length, or false where that does not fit.
func (n Count) Times(each Bytes) (Bytes, bool) {
	if each < 0 {
		return 0, false
	}
	hi, lo := bits.Mul64(uint64(n), uint64(each))
	if hi != 0 || lo > math.MaxInt64 {
		return 0, false
	}
	return Bytes(lo), true
}

// Up rounds b up to a multiple of step, or reports false where that does not
// fit.
func (b Bytes) Up(step Bytes) (Bytes, bool) {
	rest := b % step
	if rest == 0 {
		return b, true
	}
	if b > math.MaxInt64-(step-rest) {
		return 0, false
	}
	return b + step - rest, true
}

// Style is the way in which sizes are printed.
type Style string

// The styles of the option --sizes.
const (
	IEC     Style = "iec"
	SI      Style = "si"
	Sectors Style = "sectors"
	Exact   Style = "bytes"
)

// ParseStyle reads the word given to --sizes.
func ParseStyle(word string) (Style, error) {
	switch s := Style(word); s {
	case IEC, SI, Sectors, Exact:
		return s, nil
	}
	return "", fmt.Errorf("%q is not a way to print sizes: use iec, si, sectors or bytes", word)
}

// Format prints b in the style. Sectors are counted in the given sector size,
// 512 where it is 0.
func (s Style) Format(b, sector Bytes) string {
	switch s {
	case SI:
		return scaled(b, 1000, []string{"B", "kB", "MB", "GB", "TB", "PB", "EB"})
	case Sectors:
		if sector <= 0 {
			sector = 512
		}
		return fmt.Sprintf("%d sectors", b/sector)
	case Exact:
		return fmt.Sprintf("%d", int64(b))
	}
	return b.String()
}

// String prints b in binary units with one decimal place.
func (b Bytes) String() string {
	return scaled(b, 1024, []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"})
}

// SI prints b in decimal units with one decimal place.
func (b Bytes) SI() string { return SI.Format(b, 0) }

// scaled prints with one decimal place in the largest unit that leaves at
// least 1, rounding half up; 1023.96 KiB becomes 1.0 MiB, not 1024.0 KiB.
func scaled(b Bytes, base uint64, units []string) string {
	sign, n := "", uint64(b)
	if b < 0 {
		sign, n = "-", uint64(-b)
	}
	if n < base {
		return fmt.Sprintf("%s%d %s", sign, n, units[0])
	}
	unit, i := base, 1
	for n/unit >= base && i < len(units)-1 {
		unit, i = unit*base, i+1
	}
	whole, tenths := n/unit, (n%unit*10+unit/2)/unit
	if tenths == 10 {
		whole, tenths = whole+1, 0
	}
	if whole == base && i < len(units)-1 {
		whole, i = 1, i+1
	}
	return fmt.Sprintf("%s%d.%d %s", sign, whole, tenths, units[i])
}
