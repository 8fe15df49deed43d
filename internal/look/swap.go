package look

import (
	"context"
	"slices"
	"strings"

	"fundus/core/boot"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
)

// SwapArea is one that is in use, that could be, or that a line of fstab asks for.
type SwapArea struct {
	inventory.Area
	Name    string // of the node, or the path of a file
	Label   string
	On      bool
	Line    int    // of fstab that turns it on; 0 for none
	Options string // that the line has
	Later   bool   // the line does not turn it on at boot
	Problem string // why it cannot be turned on
}

// SwapOn is the outcome of an area that the kernel uses.
const SwapOn = boot.On

// SwapAbsent is the problem of an area that a line names and nobody finds; others are the states of
// its content.
const SwapAbsent = "not there"

// Swap is what the machine swaps on.
type Swap struct {
	Memory inventory.Memory
	Areas  []SwapArea
}

// Used is how much of the areas in use is.
func (s *Swap) Used() (used, size quantity.Bytes, on int) {
	for _, a := range s.Areas {
		if a.On {
			used, size, on = used+a.Used, size+a.Size, on+1
		}
	}
	return used, size, on
}

// SwapOf reads what the machine swaps on.
func SwapOf(ctx context.Context, r machine.Reader) (*Swap, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return swapOf(v), nil
}

func swapOf(v *inventory.Inventory) *Swap {
	s := &Swap{Memory: v.Memory}
	for _, a := range v.Areas {
		area := SwapArea{Area: a, Name: a.Path, On: true}
		if a.Node != "" {
			area.Name = a.Node
		}
		s.Areas = append(s.Areas, area)
	}
	for _, n := range v.Nodes {
		c, ok := n.Content()
		if !ok || c.Class != fs.Swap {
			continue
		}
		i := slices.IndexFunc(s.Areas, func(a SwapArea) bool { return a.Node == n.Name })
		if i < 0 {
			s.Areas = append(s.Areas, SwapArea{Area: inventory.Area{Path: n.Path, Node: n.Name, Size: c.Size - c.BlockSize}, Name: n.Name})
			i = len(s.Areas) - 1
		}
		s.Areas[i].Label = c.Label
		if c.State != fs.Clean {
			s.Areas[i].Problem = string(c.State)
		}
	}
	by := v.Resolver()
	for _, u := range v.Units() {
		if !u.Entry.IsSwap() || u.None != "" {
			continue
		}
		i := slices.IndexFunc(s.Areas, func(a SwapArea) bool {
			return a.Path == u.Entry.Spec || slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(n inventory.Node) bool { return a.Node == n.Name })
		})
		if i < 0 {
			s.Areas = append(s.Areas, SwapArea{Area: inventory.Area{Path: u.Entry.Spec}, Name: u.Entry.Spec, Problem: SwapAbsent})
			i = len(s.Areas) - 1
			if v.Sources[u.Entry.Spec] {
				s.Areas[i].File, s.Areas[i].Problem = true, ""
			}
		}
		if s.Areas[i].Line == 0 {
			s.Areas[i].Line, s.Areas[i].Options, s.Areas[i].Later = u.Line, strings.Join(kernelSwap(u.Entry), ","), u.Entry.Has("noauto")
		}
	}
	return s
}

// kernelSwap are the options of a line that say how it is swapped on.
func kernelSwap(e fstab.Entry) (out []string) {
	for _, o := range e.Options {
		if name, _, _ := strings.Cut(o, "="); name == "pri" || name == "discard" {
			out = append(out, o)
		}
	}
	return out
}
