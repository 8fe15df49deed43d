package stack

import (
	"errors"
	"fmt"
	"slices"

	"fundus/core/quantity"
)

// Layer is one storey between a disk and its files.
type Layer struct {
	Name string // "sdb1"
	What string // "partition 1", "ext4 herbarium"
	Size quantity.Bytes
	// Head and Tail are kept from the storey inside: a header, a copy at the end.
	Head, Tail quantity.Bytes
	Step       quantity.Bytes // sizes are multiples of it; 0: any
	// Fixed is one whose size nobody here changes: what lies in it has to do with that.
	Fixed bool
	// Rule gives the largest size of at most so many bytes that the layer can have; nil: any
	// that is a multiple of the step.
	Rule         func(want quantity.Bytes) (quantity.Bytes, error)
	Min, Max     quantity.Bytes // 0 for no bound that is known
	Grow, Shrink Way
}

// Way is how a layer gets another size, or why it does not.
type Way struct {
	How How
	Not string // why it cannot; "" where it can
}

// How a layer changes.
type How string

// The ways.
const (
	Offline How = "not mounted" // while nobody uses it
	Live    How = "mounted"     // while it is used
)

// Change is what becomes of one layer.
type Change struct {
	Layer    int
	From, To quantity.Bytes
	How      How
}

// FitError is a layer that does not get the size that it would need.
type FitError struct {
	Layer Layer
	Want  quantity.Bytes
	Why   string
}

func (e *FitError) Error() string {
	return fmt.Sprintf("%s, %s: it has %v (%d bytes), and %v (%d bytes) cannot be: %s", e.Layer.Name, e.Layer.What,
		e.Layer.Size, e.Layer.Size, e.Want, e.Want, e.Why)
}

// Plan gives the changes in the order in which they are carried out, where the layer at an
// index, of those from the outermost to the innermost, gets a size. What lies around it goes
// along; what lies in it as far as it can: notes say where it does not.
func Plan(layers []Layer, at int, size quantity.Bytes) (changes []Change, notes []string, err error) {
	sizes := make([]quantity.Bytes, len(layers))
	if sizes[at], err = layers[at].fits(size); err != nil {
		return nil, nil, err
	}
	if sizes[at] != size {
		notes = append(notes, fmt.Sprintf("%d bytes become %v (%d bytes): %s has sizes of its own", size, sizes[at],
			sizes[at], layers[at].What))
	}
	for i := at - 1; i >= 0; i-- { // as small as what it holds lets it be
		if sizes[i], err = layers[i].around(sizes[i+1]); err != nil {
			return nil, nil, err
		}
	}
	for i := at + 1; i < len(layers); i++ {
		l, room := layers[i], sizes[i-1]-layers[i-1].Head-layers[i-1].Tail
		var note string
		if sizes[i], note, err = l.inside(room); err != nil {
			return nil, nil, err
		}
		if note != "" {
			notes = append(notes, note)
		}
	}
	for i, l := range layers {
		if way := l.way(sizes[i]); sizes[i] != l.Size {
			changes = append(changes, Change{i, l.Size, sizes[i], way.How})
		}
	}
	slices.SortStableFunc(changes, func(a, b Change) int { return a.turn(len(layers)) - b.turn(len(layers)) })
	return changes, notes, nil
}

// ErrOwnWord is a smallest size that nobody can work out.
var ErrOwnWord = errors.New("nothing in it says how small it can be: name a size")

// Least is the smallest size of the layer at an index with which all that lies in it keeps
// what it has. Errors: ErrOwnWord.
func Least(layers []Layer, at int) (quantity.Bytes, error) {
	var least quantity.Bytes
	for i := len(layers) - 1; i >= at; i-- {
		l := layers[i]
		inner := i == len(layers)-1
		switch {
		case l.Fixed || l.Shrink.Not != "":
			least = l.Size
		case inner && l.Min == 0:
			return 0, fmt.Errorf("%s: %w", l.What, ErrOwnWord)
		case inner:
			least = l.Min
		default:
			least = max(l.Min, l.outside(least))
		}
	}
	return least, nil
}

// outside is the size of a layer with so much room in it.
func (l Layer) outside(room quantity.Bytes) quantity.Bytes {
	need := room + l.Head + l.Tail
	if l.Step == 0 {
		return need
	}
	if up, ok := need.Up(l.Step); ok && (l.Max == 0 || up <= l.Max || need > l.Max) {
		return up
	}
	return need // the last step of a disk may be a short one
}

// around is the size that a layer gets where what lies in it has so much.
func (l Layer) around(room quantity.Bytes) (quantity.Bytes, error) {
	if !l.Fixed {
		return l.fits(l.outside(room))
	}
	if need := room + l.Head + l.Tail; need > l.Size {
		return 0, &FitError{l, need, "its own size stays, and its contents have to fit"}
	}
	return l.Size, nil
}

// turn orders the changes: what shrinks first, the innermost before the others, then what
// grows, the outermost before the others.
func (c Change) turn(layers int) int {
	if c.To < c.From {
		return -c.Layer
	}
	return layers + c.Layer
}

func (l Layer) way(size quantity.Bytes) Way {
	if size < l.Size {
		return l.Shrink
	}
	return l.Grow
}

// fits is the size that the layer gets where it is to have one.
func (l Layer) fits(size quantity.Bytes) (quantity.Bytes, error) {
	switch way := l.way(size); {
	case size == l.Size:
		return size, nil
	case l.Max > 0 && size > l.Max:
		return 0, &FitError{l, size, fmt.Sprintf("at most %v (%d bytes)", l.Max, l.Max)}
	case size < l.Min:
		return 0, &FitError{l, size, fmt.Sprintf("at least %v (%d bytes)", l.Min, l.Min)}
	case way.Not != "":
		return 0, &FitError{l, size, way.Not}
	case l.Rule == nil:
		return size, nil
	}
	ruled, err := l.Rule(size)
	if err != nil {
		return 0, &FitError{l, size, err.Error()}
	}
	return ruled, nil
}

// inside is the size that the layer gets where what holds it has so much room. Where it cannot
// grow it stays, which is said; where it would have to shrink it must be able to.
func (l Layer) inside(room quantity.Bytes) (quantity.Bytes, string, error) {
	switch {
	case room == l.Size:
		return l.Size, "", nil
	case room < l.Size:
		size, err := l.fits(room)
		return size, "", err
	case l.Grow.Not != "":
		return l.Size, fmt.Sprintf("%s keeps its size of %v: %s", l.What, l.Size, l.Grow.Not), nil
	case l.Max > 0 && room > l.Max:
		room = l.Max
	}
	if l.Rule == nil {
		return room, "", nil
	}
	size, err := l.Rule(room)
	switch {
	case err != nil:
		return l.Size, fmt.Sprintf("%s keeps its size of %v: %v", l.What, l.Size, err), nil
	case size < room && size != l.Size:
		return size, fmt.Sprintf("%d bytes at the end stay unused: %s cannot have them", room-size, l.What), nil
	}
	return size, "", nil
}
