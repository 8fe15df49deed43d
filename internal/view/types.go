package view

import (
	"fundus/core/table"
	"strings"
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

// Types prints partition types: the name that --type takes, and how each scheme
// writes it.
func (p *Printer) Types(list []table.Type) error {
	doc, rows, facts := TypesDoc{head("types"), []TypeDoc{}}, [][]string{}, [][]string{}
	for _, t := range list {
		doc.Types = append(doc.Types, TypeDoc{t.Name, t.GUID, t.Byte, t.Meaning})
		rows = append(rows, []string{t.Name, t.Meaning, t.Byte, t.GUID})
		facts = append(facts, []string{t.Name, t.Meaning}, []string{"", typeValues(t)})
	}
	const wide, few = 108, 12
	switch {
	case p.JSON:
		return p.document(doc)
	case p.Width >= wide:
		p.columns(0, []string{"name", "meaning", ">MBR", "GPT"}, rows)
	case len(list) <= few:
		p.facts(facts)
	default: // the GUIDs do not fit beside the rest
		for i := range rows {
			rows[i][3] = map[bool]string{true: "yes"}[rows[i][3] != ""]
		}
		p.columns(0, []string{"name", "meaning", ">MBR", "GPT"}, rows)
		p.printf("\nfundus types NAME shows the GUID\n")
	}
	return nil
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
