// Package saved is a partition table as a JSON document: what table save writes
// and table restore reads. Its format is open, and described in docs/formats.md;
// every later release reads what this one wrote.
package saved

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/google/uuid"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Kind and Version tell the document from others.
const (
	Kind    = "table"
	Version = 1
)

// Document is the table of a disk.
type Document struct {
	Fundus     int          `json:"fundus"` // Version
	Kind       string       `json:"kind"`
	Disk       Disk         `json:"disk"`
	Scheme     table.Scheme `json:"scheme"`
	ID         string       `json:"id"`      // disk GUID, or disk signature in hexadecimal
	Entries    int          `json:"entries"` // that the table has room for
	Partitions []Partition  `json:"partitions"`
}

// Disk says which disk the table is from.
type Disk struct {
	Identity string         `json:"identity"`
	Size     quantity.Bytes `json:"size_bytes"`
	Sector   quantity.Bytes `json:"sector_bytes"`
}

// Partition is one entry.
type Partition struct {
	Number     int        `json:"number"`
	First      uint64     `json:"first_sector"`
	Count      uint64     `json:"sectors"`
	Type       string     `json:"type"`               // GUID, or type byte in hexadecimal
	UUID       string     `json:"partuuid,omitempty"` // of a GPT
	Name       string     `json:"name,omitempty"`
	Attributes uint64     `json:"attributes"`
	Role       table.Role `json:"role,omitempty"` // of an MBR
}

// ErrDocument is a document that is no table.
var ErrDocument = errors.New("not a saved table")

// reason says in words of a reader what is wrong with a document.
func reason(err error) string {
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.EOF):
		return "the file is empty"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "the file ends in the middle"
	case errors.As(err, &syntax):
		return fmt.Sprintf("it is no JSON from byte %d on", syntax.Offset)
	case errors.As(err, &typ):
		return fmt.Sprintf("%s at byte %d is a %s", typ.Field, typ.Offset, typ.Value)
	}
	return strings.TrimPrefix(err.Error(), "json: ")
}

// most is how many partitions a document may hold.
const most = 1 << 15

// Save makes the document of a table.
func Save(m *table.Table, d Disk) Document {
	doc := Document{Fundus: Version, Kind: Kind, Disk: d, Scheme: m.Scheme, ID: m.ID, Entries: m.Slots, Partitions: []Partition{}}
	for _, p := range m.Parts {
		s := Partition{
			Number:     p.Number,
			First:      p.Span.Start,
			Count:      p.Span.Count,
			Type:       p.Type,
			Name:       p.Name,
			Attributes: p.Attributes,
			Role:       p.Role,
		}
		if m.Scheme == table.GPT {
			s.UUID = p.UUID
		}
		doc.Partitions = append(doc.Partitions, s)
	}
	return doc
}

// Encode writes the document, indented, with a newline at the end.
func (d Document) Encode() ([]byte, error) {
	b, err := json.MarshalIndent(d, "", "  ")
	return append(b, '\n'), err
}

// Decode reads a document. A key that is not known, or a value that cannot be, is
// an error.
//
// The document may come from anywhere, so everything that is counted with later is held
// against the disk that it names; an unknown key is more likely a later version than a slip
// of the pen, and refused before half of it is done.
func Decode(data []byte) (Document, error) {
	var d Document
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&d); err != nil {
		return d, fmt.Errorf("%w: %s", ErrDocument, reason(err))
	}
	switch {
	case d.Kind != Kind:
		return d, fmt.Errorf("%w: its kind is %q", ErrDocument, d.Kind)
	case d.Fundus != Version:
		return d, fmt.Errorf("%w: version %d; this release reads %d", ErrDocument, d.Fundus, Version)
	case d.Scheme != table.GPT && d.Scheme != table.MBR:
		return d, fmt.Errorf("%w: scheme %q; there is gpt and mbr", ErrDocument, d.Scheme)
	case d.Disk.Sector < 512 || d.Disk.Sector&(d.Disk.Sector-1) != 0 || d.Disk.Size < d.Disk.Sector:
		return d, fmt.Errorf("%w: a disk of %d bytes with sectors of %d", ErrDocument, d.Disk.Size, d.Disk.Sector)
	case len(d.Partitions) > most:
		return d, fmt.Errorf("%w: %d partitions", ErrDocument, len(d.Partitions))
	}
	for _, p := range d.Partitions {
		if p.Number < 1 || p.Count == 0 || !(extent.Span{Start: p.First, Count: p.Count}).Within(uint64(d.Disk.Size/d.Disk.Sector)) {
			return d, fmt.Errorf("%w: partition %d: %d sectors from %d on a disk of %d", ErrDocument, p.Number,
				p.Count, p.First, d.Disk.Size/d.Disk.Sector)
		}
	}
	return d, nil
}

// Fill puts the partitions of the document into an empty table. A GPT's get fresh
// identifiers where a source of them is given.
//
// Fresh identifiers are for another disk: two disks with the same ones cannot be in one
// machine.
func (d Document) Fill(t table.Editor, fresh func() uuid.UUID) error {
	list := slices.Clone(d.Partitions) // logical ones behind the extended one
	slices.SortStableFunc(list, func(a, b Partition) int { return rank(a) - rank(b) })
	for _, s := range list {
		p := table.Partition{
			Number:     s.Number,
			Span:       extent.Span{Start: s.First, Count: s.Count},
			Type:       s.Type,
			UUID:       s.UUID,
			Name:       s.Name,
			Attributes: s.Attributes,
		}
		if fresh != nil && d.Scheme == table.GPT {
			p.UUID = fresh().String()
		}
		if err := t.Add(p); err != nil {
			return err
		}
	}
	return nil
}

func rank(p Partition) int {
	if p.Role == table.Logical {
		return 1 + p.Number
	}
	return 0
}
