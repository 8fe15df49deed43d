package deed

import (
	"context"

	"fundus/internal/draft"
)

// carrier is all that a deed knows of one kind of step. A new kind is a file beside
// write.go, file.go and action.go, and a row in carriers.
type carrier interface {
	// record keeps what carries the stroke out, and what takes it back.
	record(r *recorder, s draft.Stroke) (StrokeRecord, error)
	// carry brings the stroke about, or takes it back.
	carry(ctx context.Context, x *executor, s StrokeRecord, forward bool) error
	// foreign refuses, before anything is done, to go on over what somebody else changed
	// since the deed was cut short. It looks at all strokes of the kind.
	foreign(ctx context.Context, x *executor) error
	// weight is how many bytes the stroke writes.
	weight(d *Deed, s StrokeRecord) int64
	// grade says how far such a step can be taken back.
	grade(s draft.Step) draft.Grade
}

func carriers() map[draft.StepKind]carrier {
	return map[draft.StepKind]carrier{draft.Write: writing{}, draft.File: changing{}, draft.Act: acting{}, draft.Make: making{}, draft.Own: owning{}, draft.Link: linking{}}
}

// carrierOf is that of a stroke's step.
func (m *Manifest) carrierOf(s StrokeRecord) carrier { return carriers()[m.Steps[s.Step].Kind] }

// GradeOf says how far a step can be taken back by itself.
func GradeOf(s draft.Step) draft.Grade { return carriers()[s.Kind].grade(s) }

// recorder writes the images of a deed.
type recorder struct {
	deed          *Deed
	after, before *imageWriter
}
