package view

import (
	"fmt"

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
		device := visible(l.Device)
		if device == "" {
			device = "-"
		}
		rows = append(rows, []string{fmt.Sprint(l.Number), device, visible(l.Dir), visible(l.Kind), visible(l.Spec)})
	}
	if len(rows) == 0 {
		p.printf("no lines; fundus fstab add makes one\n")
		return
	}
	p.columns(0, []string{">line", "device", "mount point", "type", "named by"}, rows)
}

// FstabCheck is what is wrong with fstab.
type FstabCheck struct{ *look.Rehearsal }

// Document implements Report.
func (r FstabCheck) Document() any { return findingsDocument("fstab-check", r.Findings) }

// Words implements Report.
func (r FstabCheck) Words(p *Printer) {
	if len(r.Findings) == 0 {
		p.printf("%s\n", p.paint(InUse, "in order: "+count(len(r.Lines), "line")+" of fstab"))
		return
	}
	p.printf("%s in fstab\n\n", tally(r.Findings))
	p.findings(r.Findings)
}
