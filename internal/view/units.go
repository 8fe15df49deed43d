package view

import (
	"cmp"
	"strings"

	"fundus/internal/look"
)

// Units are systemd's for mounts, automounts and swap.
type Units struct {
	*look.Units
	Check   bool // only what is wrong
	Explain bool
}

// UnitsDoc is the document of kind units.
type UnitsDoc struct {
	Head
	Units    []UnitDoc    `json:"units"`
	Lines    int          `json:"fstab_lines"` // of which more units are made at each boot
	Findings []FindingDoc `json:"findings"`
}

// UnitDoc is one.
type UnitDoc struct {
	Name    string   `json:"name"`
	File    string   `json:"file"`
	What    string   `json:"what,omitempty"`
	Where   string   `json:"where,omitempty"`
	Device  string   `json:"device,omitempty"`
	Options []string `json:"options"`
	State   string   `json:"state" of:"unit-state"`
	Boot    string   `json:"boot" of:"at-boot"` // later: by an automount
	By      []string `json:"pulled_in_by"`
	DropIns []string `json:"drop_ins"`
	Hidden  []string `json:"hidden_files"`
}

// Document implements Report.
func (r Units) Document() any {
	d := UnitsDoc{head("units"), []UnitDoc{}, r.Lines, findingDocs(r.Findings)}
	for _, u := range r.List {
		by := []string{}
		for _, p := range u.By {
			by = append(by, p.Target)
		}
		d.Units = append(d.Units, UnitDoc{
			u.Name, u.Path, u.What(), u.Where(), u.Node, orEmpty(u.Options()), unitStates()[u.State], u.Boot(), by, orEmpty(u.DropIns),
			orEmpty(u.Hidden),
		})
	}
	return d
}

// Words implements Report: in the first line how many there are, and what is wrong with them.
func (r Units) Words(p *Printer) {
	title := count(len(r.List), "unit")
	if len(r.List) == 0 {
		title = "no mount units"
	}
	switch {
	case len(r.Findings) > 0:
		title += "; " + p.paint(Changed, tally(r.Findings))
	case r.Check || len(r.List) > 0:
		title = p.paint(InUse, title+", in order")
	}
	if r.Lines > 0 {
		title += "; fstab has " + count(r.Lines, "line")
	}
	p.wrap(0, "", title)
	if r.Check {
		p.found(r.Findings, r.Explain)
		return
	}
	if len(r.List) == 0 {
		return
	}
	var rows [][]string
	for _, u := range r.List {
		state := u.State
		switch state {
		case look.UnitMasked:
			state = p.paint(Changed, state)
		case look.UnitMounted, look.UnitOn, look.UnitWaiting:
			state = p.paint(InUse, state)
		}
		rows = append(rows, []string{visible(placeOf(u)), u.Type(), visible(cmp.Or(u.Node, shortened(u.What()), "-")), u.Boot(), state})
	}
	p.printf("\n")
	for _, line := range p.fitted([]string{"mount point", "kind", "device", "at boot", "now"}, rows, 0) {
		p.printf("%s\n", line)
	}
	p.printf("\n")
	for _, u := range r.List {
		words := visible(u.Path)
		if len(u.DropIns) > 0 {
			words += ", changed by " + visible(strings.Join(u.DropIns, ", "))
		}
		if len(u.Hidden) > 0 {
			words += ", in place of " + visible(strings.Join(u.Hidden, ", "))
		}
		p.wrap(0, "", words)
	}
	if len(r.Findings) > 0 {
		p.printf("\n")
		p.foundTable(r.Findings)
		p.printf("fundus unit check says why each matters, and what to do\n")
	}
}

// placeOf is the mount point, or what else the unit is known by.
func placeOf(u look.Unit) string {
	if u.IsSwap() {
		return "swap"
	}
	return cmp.Or(u.Where(), u.Name)
}

// shortened is a device without what all devices have.
func shortened(what string) string {
	return strings.TrimPrefix(strings.TrimPrefix(what, "/dev/disk/by-"), "/dev/")
}
