package view

import (
	"fmt"
	"strings"

	"fundus/internal/look"
)

// StructureDoc is one structure of a device with its fields.
type StructureDoc struct {
	Name   string     `json:"name"`
	Start  int64      `json:"start_bytes"`
	Fields []FieldDoc `json:"fields"`
}

// FieldDoc is one field; the bytes are in hexadecimal, as they lie on the device.
type FieldDoc struct {
	Start   int64  `json:"start_bytes"`
	Length  int    `json:"length_bytes"`
	Name    string `json:"name"`
	Bytes   string `json:"bytes"`
	Meaning string `json:"meaning"`
}

const (
	fewBytes = 8  // of a field that are shown
	line     = 16 // bytes of a place, a line
)

// fields prints each structure: where a field lies, its bytes as they lie there,
// its name, and what they mean.
func (p *Printer) fields(i *look.Inspection) {
	for _, s := range i.Structures {
		p.printf("\n%s\n", p.paint(Strong, fmt.Sprintf("%s, from byte %d", s.Name, s.Base)))
		for _, f := range s.Fields {
			raw := fmt.Sprintf("% x", f.Raw[:min(len(f.Raw), fewBytes)])
			if len(f.Raw) > fewBytes {
				raw = fmt.Sprintf("% x %s%d", f.Raw[:fewBytes-2], p.ellipsis(), len(f.Raw))
			}
			meaning := f.Name
			if f.Meaning != "" {
				meaning += ": " + visible(f.Meaning)
			}
			p.wrap(2, fmt.Sprintf("%10d  %-*s  ", f.At, 3*fewBytes-1, raw), meaning)
		}
	}
}

func (p *Printer) ellipsis() string {
	if p.UTF8 {
		return "…"
	}
	return ".."
}

// bytes prints a place: sixteen bytes a line, and what of them is text.
func (p *Printer) bytes(i *look.Inspection) {
	if len(i.Bytes) == 0 {
		return
	}
	p.printf("\n%s\n", p.paint(Strong, fmt.Sprintf("%d bytes from byte %d (%#x)", len(i.Bytes), i.BytesAt, i.BytesAt)))
	for at := 0; at < len(i.Bytes); at += line {
		b := i.Bytes[at:min(at+line, len(i.Bytes))]
		left := fmt.Sprintf("% x", b[:min(len(b), line/2)])
		right := ""
		if len(b) > line/2 {
			right = fmt.Sprintf("% x", b[line/2:])
		}
		text := strings.Map(func(r rune) rune {
			if r < 0x20 || r > 0x7E {
				return '.'
			}
			return r
		}, latin(b))
		p.printf("  %10d  %-*s  %-*s  %s\n", i.BytesAt+int64(at), 3*line/2-1, left, 3*line/2-1, right, text)
	}
}

// latin has a rune for each byte.
func latin(b []byte) string {
	var out strings.Builder
	for _, c := range b {
		out.WriteRune(rune(c))
	}
	return out.String()
}

func structureDocs(i *look.Inspection) []StructureDoc {
	var out []StructureDoc
	for _, s := range i.Structures {
		doc := StructureDoc{s.Name, s.Base, []FieldDoc{}}
		for _, f := range s.Fields {
			doc.Fields = append(doc.Fields, FieldDoc{f.At, len(f.Raw), f.Name, fmt.Sprintf("%x", f.Raw), f.Meaning})
		}
		out = append(out, doc)
	}
	return out
}
