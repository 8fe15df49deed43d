package view

import (
	"bytes"
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

// bytes prints a place: sixteen bytes a line in words of four, with what of them is text,
// and which fields begin there, where these are shown too. Lines of zeros become one.
func (p *Printer) bytes(i *look.Inspection) {
	if len(i.Bytes) == 0 {
		return
	}
	p.printf("\n%s\n", p.paint(Strong, fmt.Sprintf("%d bytes from byte %d (%#x)", len(i.Bytes), i.BytesAt, i.BytesAt)))
	for at := 0; at < len(i.Bytes); {
		if end := zeroLines(i.Bytes, at); end-at > line {
			p.printf("  %10d  %s\n", i.BytesAt+int64(at), p.paint(Free, fmt.Sprintf("zeros up to byte %d", i.BytesAt+int64(end)-1)))
			at = end
			continue
		}
		b := i.Bytes[at:min(at+line, len(i.Bytes))]
		var words []string
		for k := 0; k < len(b); k += line / 4 {
			words = append(words, fmt.Sprintf("%x", b[k:min(k+line/4, len(b))]))
		}
		says := append(texts(b), beginning(i, i.BytesAt+int64(at), int64(len(b)))...)
		row := fmt.Sprintf("%10d  %-*s", i.BytesAt+int64(at), 2*line+3, strings.Join(words, " "))
		if len(says) == 0 {
			p.printf("  %s\n", strings.TrimRight(row, " "))
		} else {
			p.wrap(2, row+"  ", strings.Join(says, " "))
		}
		at += len(b)
	}
}

// zeroLines is where whole lines of zeros end.
func zeroLines(b []byte, at int) int {
	for at+line <= len(b) && len(bytes.TrimLeft(b[at:at+line], "\x00")) == 0 {
		at += line
	}
	return at
}

// texts are the runs of printable letters of a line, which are hardly an accident from five on.
func texts(b []byte) (out []string) {
	const least = 5
	for _, run := range strings.FieldsFunc(latin(b), func(r rune) bool { return r < 0x20 || r > 0x7E }) {
		if len(run) >= least {
			out = append(out, fmt.Sprintf("%q", run))
		}
	}
	return out
}

// latin has a rune for each byte.
func latin(b []byte) string {
	var out strings.Builder
	for _, c := range b {
		out.WriteRune(rune(c))
	}
	return out.String()
}

// beginning names the fields that begin in the bytes.
func beginning(i *look.Inspection, at, n int64) (out []string) {
	for _, s := range i.Structures {
		for _, f := range s.Fields {
			if f.At >= at && f.At < at+n && len(out) < 4 {
				out = append(out, f.Name+";")
			}
		}
	}
	return out
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
