package block

import "github.com/google/btree"

// runs are extents that do not overlap, by their offset, in a balanced tree: putting one
// in, finding one and taking a copy of all cost little however many there are. A copy
// shares what neither changes.
type runs struct {
	tree *btree.BTreeG[Extent]
	work *int64 // comparisons so far, where a test counts them
}

// degree is how many extents a node of the tree holds at least.
const degree = 16

func newRuns(work *int64) runs {
	less := func(a, b Extent) bool { return a.Off < b.Off }
	if work != nil {
		less = func(a, b Extent) bool { *work++; return a.Off < b.Off }
	}
	return runs{btree.NewG(degree, less), work}
}

func (r runs) copy() runs { return runs{r.tree.Clone(), r.work} }

func (r runs) len() int { return r.tree.Len() }

// at is the extent that holds the byte, or else the first one behind it.
func (r runs) at(off int64) (e Extent, found bool) {
	r.tree.DescendLessOrEqual(Extent{Off: off}, func(x Extent) bool { e, found = x, x.end() > off; return false })
	if !found {
		r.tree.AscendGreaterOrEqual(Extent{Off: off}, func(x Extent) bool { e, found = x, true; return false })
	}
	return e, found
}

// before is the end of the last extent that ends at the byte or before it; 0 without one.
func (r runs) before(off int64) (end int64) {
	r.tree.DescendLessOrEqual(Extent{Off: off}, func(x Extent) bool { end = min(x.end(), off); return false })
	return end
}

// put places e in place of whatever it covers, and gives what it covered.
func (r runs) put(e Extent) (covered []Extent) {
	r.tree.DescendLessOrEqual(Extent{Off: e.Off}, func(x Extent) bool {
		if x.end() > e.Off || e.Zero && x.Zero && x.end() == e.Off {
			covered = append(covered, x)
		}
		return false
	})
	r.tree.AscendRange(Extent{Off: e.Off + 1}, Extent{Off: e.end()}, func(x Extent) bool { covered = append(covered, x); return true })
	for i, old := range covered {
		r.tree.Delete(old)
		switch {
		case old.Off >= e.Off:
		case e.Zero && old.Zero: // one run of zeros
			e.Off, e.Len = old.Off, e.end()-old.Off
		default:
			r.tree.ReplaceOrInsert(old.part(old.Off, e.Off))
		}
		if old.end() > e.end() {
			r.tree.ReplaceOrInsert(old.part(e.end(), old.end()))
		}
		covered[i] = old
	}
	r.tree.ReplaceOrInsert(e)
	return covered
}

// list gives all of them in order.
func (r runs) list() []Extent {
	out := make([]Extent, 0, r.tree.Len())
	r.tree.Ascend(func(x Extent) bool { out = append(out, x); return true })
	return out
}
