package fstab

import (
	"fmt"
	"slices"
	"strings"
)

// Move puts the numbered line, with the comments above it, before another one.
func (f *File) Move(number, before int) error {
	l, ok := f.Line(number)
	if _, there := f.Line(before); !ok || !there || l.Entry == nil {
		return fmt.Errorf("line %d before line %d: %w", number, before, ErrNoEntry)
	}
	first := f.block(number - 1)
	to := f.block(before - 1)
	if to >= first && to <= number {
		return nil // it stands there
	}
	lines := f.ended()
	moved := slices.Clone(lines[first:number])
	lines = slices.Delete(lines, first, number)
	if to > first {
		to -= number - first
	}
	*f = *Parse((&File{slices.Insert(lines, to, moved...)}).Bytes())
	return nil
}

// ended is the lines, each with an end, so that they can change places.
func (f *File) ended() []Line {
	lines := slices.Clone(f.Lines)
	if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1].Raw, "\n") {
		lines[n-1].Raw += "\n"
	}
	return lines
}

// Sort puts parents before what is mounted below them, and swap behind all else, with the
// comments directly above each line. Groups that blank lines divide are not mixed.
func (f *File) Sort() error {
	seen := map[string]bool{}
	for _, l := range f.Entries() {
		at := where(l.Entry.Dir, nil)
		if !l.Entry.IsSwap() && seen[at] {
			return fmt.Errorf("line %d, %s: %w", l.Number, at, ErrTwoPlace)
		}
		seen[at] = true
	}
	if f.sorted() {
		return nil
	}
	var out, group []Line
	for _, l := range f.ended() {
		if group = append(group, l); strings.Trim(l.Raw, blanks+"\n") == "" {
			out, group = append(out, sorted(group)...), nil
		}
	}
	*f = *Parse((&File{append(out, sorted(group)...)}).Bytes())
	return nil
}

// sorted reports whether nothing would move.
func (f *File) sorted() bool {
	group := []Line{}
	for i, l := range f.Lines {
		group = append(group, l)
		if end := i == len(f.Lines)-1; end || strings.Trim(l.Raw, blanks+"\n") == "" {
			for k, s := range sorted(group) {
				if s.Number != group[k].Number {
					return false
				}
			}
			group = nil
		}
	}
	return true
}

// sorted gives the lines of a group in order: each entry is put before the first one that
// must come after it, and what follows the last entry stays last.
func sorted(group []Line) []Line {
	var blocks [][]Line
	var block []Line
	for _, l := range group {
		if block = append(block, l); l.Entry == nil {
			continue
		}
		at := slices.IndexFunc(blocks, func(b []Line) bool { return after(*b[len(b)-1].Entry, *l.Entry) })
		if at < 0 {
			at = len(blocks)
		}
		blocks = slices.Insert(blocks, at, block)
		block = nil
	}
	return append(slices.Concat(blocks...), block...)
}

// after reports whether an entry has to stand behind another.
func after(e, other Entry) bool {
	return e.IsSwap() && !other.IsSwap() || !e.IsSwap() && !other.IsSwap() && below(e.Dir, other.Dir)
}
