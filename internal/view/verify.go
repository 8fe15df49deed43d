package view

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/core/finding"
	"fundus/internal/look"
)

// FindingsDoc is the document of kinds verification and fstab-check.
type FindingsDoc struct {
	Head
	Findings []FindingDoc `json:"findings"`
}

func findingsDocument(kind string, list []finding.Finding) FindingsDoc {
	return FindingsDoc{head(kind), findingDocs(list)}
}

// Verification is findings, or one line that says what was looked at.
type Verification struct {
	*look.Verification
	Explain bool // why each matters, and what to do
}

// Document implements Report.
func (r Verification) Document() any { return findingsDocument("verification", r.Findings) }

// Words implements Report.
func (r Verification) Words(p *Printer) {
	v := r.Verification
	looked := fmt.Sprintf("%s, %s and %s of fstab", count(v.Disks, "disk"), count(v.Partitions, "partition"), count(v.Line, "line"))
	if len(v.Targets) > 0 {
		looked = visible(strings.Join(v.Targets, ", "))
		if v.Disks+v.Partitions > len(v.Targets) {
			looked += fmt.Sprintf(" (%s, %s)", count(v.Disks, "disk"), count(v.Partitions, "partition"))
		}
		it := "it"
		if len(v.Targets) > 1 {
			it = "them"
		}
		switch v.Line {
		case 0:
			looked += ", which no line names"
		case 1:
			looked += " and the line that names " + it
		default:
			looked += fmt.Sprintf(" and the %d lines that name %s", v.Line, it)
		}
	}
	if v.Elsewhere > 0 {
		looked += fmt.Sprintf(", and %s elsewhere", count(v.Elsewhere, "line"))
	}
	if len(v.Findings) == 0 {
		p.printf("%s\n", p.paint(InUse, "in order: "+looked))
		return
	}
	worst := finding.Worst(v.Findings)
	p.wrap(0, "", p.paint(stateOf(worst), fmt.Sprintf("%s; looked at %s", tally(v.Findings), looked)))
	p.found(v.Findings, r.Explain)
}

// few is how many findings are explained without being asked for.
const few = 3

// found lists findings: a row each, and with the reasons where these were asked for or there
// are few.
func (p *Printer) found(list []finding.Finding, explain bool) {
	if explain || len(list) <= few {
		p.printf("\n")
		p.findings(list)
		return
	}
	p.foundTable(list)
	p.printf("--explain says why each matters, and what to do\n")
	if p.Height > 0 && len(list)+3 > p.Height { // the first line is gone
		p.printf("%s\n", tally(list))
	}
}

// foundTable is a paragraph a finding, where it is first; none of it is cut, since what stands at the
// end may be what tells two apart.
func (p *Printer) foundTable(list []finding.Finding) {
	const margin = len("warning  ")
	for _, f := range list {
		lead := p.paint(stateOf(f.Severity), text.Pad(string(f.Severity), margin, ' '))
		words := fmt.Sprintf("%s: %s (%s)", visible(f.Thing), visible(f.Text), f.ID)
		for _, line := range p.broken(0, lead, words) {
			p.printf("%s\n", line)
		}
	}
}

func (p *Printer) findings(list []finding.Finding) {
	for i, f := range list {
		if i > 0 {
			p.printf("\n")
		}
		head := fmt.Sprintf("%s  %s  %s", p.paint(stateOf(f.Severity), string(f.Severity)), p.paint(Strong, visible(f.Thing)), f.ID)
		if text.StringWidthWithoutEscSequences(head) > p.Width {
			p.wrap(0, p.paint(stateOf(f.Severity), string(f.Severity))+"  ", p.paint(Strong, visible(f.Thing))+" "+string(f.ID))
		} else {
			p.printf("%s\n", head)
		}
		p.wrap(4, "", visible(f.Text)+".")
		p.wrap(4, "why: ", f.Why+".")
		if !f.Mend.Empty() {
			p.wrap(4, "do:  ", visible(f.Mend.String()))
		} else if f.Remedy != "" {
			p.wrap(4, "do:  ", visible(f.Remedy)+".")
		}
	}
}

func stateOf(s finding.Severity) State {
	switch s {
	case finding.Error:
		return Lost
	case finding.Warning:
		return Changed
	}
	return Plain
}

func tally(list []finding.Finding) string {
	n := map[finding.Severity]int{}
	for _, f := range list {
		n[f.Severity]++
	}
	var words []string
	for _, s := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		if n[s] > 0 {
			words = append(words, count(n[s], string(s)))
		}
	}
	return strings.Join(words, ", ")
}

func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
