package view

import (
	"cmp"
	"strings"

	"fundus/internal/look"
)

// MountOptionsDoc is the document of kind options.
type MountOptionsDoc struct {
	Head
	Type    string           `json:"type,omitempty"`
	Options []MountOptionDoc `json:"options"`
}

// MountOptionDoc is one mount option.
type MountOptionDoc struct {
	Name     string   `json:"name"`
	Alone    bool     `json:"alone"`           // it can stand without a value
	Value    string   `json:"value,omitempty"` // the form of its value
	Words    []string `json:"words,omitempty"`
	To       string   `json:"to"` // "superblock", "mount", "propagation", "kind", "program", "boot" or "rights"
	Opposite string   `json:"opposite,omitempty"`
	Needs    string   `json:"needs,omitempty"`
	Default  bool     `json:"default"`
	Dropped  bool     `json:"without_effect"`
	Since    string   `json:"since_linux,omitempty"`
	Implies  []string `json:"implies,omitempty"`
	Meaning  string   `json:"meaning"`
}

// MountOptions are the options of a kind.
type MountOptions struct{ look.MountOptions }

// Document implements Report.
func (r MountOptions) Document() any {
	d := MountOptionsDoc{Head: head("options"), Type: r.Type, Options: []MountOptionDoc{}}
	for _, g := range r.Groups {
		for _, o := range g.Options {
			d.Options = append(d.Options, MountOptionDoc{
				o.Name, o.Alone, string(o.Value), o.Option.Words, string(o.To), o.Not, string(o.Needs), o.Default, o.Gone,
				o.Since, o.Implies, o.Says,
			})
		}
	}
	return d
}

// Words implements Report. Of a kind its own are shown; those of every mount go by
// themselves.
func (r MountOptions) Words(p *Printer) {
	title, end := "options of every mount, and of lines of fstab", "fundus options KIND lists a kind's own."
	if r.Type != "" {
		title, end = visible(r.Type)+"  "+count(len(r.Groups[0].Options), "option")+" of its own", "fundus options lists those of every mount."
	}
	p.printf("%s\n", p.paint(Strong, title))
	for _, g := range r.Groups {
		if r.Type == "" {
			p.printf("\n%s\n", g.Title)
		}
		p.optionGroup(g)
	}
	p.printf("\n")
	p.wrap(0, "", "* is so without the option. "+end)
}

func (p *Printer) optionGroup(g look.OptionGroup) {
	var gone []string
	for _, o := range g.Options {
		if o.Gone {
			gone = append(gone, o.Name)
			continue
		}
		words := o.Says
		if o.Needs != "" {
			words += "; needs " + string(o.Needs)
		}
		if o.Since != "" {
			words += "; since Linux " + o.Since
		}
		if len(o.Implies) > 0 {
			words += "; stands for " + strings.Join(o.Implies, ", ") + " too"
		}
		mark := cmp.Or(map[bool]string{true: "*"}[o.Default], " ")
		p.hang("  "+mark+" ", o.Takes, words, optionWidth)
	}
	if len(gone) > 0 {
		p.hang("    ", "without effect", strings.Join(gone, ", "), optionWidth)
	}
}

// optionWidth is where the meanings begin.
const optionWidth = 32
