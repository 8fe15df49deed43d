package gather

import (
	"cmp"
	"slices"

	"fundus/core/quantity"
)

// File is one file, and how it lies.
type File struct {
	Path   string // below the place that was gone through
	Size   quantity.Bytes
	Data   quantity.Bytes // that has room of its own; the rest are holes
	Pieces int
	Least  int    // in which it could lie
	Left   string // why it cannot be touched; "" where it can
}

// enough is how long a piece is that is read as fast as a longer one.
const enough = 32 * quantity.MiB

// Worth reports whether the file would gain: it lies in more pieces than it needs, and they
// are short.
func (f File) Worth() bool {
	return f.Left == "" && f.Pieces > f.Least && f.Data < enough*quantity.Bytes(f.Pieces)
}

// Sum is what was found in all files, or what became of some.
type Sum struct {
	Files, Pieces, Least int
}

// Add counts a file.
func (s *Sum) Add(f File) {
	s.Files++
	s.Pieces += f.Pieces
	s.Least += f.Least
}

// Worst keeps the files that would gain most, of any number that are shown to it: the rest are
// counted and forgotten, since a file system can have more than memory holds.
type Worst struct {
	All   Sum // every file that has data
	Worth Sum // those that would gain
	most  int
	list  []File
}

// NewWorst keeps so many at most.
func NewWorst(most int) *Worst { return &Worst{most: most} }

// Show takes a file in.
func (w *Worst) Show(f File) {
	if f.Pieces == 0 {
		return
	}
	w.All.Add(f)
	if !f.Worth() {
		return
	}
	w.Worth.Add(f)
	if w.list = append(w.list, f); len(w.list) >= 2*w.most {
		w.keep()
	}
}

func (w *Worst) keep() {
	slices.SortFunc(w.list, func(a, b File) int {
		return cmp.Or(cmp.Compare(b.Pieces-b.Least, a.Pieces-a.Least), cmp.Compare(a.Size, b.Size), cmp.Compare(a.Path, b.Path))
	})
	w.list = w.list[:min(len(w.list), w.most)]
}

// List gives them, the worst first.
func (w *Worst) List() []File {
	w.keep()
	return w.list
}

// Worthwhile reports whether putting them together is worth the work: a tenth of all pieces
// would go.
func (w *Worst) Worthwhile() bool {
	return (w.Worth.Pieces-w.Worth.Least)*10 >= w.All.Pieces && w.Worth.Pieces > w.Worth.Least
}

// KeptShare is the part of a file system's room that is left alone: a tenth.
const KeptShare = 10

// Fits reports whether the file can lie twice for a moment, with the part of the room that is
// left alone.
func (f File) Fits(free, total quantity.Bytes) bool { return free-f.Data >= total/KeptShare }
