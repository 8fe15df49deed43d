package view

import (
	"cmp"
	"fmt"
	"strings"

	"fundus/internal/look"
)

// Fstab is the lines of fstab with what they name.
type Fstab struct{ *look.Rehearsal }

// Document implements Report.
func (r Fstab) Document() any { return rehearsalDocument(r.Rehearsal) }

// Words implements Report.
func (r Fstab) Words(p *Printer) {
	var rows [][]string
	for _, l := range r.Lines {
		if l.Spec == "" {
			rows = append(rows, []string{fmt.Sprint(l.Number), p.paint(Lost, "?"), visible(strings.TrimSpace(l.Raw)), "", "", "", ""})
			continue
		}
		rows = append(rows, []string{fmt.Sprint(l.Number), visible(cmp.Or(l.Device, "-")), visible(l.Dir), visible(l.Kind), visible(l.Options), fmt.Sprint(l.Pass)})
	}
	if len(rows) == 0 {
		p.printf("no lines\n")
		return
	}
	for _, line := range p.fitted([]string{">line", "device", "mount point", "type", "options", ">check"}, rows, 2) {
		p.printf("%s\n", line)
	}
	p.printf("\n")
	for _, l := range r.Lines {
		if l.Spec != "" {
			p.wrap(0, fmt.Sprintf("%4d  ", l.Number), visible(l.Spec))
		}
	}
}

// FstabCheck is what is wrong with fstab.
type FstabCheck struct {
	*look.Rehearsal
	Explain bool
}

// Document implements Report.
func (r FstabCheck) Document() any { return findingsDocument("fstab-check", r.Findings) }

// Words implements Report.
func (r FstabCheck) Words(p *Printer) {
	if len(r.Findings) == 0 {
		p.printf("%s\n", p.paint(InUse, "in order: "+count(len(r.Lines), "line")+" of fstab"))
		return
	}
	p.printf("%s in fstab\n", tally(r.Findings))
	p.found(r.Findings, r.Explain)
}
