package manual

import (
	"bytes"
	"fmt"
	"strings"
)

// Page is a page that is being written.
type Page struct {
	Name    string // "fundus-format"
	Section int    // of the manual
	out     bytes.Buffer
	begun   bool // a section or a part of one, in which nothing stands yet
}

// most is how many bytes a line of the source has at most: not a rule of the format, but of those who
// read it in mails and differences.
const most = 78

// New begins a page. The date is that of the release, as 2006-01-02; the short text is what apropos finds.
func New(name string, section int, date, release, short string) *Page {
	p := &Page{Name: name, Section: section}
	// Dates are no text: their hyphens stay as they are.
	fmt.Fprintf(&p.out, ".TH %s %d %s \"Fundus %s\" \"System administration\"\n", Escape(strings.ToUpper(name)), section, date, Escape(release))
	p.macro("SH", "NAME")
	p.flow(name + " - " + short)
	return p
}

// File is the name under which the page is installed.
func (p *Page) File() string { return fmt.Sprintf("%s.%d", p.Name, p.Section) }

// Bytes are the source of the page.
func (p *Page) Bytes() []byte { return p.out.Bytes() }

// Heading begins a section, in capitals as all have them.
func (p *Page) Heading(name string) {
	p.macro("SH", strings.ToUpper(name))
	p.begun = true
}

// Sub begins a part of a section.
func (p *Page) Sub(name string) {
	p.macro("SS", name)
	p.begun = true
}

// paragraph begins one, but where a section begins, which does so itself.
func (p *Page) paragraph() {
	if !p.begun {
		p.macro("PP")
	}
	p.begun = false
}

// Text is a paragraph.
func (p *Page) Text(text string) {
	p.paragraph()
	p.flow(text)
}

// Word is a term, in bold, with what follows it in italics, and what it means.
func (p *Page) Word(bold, italic, meaning string) {
	p.begun = false
	p.macro("TP")
	if italic == "" {
		p.macro("B", bold)
	} else {
		p.macro("BI", bold, italic)
	}
	p.flow(meaning)
}

// Lines are shown as they stand.
func (p *Page) Lines(text string) {
	p.paragraph()
	p.macro("RS", "4")
	p.macro("nf")
	for line := range strings.SplitSeq(strings.Trim(text, "\n"), "\n") {
		p.line(Escape(strings.TrimSpace(line)))
	}
	p.macro("fi")
	p.macro("RE")
}

// Synopsis is a line of which the first words are those that are typed so.
func (p *Page) Synopsis(typed, rest string) {
	p.macro("B", typed)
	if rest != "" {
		p.flow(rest)
	}
}

// Break begins a line.
func (p *Page) Break() { p.macro("br") }

// See lists other pages, as name and section, in the order given.
func (p *Page) See(pages ...[2]string) {
	for i, s := range pages {
		after := ","
		if i == len(pages)-1 {
			after = ""
		}
		p.macro("BR", s[0], "("+s[1]+")"+after)
	}
}

// macro writes a request with its arguments, quoted where they have blanks.
func (p *Page) macro(name string, args ...string) {
	p.out.WriteString("." + name)
	for _, a := range args {
		a = strings.ReplaceAll(Escape(a), `"`, `\(dq`)
		if a == "" || strings.ContainsAny(a, " \t") {
			a = `"` + a + `"`
		}
		p.out.WriteString(" " + a)
	}
	p.out.WriteByte('\n')
}

func (p *Page) line(text string) { p.out.WriteString(guarded(text) + "\n") }

// flow writes text that is filled: each sentence begins a line, and lines are broken between words.
func (p *Page) flow(text string) {
	line := ""
	end := func() {
		if line != "" {
			p.line(line)
		}
		line = ""
	}
	for _, word := range strings.Fields(text) {
		escaped := Escape(word)
		if line != "" && len(line)+1+len(escaped) > most {
			end()
		}
		if line != "" {
			line += " "
		}
		line += escaped
		if last := word[len(word)-1]; last == '.' || last == '?' || last == '!' {
			end()
		}
	}
	end()
}

// guarded keeps a line of text from being taken for a request.
func guarded(line string) string {
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		return `\&` + line
	}
	return line
}

// Escape is text as it is shown: a hyphen is the one that is typed, and what is no ASCII has its name.
func Escape(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case r == '\\':
			b.WriteString(`\e`)
		case r == '-':
			b.WriteString(`\-`)
		case r == '^':
			b.WriteString(`\(ha`)
		case r == '~':
			b.WriteString(`\(ti`)
		case r == '`':
			b.WriteString(`\(ga`)
		case r == '\'':
			b.WriteString(`\(aq`)
		case r > 126:
			fmt.Fprintf(&b, `\[u%04X]`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
