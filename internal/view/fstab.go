package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/internal/look"
)

// Fstab is the lines of fstab with what they name.
type Fstab struct {
	*look.Rehearsal
	All bool // disabled lines too
}

// FstabDoc is the document of kind fstab.
type FstabDoc struct {
	Head
	Machine  string         `json:"machine"`
	Lines    []FstabLineDoc `json:"lines"`
	Findings []FindingDoc   `json:"findings"`
}

// FstabLineDoc is one line, or a comment that holds one.
type FstabLineDoc struct {
	Number     int      `json:"line"`
	Disabled   bool     `json:"disabled"`
	Spec       string   `json:"spec"`
	MountPoint string   `json:"mount_point"`
	Type       string   `json:"type"`
	Options    []string `json:"options"`
	Dump       int      `json:"dump"`
	Pass       int      `json:"check_order"`
	Device     string   `json:"device,omitempty"`
	Mounted    string   `json:"mounted" of:"mounted"`
	Differs    string   `json:"differs,omitempty"` // how what is mounted differs from the line
	Outcome    string   `json:"outcome,omitempty" of:"outcome"`
	Text       string   `json:"text"`
}

// mountedCode is how a line's place is used now, and how that differs from the line.
func mountedCode(words string) (code, differs string) {
	switch words {
	case "", "no":
		return "no", ""
	case "yes":
		return words, ""
	case "in use":
		return "in-use", ""
	}
	return "differs", words
}

// Document implements Report.
func (r Fstab) Document() any {
	d := FstabDoc{head("fstab"), r.Machine, []FstabLineDoc{}, findingDocs(r.Findings)}
	lines := append(slices.Clone(r.Lines), r.Disabled...)
	slices.SortFunc(lines, func(a, b look.RehearsedLine) int { return a.Number - b.Number })
	for _, l := range lines {
		mounted, differs := mountedCode(l.Mounted)
		d.Lines = append(d.Lines, FstabLineDoc{
			l.Number, l.Off, l.Spec, placed(l.Dir, l.Swap), l.Kind, strings.Split(l.Options, ","), l.Dump, l.Pass, l.Device, mounted,
			differs, outcomes()[l.Outcome], strings.TrimRight(l.Raw, "\r\n"),
		})
	}
	return d
}

// Words implements Report: in the first line how many there are, and what is wrong with them.
func (r Fstab) Words(p *Printer) {
	p.wrap(0, "", r.title(p))
	lines := r.Lines
	if r.All {
		lines = append(slices.Clone(lines), r.Disabled...)
		slices.SortFunc(lines, func(a, b look.RehearsedLine) int { return a.Number - b.Number })
	}
	if len(lines) == 0 {
		return
	}
	var rows [][]string
	for _, l := range lines {
		device, mounted := visible(cmp.Or(l.Device, "-")), cmp.Or(l.Mounted, "no")
		switch {
		case l.Off:
			device, mounted = "-", p.paint(Changed, "disabled")
		case l.Outcome == "passed over" || l.Outcome == "not mounted" && l.Device == "":
			device, mounted = p.paint(Lost, "?"), "never"
		}
		if l.Swap && mounted == "yes" {
			mounted = look.SwapOn
		} else if mounted == "yes" {
			mounted = "mounted"
		}
		if mounted != "mounted" && mounted != look.SwapOn && mounted != "in use" && mounted != "no" && !l.Off {
			mounted = p.paint(Changed, visible(mounted))
		}
		rows = append(rows, []string{
			fmt.Sprint(l.Number), device, visible(placed(l.Dir, l.Swap)), visible(l.Kind), visible(l.Options), fmt.Sprint(l.Pass), mounted,
		})
	}
	heading := []string{">line", "device", "mount point", "type", "options", ">check", "now"}
	const options = 4
	apart := naturally(heading, rows) > p.Width // then they stand below, whole
	if apart {
		heading = slices.Delete(heading, options, options+1)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], options, options+1)
		}
	}
	p.printf("\n")
	for _, line := range p.fitted(heading, rows, 2) {
		p.printf("%s\n", line)
	}
	p.printf("\n")
	for _, l := range lines {
		words := visible(cmp.Or(l.Spec, strings.TrimSpace(l.Raw)))
		if apart && l.Options != "" {
			words += " " + strings.ReplaceAll(visible(l.Options), ",", ", ")
		}
		p.wrap(0, fmt.Sprintf("%4d  ", l.Number), words)
	}
	if len(r.Findings) > 0 {
		p.printf("\n")
		p.foundTable(r.Findings)
		p.printf("fundus fstab check says why each matters, and what to do\n")
	}
}

// naturally is how wide a table would be, were nothing cut.
func naturally(heading []string, rows [][]string) (width int) {
	for i, h := range heading {
		most := text.StringWidth(strings.TrimPrefix(h, ">"))
		for _, r := range rows {
			most = max(most, text.StringWidthWithoutEscSequences(r[i]))
		}
		width += most + 2
	}
	return width - 2
}

func (r Fstab) title(p *Printer) string {
	words := count(len(r.Lines), "line")
	if len(r.Lines) == 0 {
		words = "no lines"
	}
	if len(r.Lines) == 0 && len(r.Findings) == 0 {
		return words + ": nothing is mounted by it"
	}
	if n := len(r.Disabled); n > 0 {
		words += fmt.Sprintf(", %d disabled", n)
		if !r.All {
			words += " (--all)"
		}
	}
	if len(r.Findings) > 0 {
		return words + "; " + p.paint(Changed, tally(r.Findings))
	}
	return p.paint(InUse, words+", in order")
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
	if len(r.Findings) == 0 && len(r.Lines) == 0 {
		p.printf("fstab has no lines, and mounts nothing\n  fundus fstab restore\n")
		return
	}
	if len(r.Findings) == 0 {
		p.printf("%s\n", p.paint(InUse, "in order: "+count(len(r.Lines), "line")+" of fstab"))
		return
	}
	p.printf("%s in fstab\n", tally(r.Findings))
	p.found(r.Findings, r.Explain)
}
