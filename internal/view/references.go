package view

import (
	"fmt"
	"strings"

	"fundus/internal/look"
)

// ReferencesDoc is the document of kind references.
type ReferencesDoc struct {
	Head
	Word       string         `json:"word"`
	Devices    []string       `json:"devices"` // that it means
	References []ReferenceDoc `json:"references"`
	Remade     []RemadeDoc    `json:"remade,omitempty"`
}

// ReferenceDoc is one line that names a device.
type ReferenceDoc struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Text    string `json:"text"`
	Names   string `json:"names"`             // the identifier or path
	By      string `json:"by,omitempty"`      // such as root or resume
	What    string `json:"what"`              // what the file is
	Device  string `json:"device,omitempty"`  // that it means; none where it names nothing
	Written string `json:"written,omitempty"` // by what, where the file is generated
}

// RemadeDoc is a partition that lines probably mean by an identifier which no device has.
type RemadeDoc struct {
	Device string `json:"device"`
	Mend   WayDoc `json:"mend"`  // the command that gives it back what they say
	Guess  bool   `json:"guess"` // nothing but its kind speaks for it
}

func referencesDocument(r *look.References) ReferencesDoc {
	doc := ReferencesDoc{head("references"), r.Word, []string{}, []ReferenceDoc{}, nil}
	for _, n := range r.Devices {
		doc.Devices = append(doc.Devices, n.Name)
	}
	for _, l := range r.Lines {
		doc.References = append(doc.References, ReferenceDoc{l.Path, l.Line, l.Text, l.Spec, l.By, l.What, l.Device, l.Writer})
	}
	for _, again := range r.Remade {
		doc.Remade = append(doc.Remade, RemadeDoc{again.Node, wayDoc(again.Mend), again.Guess})
	}
	return doc
}

// References is the lines that name a device, file by file.
type References struct{ *look.References }

// Document implements Report.
func (r References) Document() any { return referencesDocument(r.References) }

// Words implements Report.
func (r References) Words(p *Printer) {
	means := ", which no device has,"
	switch {
	case len(r.Devices) == 1 && r.Devices[0].Name == r.Word:
		means = ""
	case len(r.Devices) > 0:
		means = ", which is " + deviceWords(r.References) + ","
	}
	if len(r.Lines) == 0 {
		p.printf("%s%s is named by no line of %s\n", visible(r.Word), means, count(r.Looked, "text file"))
		return
	}
	words := count(len(r.Lines), "line")
	if stale := r.Former(); stale > 0 {
		words = count(len(r.Lines)-stale, "line") + "; by what it was named before, by " + fmt.Sprint(stale)
	}
	p.printf("%s\n", p.paint(Strong, fmt.Sprintf("%s%s is named by %s", visible(r.Word), means, words)))
	for _, l := range r.Lines {
		head := fmt.Sprintf("%s:%d", visible(l.Path), l.Line)
		words := l.What
		if l.By != "" {
			words += ", " + l.By
		}
		if l.Device == "" {
			words += "; it names nothing"
		} else if len(r.Devices) == 1 && l.Device != r.Devices[0].Name {
			words += "; " + visible(l.Device)
		}
		p.printf("\n%s  %s\n", p.paint(Strong, head), visible(words))
		p.wrap(4, "", visible(blanks(l.Text)))
		if l.Writer != "" {
			p.wrap(4, "written by ", l.Writer)
		}
	}
	for _, again := range r.Remade {
		words := ""
		if again.Guess {
			words = ", as the only one of its kind that nothing names"
		}
		p.printf("\n")
		p.wrap(0, "", fmt.Sprintf("%s may be meant%s, recreated with another PARTUUID. Where that is so, this gives it back:",
			visible(again.Node), words))
		p.Next(again.Mend)
	}
}

// blanks shows tabs, which separate most fields of text files, as what they look like.
func blanks(s string) string { return strings.ReplaceAll(s, "\t", " ") }

func deviceWords(r *look.References) string {
	words := ""
	for i, n := range r.Devices {
		if i > 0 {
			words += " and "
		}
		words += visible(n.Name)
	}
	return words
}
