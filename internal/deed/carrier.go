package deed

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"fundus/core/extent"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// carrier is all that is known of one kind of step. A new kind is a file beside write.go, file.go
// and action.go, and a row in carriers: nobody else asks what kind a step is of.
type carrier interface {
	// read decodes the body of such a step. Errors: those of encoding/json.
	read(data []byte) (draft.Body, error)
	// record keeps what carries the stroke out, and what takes it back. Errors: of reading the
	// devices and of writing the images; ErrLimit.
	record(r *recorder, s draft.Stroke) (StrokeRecord, error)
	// carry brings the stroke about, or takes it back; either may have been done already, in part
	// or whole. Errors leave the deed unfinished, or have it taken back.
	carry(ctx context.Context, x *executor, number int, way Way) error
	// came reports whether a stroke that failed has come about all the same.
	came(ctx context.Context, x *executor, s draft.Step) (bool, error)
	// foreign refuses, before anything is done, to go on over what somebody else changed
	// since the deed was cut short (ErrForeign, ErrEdited, ErrOther). It looks at all strokes of
	// the kind, and at how far the deed came (Deed.at).
	foreign(ctx context.Context, x *executor) error
	// covers are the bytes of a device that the stroke writes to.
	covers(d *Deed, s StrokeRecord) (device string, spans []extent.Span)
	// grade says how far such a step can be taken back.
	grade(s draft.Step) draft.Grade
	// touches says what a step of this kind, of one deed, has to do with any of another deed.
	touches(a, b sighted) Touch
	// names are the devices that the step names.
	names(s draft.Step) []string
	// targets are what it writes to, and claims.
	targets(s draft.Step) []machine.Target
	// brings has the step be done, or taken back, in plain data, as far as that decides who uses
	// what; the inventory is the caller's own.
	brings(v *inventory.Inventory, s draft.Step, names map[string]string, forward bool)
	// inverse plans what takes the step of a finished deed back.
	inverse(ctx context.Context, u *Undoing, number int, s draft.Step) error
	// shown is what it says of itself beside its title.
	shown(s draft.Step) Shown
	// looks reports whether the executor's look at the machine is kept up to date by the strokes
	// of this kind.
	looks() bool
}

// carriers has a row for each kind of step.
var carriers = sync.OnceValue(func() map[draft.StepKind]carrier {
	return map[draft.StepKind]carrier{
		draft.Write: writing{},
		draft.File:  changing{},
		draft.Act:   acting{},
		draft.Make:  making{},
		draft.Own:   owning{},
		draft.Link:  linking{},
	}
})

// carrierOf is that of a step. A step of a deed that is only shown may have a body that nobody
// reads.
func carrierOf(s draft.Step) carrier {
	if _, unread := s.Body.(*draft.Unread); unread {
		return nameless{}
	}
	return carriers()[s.Kind()]
}

// nameless is a step of a record that this release only shows.
type nameless struct{ plain }

func (nameless) read([]byte) (draft.Body, error)                          { return nil, ErrOld }
func (nameless) carry(context.Context, *executor, int, Way) error         { return ErrOld }
func (nameless) grade(draft.Step) draft.Grade                             { return draft.Never }
func (nameless) inverse(context.Context, *Undoing, int, draft.Step) error { return ErrOld }

// Way is the direction in which a stroke is carried.
type Way struct {
	Forward bool
	// Torn is one that may be done in part; Mark is then the last mark that it set in the log, 0
	// without one. One that is not torn is done whole on the way back, and not at all forward.
	Torn bool
	Mark int64
	// Set notes durably how far the stroke has come: a number that its carrier understands, never
	// negative.
	Set func(mark int64) error
}

// Touch says what two steps of different deeds have to do with each other.
type Touch int

// The touches, from the least to the most.
const (
	Apart    Touch = iota
	SameFile       // lines of the same text file: each deed has its own
	Under          // what the one did lies under what the other did
)

// sighted is a step with the deed of which it is.
type sighted struct {
	in *Manifest
	draft.Step
}

// Shown is what a step says of itself beside its title.
type Shown struct {
	Bytes  quantity.Bytes // that it writes to devices
	Device string         // to this one
	Phases int            // with a sync between
	Fenced bool
	Path   string // of the text file that it changes
	Stands string // the path of what it makes or takes away whole
	Also   string // what neither tables nor lines of text files show, in words
}

// ShownOf is what a step says of itself.
func ShownOf(s draft.Step) Shown { return carrierOf(s).shown(s) }

// GradeOf says how far a step can be taken back by itself.
func GradeOf(s draft.Step) draft.Grade { return carrierOf(s).grade(s) }

// NamesOf are the devices that a step names, and TargetsOf what it writes to.
func NamesOf(s draft.Step) []string { return carrierOf(s).names(s) }

// TargetsOf are what a step writes to.
func TargetsOf(s draft.Step) []machine.Target { return carrierOf(s).targets(s) }

// Changes reports whether the deed or draft changes the text file.
func Changes(steps []draft.Step, path string) bool {
	for _, s := range steps {
		if ShownOf(s).Path == path {
			return true
		}
	}
	return false
}

// plain is a kind that keeps nothing, writes to no device and has nothing in common with others;
// a carrier embeds it and says where it is otherwise.
type plain struct{}

func (plain) record(_ *recorder, s draft.Stroke) (StrokeRecord, error) {
	return StrokeRecord{Step: s.Step}, nil
}

func (plain) came(context.Context, *executor, draft.Step) (bool, error)        { return true, nil }
func (plain) foreign(context.Context, *executor) error                         { return nil }
func (plain) covers(*Deed, StrokeRecord) (device string, _ []extent.Span)      { return "", nil }
func (plain) names(draft.Step) []string                                        { return nil }
func (plain) targets(draft.Step) []machine.Target                              { return nil }
func (plain) shown(draft.Step) Shown                                           { return Shown{} }
func (plain) brings(*inventory.Inventory, draft.Step, map[string]string, bool) {}
func (plain) looks() bool                                                      { return false }

// touches is so for what stands at the same path.
func (plain) touches(a, b sighted) Touch {
	if at := ShownOf(a.Step).Stands; at != "" && at == ShownOf(b.Step).Stands {
		return Under
	}
	return Apart
}

// bodyOf is the body of a step as its type.
func bodyOf[B draft.Body](s draft.Step) B { return s.Body.(B) }

// decoded reads a body of the type.
func decoded[T any, B interface {
	*T
	draft.Body
}](data []byte) (draft.Body, error) {
	body := new(T)
	if len(data) == 0 || string(data) == "null" {
		return nil, fmt.Errorf("%w: it has no body", ErrTorn)
	}
	return B(body), json.Unmarshal(data, body)
}

// recorder writes the images of a deed.
type recorder struct {
	ctx           context.Context
	deed          *Deed
	after, before *imageWriter
	reader        *draft.Reader
	sums          map[int]draft.Sums // of the strokes whose bytes were kept as the code has them
}

// weight is how many bytes the stroke writes.
func (d *Deed) weight(s StrokeRecord) (n int64) {
	_, spans := carrierOf(d.Steps[s.Step]).covers(d, s)
	for _, p := range spans {
		n += int64(p.Count)
	}
	return n
}
