package fstab

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"fundus/core/text"
)

// Node is the device of a first field: udev's link for an identifier, else the words as
// they are. The tags are read in capitals only.
func Node(spec string) string {
	tag, value, _ := strings.Cut(spec, "=")
	switch tag {
	case "UUID", "LABEL", "PARTUUID", "PARTLABEL":
		if strings.Contains(spec, "=") {
			return "/dev/disk/by-" + strings.ToLower(tag) + "/" + Encode(Unquote(value))
		}
	}
	return spec
}

// Unquote takes off quotes of one kind around a value.
func Unquote(s string) string {
	if n := len(s); n >= 2 && (s[0] == '"' || s[0] == '\'') && s[n-1] == s[0] {
		return s[1 : n-1]
	}
	return s
}

// Encode writes a value as udev does in the names of its links: letters, digits and a few
// signs as they are, UTF-8 too, every other byte as \xNN.
func Encode(value string) string {
	var b strings.Builder
	for i := 0; i < len(value); {
		c := value[i]
		if r, n := utf8.DecodeRuneInString(value[i:]); n > 1 && r != utf8.RuneError {
			b.WriteString(value[i : i+n])
			i += n
			continue
		}
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("#+-.:=@_", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, `\x%02x`, c)
		}
		i++
	}
	return b.String()
}

// Spec is the identifier that a link of udev's stands for, or the path: what Node makes the same
// of.
func Spec(what string) string {
	for _, tag := range text.Tags() {
		value, ok := strings.CutPrefix(what, "/dev/disk/by-"+strings.ToLower(tag)+"/")
		if !ok || value == "" {
			continue
		}
		if plain := unlinked(value); Node(tag+"="+plain) == what {
			return tag + "=" + plain
		}
	}
	return what
}

// unlinked takes udev's \xNN back.
func unlinked(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if strings.HasPrefix(s[i:], `\x`) && i+4 <= len(s) {
			if n, err := strconv.ParseUint(s[i+2:i+4], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}
