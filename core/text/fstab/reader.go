package fstab

import (
	"strconv"
	"strings"
)

// blanks are what separates fields. Nothing else does: a form feed or a no-break space is
// part of a field.
const blanks = " \t"

// mostLine is how many bytes of a line are read; the C library's buffer has one more, for
// the NUL.
const mostLine = 4095

// seen is the part of a line that the reader takes, without line end. Where it does not see
// the end, for a NUL byte stands before it, it looks for the end of a line once more, and
// finds that of the next.
func seen(raw string) (text string, takesNext bool) {
	text = raw[:min(len(raw), mostLine)]
	whole := strings.HasSuffix(text, "\n")
	if at := strings.IndexByte(text, 0); at >= 0 {
		return text[:at], whole || endHidden(raw[len(text):])
	}
	if whole {
		return strings.TrimRight(text[:len(text)-1], blanks), false
	}
	return text, endHidden(raw[len(text):])
}

// endHidden reports whether the end of a line that is passed over is not seen: it is looked
// for in pieces, and a NUL byte in the last one hides it.
func endHidden(rest string) bool {
	const piece = 1023
	if rest == "" {
		return false
	}
	return strings.ContainsRune(rest[(len(rest)-1)/piece*piece:], 0)
}

// Unread is the part of a line that is beyond what the reader takes: what stands there has
// no meaning.
func (l Line) Unread() string {
	text, _ := seen(l.Raw)
	rest := strings.TrimRight(strings.TrimPrefix(l.Raw, text), blanks+"\n")
	return strings.TrimLeft(rest, blanks)
}

// entry reads the fields of what is seen of a line.
func entry(text string) *Entry {
	var word [4]string
	rest := strings.TrimLeft(text, blanks)
	for i := range word {
		at := strings.IndexAny(rest, blanks)
		if at < 0 {
			word[i], rest = decode(rest), ""
			break
		}
		word[i], rest = decode(rest[:at]), strings.TrimLeft(rest[at:], blanks)
	}
	e := &Entry{Spec: word[0], Dir: word[1], Type: word[2], Options: Split(word[3])}
	var ok bool
	if e.Dump, rest, ok = number(rest); ok {
		e.Pass, _, _ = number(rest)
	}
	return e
}

// decode resolves the escapes that are read: of a blank, a tab, a line end and a backslash.
// Any other stays as it is.
func decode(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\\`, `\`, `\134`, `\`).Replace(s)
}

// number reads as scanf's %d does: blanks of any kind, a sign, digits; what follows them is
// the rest. What is too large for a long is the largest one, and an int holds its lower half.
func number(s string) (n int, rest string, ok bool) {
	s = strings.TrimLeft(s, " \t\n\v\f\r")
	end := 0
	if end < len(s) && (s[end] == '-' || s[end] == '+') {
		end++
	}
	digits := end
	for end < len(s) && s[end] >= '0' && s[end] <= '9' {
		end++
	}
	if end == digits {
		return 0, s, false
	}
	long, _ := strconv.ParseInt(s[:end], 10, 64) // beyond its range the nearest, as strtol
	return int(int32(long)), s[end:], true
}

// Unescape resolves \ooo, the octal escapes of the kernel's lists. The table itself knows
// only four of them.
func Unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}
