package quantity

import (
	"errors"
	"fmt"
	"math/big"
	"strings"
)

// Form says which of the four forms of the notation a Size was written in.
type Form string

// The forms.
const (
	Absolute Form = "absolute" // a number of bytes
	InSector Form = "sectors"  // a number of logical sectors
	Percent  Form = "percent"  // a share
	Max      Form = "max"      // all that there is
	Min      Form = "min"      // what is needed, which only whoever looks can say
)

// Size is a size as somebody wrote it. It becomes bytes by Resolve, once it is
// known what sector and what whole are meant.
type Size struct {
	Form  Form
	Text  string // as written
	Bare  bool   // a bare letter: read as binary
	value *big.Rat
}

// Errors that callers tell apart.
var (
	ErrUnit     = errors.New("unknown unit")
	ErrNoUnit   = errors.New("no unit")
	ErrNegative = errors.New("a sign before a size")
	ErrSyntax   = errors.New("not a size")
	ErrRange    = errors.New("too large")
)

// SizeError is a word that is not a size, with the way out.
type SizeError struct {
	Text string
	Hint string
	Err  error
}

func (e *SizeError) Error() string { return fmt.Sprintf("%q: %v: %s", e.Text, e.Err, e.Hint) }

// Unwrap gives the class of the error: ErrUnit, ErrNegative and so on.
func (e *SizeError) Unwrap() error { return e.Err }

const unitsHint = "write KiB MiB GiB TiB (1024), kB MB GB TB (1000), B, sectors, % or max"

// Parse reads one absolute size, share, "max" or "min".
func Parse(text string) (Size, error) {
	word := strings.TrimSpace(text)
	for _, form := range []Form{Max, Min} {
		if strings.EqualFold(word, string(form)) {
			return Size{Form: form, Text: text}, nil
		}
	}
	if strings.HasPrefix(word, "-") || strings.HasPrefix(word, "+") {
		hint := "a change of size is written --by=" + word
		if word[0] == '+' {
			hint = "by so much more is written --by=" + word + ", to that size without the sign: " + strings.TrimSpace(word[1:])
		}
		return Size{}, &SizeError{text, hint, ErrNegative}
	}
	end := 0
	for end < len(word) && (word[end] >= '0' && word[end] <= '9' || word[end] == '.') {
		end++
	}
	number, unit := word[:end], strings.TrimSpace(word[end:])
	if strings.HasPrefix(unit, ",") {
		return Size{}, &SizeError{text, "write " + strings.Replace(word, ",", ".", 1) + ", with a point", ErrSyntax}
	}
	value, err := decimal(number)
	if err != nil {
		return Size{}, &SizeError{text, "it must begin with a number, such as 8GiB; " + unitsHint, ErrSyntax}
	}
	size := Size{Text: text, value: value}
	switch strings.ToLower(unit) {
	case "":
		return Size{}, &SizeError{text, unitsHint + ", as in " + number + "GiB or " + number + "sectors", ErrNoUnit}
	case "%":
		size.Form = Percent
		if value.Cmp(big.NewRat(100, 1)) > 0 {
			return Size{}, &SizeError{text, "a share is at most 100%", ErrRange}
		}
		return size, nil
	case "sector", "sectors":
		size.Form = InSector
		if !value.IsInt() {
			return Size{}, &SizeError{text, "sectors are whole", ErrSyntax}
		}
		return size, nil
	}
	factor, bare, ok := unitFactor(unit)
	if !ok {
		return Size{}, &SizeError{text, unitsHint, ErrUnit}
	}
	size.Form, size.Bare = Absolute, bare
	size.value.Mul(size.value, new(big.Rat).SetInt(factor))
	if floor(size.value).BitLen() > 63 {
		return Size{}, &SizeError{text, "the largest size is 8EiB less one byte", ErrRange}
	}
	return size, nil
}

// decimal reads digits with at most one point. Its length is bounded, since
// the text may come from anywhere.
func decimal(s string) (*big.Rat, error) {
	if s == "" || len(s) > 40 || strings.Count(s, ".") > 1 || s[0] == '.' || s[len(s)-1] == '.' {
		return nil, ErrSyntax
	}
	value, ok := new(big.Rat).SetString(s)
	if !ok {
		return nil, ErrSyntax
	}
	return value, nil
}

func unitFactor(unit string) (factor *big.Int, bare, ok bool) {
	lower := strings.ToLower(unit)
	if lower == "b" {
		return big.NewInt(1), false, true
	}
	power := strings.IndexByte("kmgtpe", lower[0]) + 1
	if power == 0 {
		return nil, false, false
	}
	base := int64(1024)
	switch lower[1:] {
	case "":
		bare = true
	case "ib":
	case "b":
		base = 1000
	default:
		return nil, false, false
	}
	return new(big.Int).Exp(big.NewInt(base), big.NewInt(int64(power)), nil), bare, true
}

func floor(r *big.Rat) *big.Int { return new(big.Int).Quo(r.Num(), r.Denom()) }

// Resolve gives the size in bytes, rounded down to a whole byte. The sector is
// that of the device, and whole is what a share or "max" is taken of. Errors: SizeError, also
// for "min".
func (s Size) Resolve(sector, whole Bytes) (Bytes, error) {
	if s.Form == Max {
		return whole, nil
	}
	if s.Form == Min {
		return 0, &SizeError{s.Text, "only resize works that out, and here a size is needed; " + unitsHint, ErrSyntax}
	}
	if s.value == nil {
		return 0, &SizeError{s.Text, unitsHint, ErrSyntax}
	}
	value := new(big.Rat).Set(s.value)
	switch s.Form {
	case InSector:
		value.Mul(value, new(big.Rat).SetInt64(int64(sector)))
	case Percent:
		value.Mul(value, big.NewRat(int64(whole), 100))
	}
	n := floor(value)
	if n.BitLen() > 63 {
		return 0, &SizeError{s.Text, "the largest size is 8EiB less one byte", ErrRange}
	}
	return Bytes(n.Int64()), nil
}

// String gives the size as it was written.
func (s Size) String() string { return s.Text }

// IsZero reports whether no size was given.
func (s Size) IsZero() bool { return s.Form == "" }

// MarshalText and UnmarshalText keep a Size in stored requests as it was
// written.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.Text), nil }

// UnmarshalText reads what MarshalText wrote; an empty text is the zero Size.
func (s *Size) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*s = Size{}
		return nil
	}
	*s, err = Parse(string(text))
	return err
}

// ParseChange reads a relative size such as +4GiB or -10%: its sign and its
// amount.
func ParseChange(text string) (grow bool, amount Size, err error) {
	word := strings.TrimSpace(text)
	// An amount alone is so much more. A share alone could be one of all, which is no change.
	if word != "" && word[0] >= '0' && word[0] <= '9' && !strings.HasSuffix(word, "%") {
		word = "+" + word
	}
	if word == "" || word[0] != '+' && word[0] != '-' {
		return false, Size{}, &SizeError{text, "a change of size is an amount, such as +4GiB or -10%", ErrSyntax}
	}
	amount, err = Parse(word[1:])
	if err == nil && (amount.Form == Max || amount.Form == Min) {
		err = &SizeError{text, "a change of size is an amount; max and min are sizes, and stand without --by", ErrSyntax}
	}
	return word[0] == '+', amount, err
}
