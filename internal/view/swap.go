package view

import (
	"cmp"
	"fmt"

	"fundus/internal/look"
)

// Swap is what the machine swaps on.
type Swap struct{ *look.Swap }

// SwapDoc is the document of kind swap.
type SwapDoc struct {
	Head
	Memory    int64         `json:"memory_bytes"`
	Available int64         `json:"memory_available_bytes"`
	Areas     []SwapAreaDoc `json:"areas"`
}

// SwapAreaDoc is one area.
type SwapAreaDoc struct {
	Path     string `json:"path"`
	Device   string `json:"device,omitempty"`
	Label    string `json:"label,omitempty"`
	File     bool   `json:"file"`
	On       bool   `json:"on"`
	Size     int64  `json:"size_bytes"`
	Used     int64  `json:"used_bytes"`
	Priority int    `json:"priority"`
	Line     int    `json:"fstab_line,omitempty"`
	Options  string `json:"options,omitempty"`
	Problem  string `json:"problem,omitempty" of:"swap-problem"`
	First    int64  `json:"first_page,omitempty"` // of the device on which a file lies
}

// Document implements Report.
func (r Swap) Document() any {
	d := SwapDoc{head("swap"), int64(r.Memory.Total), int64(r.Memory.Available), []SwapAreaDoc{}}
	for _, a := range r.Areas {
		d.Areas = append(d.Areas, SwapAreaDoc{
			a.Path, a.Node, a.Label, a.File, a.On, int64(a.Size), int64(a.Used), a.Priority, a.Line, a.Options, swapProblems()[a.Problem],
			a.First,
		})
	}
	return d
}

// Words implements Report: in the first line how much there is, and how much of it is used.
func (r Swap) Words(p *Printer) {
	used, size, on := r.Used()
	title := "no swap is on"
	if on > 0 {
		title = fmt.Sprintf("%s of swap on %s, %s of it used", p.sum(size), count(on, "area"), p.sum(used))
	}
	if r.Memory.Total > 0 {
		title += fmt.Sprintf("; %s memory, %s available", p.sum(r.Memory.Total), p.sum(r.Memory.Available))
	}
	p.wrap(0, "", p.paint(Strong, title))
	if len(r.Areas) == 0 {
		p.wrap(0, "", "fundus swap add FILE makes a file to swap on, fundus format TARGET swap an area of a partition.")
		return
	}
	var rows [][]string
	off := ""
	for _, a := range r.Areas {
		used, priority, boot := "-", "-", "no"
		switch {
		case a.On:
			used, priority = p.sum(a.Used), fmt.Sprint(a.Priority)
		case a.Problem != "":
			used = p.paint(Lost, visible(a.Problem))
		default:
			used, off = "off", a.Name
		}
		if a.Line > 0 {
			boot = fmt.Sprintf("fstab line %d%s", a.Line, map[bool]string{true: ", not by itself"}[a.Later])
		}
		rows = append(rows, []string{
			visible(a.Name), visible(cmp.Or(a.Label, "-")), p.sum(a.Size), used, priority,
			visible(cmp.Or(a.Options, "-")), boot,
		})
	}
	p.printf("\n")
	p.columns(2, []string{"area", "label", "size", "used", "priority", "options", "at boot"}, rows)
	if off != "" {
		p.printf("\nfundus swap on %s turns that one on\n", visible(off))
	}
}
