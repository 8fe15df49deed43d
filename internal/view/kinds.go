package view

// Kinds are the kinds of documents.
type Kinds []string

// KindsDoc is the document of kind kinds.
type KindsDoc struct {
	Head
	Kinds []string `json:"kinds"`
}

// Document implements Report.
func (r Kinds) Document() any { return KindsDoc{head("kinds"), r} }

// Words implements Report.
func (r Kinds) Words(p *Printer) {
	for _, kind := range r {
		p.printf("%s\n", kind)
	}
	p.printf("\n")
	p.wrap(0, "", "fundus help document KIND prints the JSON Schema of one.")
}
