package fstab

import "fundus/core/text"

// Syntax finds the devices that the lines of the table name.
type Syntax struct{}

// Mentions implements text.Syntax: the first field of each entry.
func (Syntax) Mentions(data []byte) []text.Mention { return Parse(data).Mentions() }

// Mentions are those of a table that was read.
func (f *File) Mentions() (out []text.Mention) {
	at := 0
	for _, l := range f.Lines {
		if l.Entry != nil && text.IsDevice(l.Entry.Spec) {
			first := l.Fields[SpecField]
			out = append(out, text.Mention{Line: l.Number, Text: l.Text(), Spec: l.Entry.Spec, Start: at + first.Start, End: at + first.End})
		}
		at += len(l.Raw)
	}
	return out
}

// Say implements text.Syntax.
//
// The line is read again and must mean the new name: a blank or a hash in it is written as
// an escape, or refused.
func (Syntax) Say(data []byte, m text.Mention, spec string) ([]byte, error) {
	f := Parse(data)
	if err := f.Set(m.Line, SpecField, spec); err != nil {
		return nil, text.ErrUnsayable
	}
	return f.Bytes(), nil
}
