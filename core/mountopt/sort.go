package mountopt

import (
	"slices"
	"strings"
)

// Sorted is a list of options by where each goes, what is implied included.
type Sorted struct {
	Superblock []string
	Attributes []string
	Moves      []string // propagation
	Own        []string // the kind's, and those that no row has
	Program    []string
	Boot       []string
	Rights     []string
}

// Sort puts each option where it goes. What user, owner and their like imply holds unless a
// later option says otherwise: user,exec lets programs be started.
func (t Table) Sort(options []string) (s Sorted) {
	for _, o := range options {
		row, ok := t.Find(o)
		to := row.To
		if !ok {
			to = Own
		}
		switch to {
		case Superblock:
			s.Superblock = t.last(s.Superblock, o)
		case Attribute:
			s.Attributes = t.last(s.Attributes, o)
		case Propagation:
			s.Moves = append(s.Moves, o)
		case Own:
			s.Own = append(s.Own, o)
		case Program:
			s.Program = append(s.Program, o)
		case Boot:
			s.Boot = append(s.Boot, o)
		case Rights:
			s.Rights = append(s.Rights, o)
			for _, implied := range row.Implies {
				s.Attributes = t.last(s.Attributes, implied)
			}
		}
	}
	return s
}

// last puts an option behind the others, and takes out the same one and its opposite.
func (t Table) last(list []string, o string) []string {
	row, _ := t.Find(o)
	list = slices.DeleteFunc(list, func(had string) bool { return had == o || row.Not != "" && had == row.Not })
	return append(list, o)
}

// Kernel is what reaches the kernel of a list, in the order of a list that it writes.
func (t Table) Kernel(options []string) string {
	s := t.Sort(options)
	return strings.Join(slices.Concat(s.Superblock, s.Attributes, s.Own), ",")
}
