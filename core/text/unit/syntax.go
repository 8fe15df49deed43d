package unit

import (
	"strings"

	"fundus/core/text"
)

// Syntax finds the device that a mount or a swap unit names.
type Syntax struct{}

// Mentions implements text.Syntax: the What that is in force.
func (Syntax) Mentions(data []byte) []text.Mention {
	s, ok := Parse(data).What()
	if !ok || !text.IsDevice(s.Value) {
		return nil
	}
	return []text.Mention{{Line: s.Line, Text: s.Key + "=" + s.Value, Spec: s.Value, By: s.Key, Start: s.start, End: s.end}}
}

// Say implements text.Syntax.
//
// A value that ends with a backslash would go on in the next line.
func (Syntax) Say(data []byte, m text.Mention, spec string) ([]byte, error) {
	if spec == "" || strings.ContainsAny(spec, "\r\n") || strings.HasSuffix(spec, "\\") {
		return nil, text.ErrUnsayable
	}
	return text.Put(data, m, spec), nil
}
