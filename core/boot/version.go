package boot

import (
	"cmp"
	"strings"
)

// versions compares two versions as boot loaders do: numbers count as numbers, letters as
// letters; a tilde is older than the end, the end is older than all else, and of a dash, a
// caret and a point the first is the oldest.
//
// Source: the UAPI group's Version Format Specification.
func versions(a, b string) int {
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
	other := func(r rune) bool { return !strings.ContainsRune(letters+"0123456789~-^.", r) }
	for {
		a, b = strings.TrimLeftFunc(a, other), strings.TrimLeftFunc(b, other)
		for _, sign := range []string{"~", "", "-", "^", "."} {
			if sign == "" { // the end
				if a == "" || b == "" {
					return cmp.Compare(len(a), len(b))
				}
				continue
			}
			isA, isB := strings.HasPrefix(a, sign), strings.HasPrefix(b, sign)
			switch {
			case isA && !isB:
				return -1
			case isB && !isA:
				return 1
			case isA:
				a, b = a[1:], b[1:]
			}
		}
		for _, kind := range []string{"0123456789", letters} {
			partA, partB := leading(a, kind), leading(b, kind)
			if partA == "" && partB == "" {
				continue
			}
			a, b = a[len(partA):], b[len(partB):]
			if kind != letters {
				partA, partB = strings.TrimLeft(partA, "0"), strings.TrimLeft(partB, "0")
				if c := cmp.Compare(len(partA), len(partB)); c != 0 {
					return c
				}
			}
			if c := cmp.Compare(partA, partB); c != 0 {
				return c
			}
			break
		}
	}
}

// leading are the first bytes of the text that are among the set.
func leading(text, set string) string { return text[:len(text)-len(strings.TrimLeft(text, set))] }
