package view

import (
	"strings"

	"fundus/core/table"
)

// TypesDoc is the document of kind types.
type TypesDoc struct {
	Head
	Types []TypeDoc `json:"types"`
}

// TypeDoc is one partition type.
type TypeDoc struct {
	Name    string `json:"name"`
	GUID    string `json:"gpt_guid,omitempty"`
	Byte    string `json:"mbr_byte,omitempty"` // two hexadecimal digits
	Meaning string `json:"meaning"`
}

// Types is a list of partition types: the name that --type takes, and how each scheme
// writes it.
type Types struct{ List []table.Type }

// Document implements Report.
func (r Types) Document() any {
	doc := TypesDoc{head("types"), []TypeDoc{}}
	for _, t := range r.List {
		doc.Types = append(doc.Types, TypeDoc{t.Name, t.GUID, t.Byte, t.Meaning})
	}
	return doc
}

// Words implements Report.
func (r Types) Words(p *Printer) {
	rows, facts := [][]string{}, [][]string{}
	for _, t := range r.List {
		rows = append(rows, []string{t.Name, t.Meaning, t.Byte, t.GUID})
		facts = append(facts, []string{t.Name, t.Meaning}, []string{"", typeValues(t)})
	}
	const wide, few = 108, 12
	switch {
	case p.Width >= wide:
		p.columns(0, []string{"name", "meaning", ">MBR", "GPT"}, rows)
	case len(r.List) <= few:
		p.facts(facts)
	default: // the GUIDs do not fit beside the rest
		for i := range rows {
			rows[i][3] = map[bool]string{true: "yes"}[rows[i][3] != ""]
		}
		p.columns(0, []string{"name", "meaning", ">MBR", "GPT"}, rows)
		p.printf("\nfundus types NAME shows the GUID\n")
	}
}

func typeValues(t table.Type) string {
	var words []string
	if t.GUID != "" {
		words = append(words, "GPT "+t.GUID)
	}
	if t.Byte != "" {
		words = append(words, "MBR "+t.Byte)
	}
	return strings.Join(words, "   ")
}
