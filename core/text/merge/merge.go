// Package merge takes one change out of a text that was changed again since, line by line.
//
// A text file is one for everybody: between a change and its being taken back somebody adds
// a line of his own. As long as the lines of the change still stand, and the place is known
// where lines were taken out, only these go back, and every other byte stays.
package merge

import "strings"

// mostLines bounds the work, which grows with the square of the lines between what is the
// same at the beginning and the end.
const mostLines = 4000

// Back takes the change from before to after out of now. It reports false where a line that
// the change had put in is there no more or was edited, or where nobody can tell where one
// that it had taken out belongs.
func Back(before, after, now string) (string, bool) {
	b, a, n := lines(before), lines(after), lines(now)
	to, okTo := match(a, b)
	in, okIn := match(a, n)
	if !okTo || !okIn {
		return "", false
	}
	out := edits{drop: map[int]bool{}, insert: map[int][]string{}}
	for i, k := 0, 0; i < len(a) || k < len(b); {
		if i < len(a) && to[i] == k { // the same line in both
			i, k = i+1, k+1
			continue
		}
		first := i
		for i < len(a) && to[i] < 0 { // lines that the change put in
			if in[i] < 0 {
				return "", false
			}
			out.drop[in[i]] = true
			i++
		}
		end := len(b) // lines that it took out
		if i < len(a) {
			end = to[i]
		}
		if k < end {
			at, ok := place(in, first, i, len(n))
			if !ok {
				return "", false
			}
			out.insert[at] = append(out.insert[at], b[k:end]...)
			k = end
		}
	}
	return out.apply(n)
}

// place is where lines belong that stood before line first of the changed text, or in place
// of its lines up to end: at what is left of these, behind the line before, or before the
// one behind.
func place(in []int, first, end, size int) (at int, ok bool) {
	switch {
	case first < end:
		return in[first], true
	case first > 0 && in[first-1] >= 0:
		return in[first-1] + 1, true
	case first < len(in) && in[first] >= 0:
		return in[first], true
	}
	return 0, len(in) == 0 && size == 0 // an empty text has one place
}

type edits struct {
	drop   map[int]bool
	insert map[int][]string // before the line
}

// apply reports false where a last line without an end would run into the next one.
func (e edits) apply(n []string) (string, bool) {
	var out []string
	for i := 0; i <= len(n); i++ {
		out = append(out, e.insert[i]...)
		if i < len(n) && !e.drop[i] {
			out = append(out, n[i])
		}
	}
	for i, l := range out {
		if i < len(out)-1 && !strings.HasSuffix(l, "\n") {
			return "", false
		}
	}
	return strings.Join(out, ""), true
}

// lines are those of a text with their ends.
func lines(text string) (out []string) {
	for l := range strings.Lines(text) {
		out = append(out, l)
	}
	return out
}

// match gives for each line of a the line of b that it is, or -1: a longest common
// subsequence. It reports false where that would take too long.
func match(a, b []string) (to []int, ok bool) {
	to = make([]int, len(a))
	for i := range to {
		to[i] = -1
	}
	first := 0
	for first < len(a) && first < len(b) && a[first] == b[first] {
		to[first] = first
		first++
	}
	endA, endB := len(a), len(b)
	for endA > first && endB > first && a[endA-1] == b[endB-1] {
		endA, endB = endA-1, endB-1
		to[endA] = endB
	}
	a, b = a[first:endA], b[first:endB]
	if len(a) > mostLines || len(b) > mostLines {
		return nil, false
	}
	// length[i][k] is that of the longest common subsequence of a[i:] and b[k:].
	length := make([][]int32, len(a)+1)
	for i := range length {
		length[i] = make([]int32, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for k := len(b) - 1; k >= 0; k-- {
			if a[i] == b[k] {
				length[i][k] = length[i+1][k+1] + 1
			} else {
				length[i][k] = max(length[i+1][k], length[i][k+1])
			}
		}
	}
	for i, k := 0, 0; i < len(a) && k < len(b); {
		switch {
		case a[i] == b[k]:
			to[first+i] = first + k
			i, k = i+1, k+1
		case length[i+1][k] >= length[i][k+1]:
			i++
		default:
			k++
		}
	}
	return to, true
}
