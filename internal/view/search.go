package view

import (
	"fmt"
	"strings"

	"fundus/core/quantity"
	"fundus/internal/look"
)

// SearchDoc is the document of what was found on a disk without a table.
type SearchDoc struct {
	Head
	Disk  string     `json:"disk"`
	Found []FoundDoc `json:"found"`
}

// FoundDoc is one find.
type FoundDoc struct {
	Number     int      `json:"number"`
	Start      int64    `json:"start_bytes"`
	First      uint64   `json:"first_sector"`
	Sectors    uint64   `json:"sectors"`
	Kind       string   `json:"kind"`
	Label      string   `json:"label,omitempty"`
	UUID       string   `json:"uuid,omitempty"`
	Confidence int      `json:"confidence_percent"`
	Proposed   bool     `json:"proposed"`
	Conflict   int      `json:"conflicts_with,omitempty"` // the number of another find
	Why        []string `json:"why"`
}

func searchDocument(s *look.Lost) SearchDoc {
	doc := SearchDoc{Head: head("search"), Disk: s.Disk.Name, Found: []FoundDoc{}}
	for i, f := range s.Found {
		doc.Found = append(doc.Found, FoundDoc{
			i + 1, int64(f.Start), f.Span.Start, f.Span.Count, f.Content.Kind, f.Content.Label, f.Content.UUID,
			f.Confidence, f.Proposed, f.Conflict + 1, f.Why,
		})
	}
	return doc
}

// Search is what was found, and how a table of it is written.
type Search struct{ *look.Lost }

// Document implements Report.
func (r Search) Document() any { return searchDocument(r.Lost) }

// Words implements Report.
func (r Search) Words(p *Printer) {
	s := r.Lost
	proposed := 0
	var rows [][]string
	sector := s.Disk.Geometry.Logical
	for i, f := range s.Found {
		mark, state := "", Plain
		switch {
		case f.Proposed:
			proposed++
			mark, state = "proposed", InUse
		case f.Conflict >= 0:
			mark = fmt.Sprintf("overlaps %d", f.Conflict+1)
		default:
			mark = "unlikely"
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), p.size(f.Start, sector),
			p.size(quantity.Bytes(f.Span.Count)*quantity.Bytes(sector), sector),
			f.Content.Kind, visible(f.Content.Label), fmt.Sprintf("%d%%", f.Confidence), p.paint(state, mark)})
	}
	if len(rows) == 0 {
		p.wrap(0, "", fmt.Sprintf("%s: nothing found; %s were searched for the superblocks of file systems, swap and volumes",
			visible(s.Disk.Name), p.size(s.Disk.Size, sector)))
		return
	}
	p.wrap(0, "", fmt.Sprintf("%s: found %s of a partition, %d proposed", visible(s.Disk.Name), count(len(rows), "possible start"), proposed))
	p.printf("\n")
	p.columns(2, []string{">#", ">begins", ">size", "holds", "label", ">sure", ""}, rows)
	p.printf("\n")
	for i, f := range s.Found {
		p.wrap(2, fmt.Sprintf("%d  ", i+1), visible(strings.Join(f.Why, "; ")))
	}
	if proposed > 0 {
		p.printf("\n")
		p.wrap(0, "", "nothing is written; to write a table of those proposed, or of others by their numbers:")
		p.printf("  fundus table repair %s --search --choose proposed\n", visible(s.Disk.Name))
	}
}
