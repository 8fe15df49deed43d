package deed

import (
	"cmp"
	"encoding/json"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// A deed of format 2 had a field for each kind of step, an action with the words of all verbs side
// by side, and strokes of bytes alone. It is put into the form of today when it is read, and
// carried out and taken back as any other.

// step2 is a step of format 2: of its kind, the one field is set that the kind names.
type step2 struct {
	Kind      draft.StepKind  `json:"kind"`
	Title     string          `json:"title"`
	NoWayBack bool            `json:"no_way_back,omitempty"`
	Write     json.RawMessage `json:"write,omitempty"`
	File      json.RawMessage `json:"file,omitempty"`
	Action    *action2        `json:"action,omitempty"`
	Make      json.RawMessage `json:"make,omitempty"`
	Own       json.RawMessage `json:"own,omitempty"`
	Link      json.RawMessage `json:"link,omitempty"`
}

// action2 is an action of format 2.
type action2 struct {
	Verb    machine.Verb   `json:"verb"`
	Disk    string         `json:"disk"`
	Node    string         `json:"node"`
	Number  int            `json:"number"`
	Start   quantity.Bytes `json:"start_bytes"`
	Size    quantity.Bytes `json:"size_bytes"`
	Was     quantity.Bytes `json:"was_bytes"`
	Where   string         `json:"where"`
	From    string         `json:"from"`
	Unit    string         `json:"unit"`
	Kind    string         `json:"kind"`
	Options string         `json:"options"`
	Label   string         `json:"label"`
	Former  string         `json:"former_label"`
	ID      string         `json:"id"`
	Before  string         `json:"former_id"`
	Spans   []extent.Span  `json:"spans"`
	Detach  bool           `json:"detach"`
	Make    bool           `json:"make"`
}

// stroke2 is a stroke of format 2.
type stroke2 struct {
	Step   int        `json:"step"`
	Role   draft.Role `json:"role"`
	After  [2]int     `json:"after"`
	Before [2]int     `json:"before"`
}

// fromFormat2 gives the manifest as it would stand in today's format.
func fromFormat2(data []byte) ([]byte, error) {
	var all map[string]json.RawMessage
	var old struct {
		Steps   []step2   `json:"steps"`
		Strokes []stroke2 `json:"strokes"`
	}
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &old); err != nil {
		return nil, err
	}
	steps, strokes := []draft.Step{}, []StrokeRecord{}
	for _, s := range old.Steps {
		body, err := s.body()
		if err != nil {
			return nil, err
		}
		steps = append(steps, draft.Step{Title: s.Title, NoWayBack: s.NoWayBack, Body: body})
	}
	for _, s := range old.Strokes {
		r := StrokeRecord{Step: s.Step}
		if s.Role != "" {
			r.Bytes = &BytesRecord{s.Role, s.After, s.Before}
		}
		strokes = append(strokes, r)
	}
	for key, list := range map[string]any{"steps": steps, "strokes": strokes} {
		var err error
		if all[key], err = json.Marshal(list); err != nil {
			return nil, err
		}
	}
	return json.Marshal(all)
}

// body is the one field that the kind names; nothing else may be set.
func (s step2) body() (draft.Body, error) {
	fields := map[draft.StepKind]json.RawMessage{
		draft.Write: s.Write,
		draft.File:  s.File,
		draft.Make:  s.Make,
		draft.Own:   s.Own,
		draft.Link:  s.Link,
	}
	if s.Action != nil {
		action, err := json.Marshal(s.Action.action())
		if err != nil {
			return nil, err
		}
		fields[draft.Act] = action
	}
	set := 0
	for _, f := range fields {
		if f != nil {
			set++
		}
	}
	if set > 1 || set == 1 && fields[s.Kind] == nil {
		return nil, ErrTorn
	}
	return &draft.Unread{Of: s.Kind, Data: fields[s.Kind]}, nil
}

func (a *action2) action() machine.Action {
	out := machine.Action{
		Verb:     a.Verb,
		Device:   cmp.Or(a.Disk, a.Node),
		PartArgs: machine.PartArgs{Number: a.Number, Start: a.Start, Size: a.Size, Was: a.Was},
		UseArgs: machine.UseArgs{
			Where:   a.Where,
			From:    a.From,
			Unit:    a.Unit,
			Kind:    a.Kind,
			Options: a.Options,
			Detach:  a.Detach,
			Make:    a.Make,
		},
		ContentArgs: machine.ContentArgs{Label: a.Label, FormerLabel: a.Former, ID: a.ID, FormerID: a.Before},
		Spans:       a.Spans,
	}
	switch a.Verb { // of which the words meant other things
	case machine.Remount:
		out.FormerOptions, out.FormerID = a.Before, ""
	case machine.Grow:
		out.Length, out.FormerLength, out.PartArgs = a.Size, a.Was, machine.PartArgs{}
	}
	return out
}
