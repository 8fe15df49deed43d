package boot

import (
	"fmt"

	"fundus/core/fs"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// byType is a partition that systemd finds by its type, on the disk of the root.
type byType struct {
	node, unit, where string
}

// Attributes of a GPT entry (Discoverable Partitions Specification).
const (
	readOnlyBit = 1 << 60
	noAutoBit   = 1 << 63
)

// byTypes writes the units of partitions that are found by their types: of the first swap, home
// and srv of the root's disk, where no line of fstab is for the place and nothing lies there.
//
// The partition of /var is bound to the machine's identifier, and those from which firmware
// starts are mounted at the first access: neither is modelled.
func (m *machine) byTypes(into units.Tree) {
	root, ok := m.v.Node(m.rootFound.node)
	if !ok || !m.has("systemd-gpt-auto-generator") || !m.facts.Words.On("systemd.gpt_auto", true) {
		return
	}
	disk, ok := m.v.Node(root.Disk())
	if !ok || disk.Table == nil || disk.Table.Scheme != table.GPT {
		return
	}
	taken := map[string]bool{}
	for _, p := range m.v.Parts(disk.Name) {
		t, known := table.FindType(table.GPT, p.Entry.Type)
		where := map[string]string{"swap": fstab.Swap, "/home": "/home", "/srv": "/srv", "/var/tmp": "/var/tmp"}[t.Name]
		if !known || where == "" || p.Entry.Attributes&noAutoBit != 0 || taken[where] {
			continue
		}
		taken[where] = true
		c, ok := p.Content()
		link := "/dev/disk/by-partuuid/" + p.Entry.UUID
		switch {
		case where == fstab.Swap && ok && c.Class == fs.Swap && !m.anySwap(): // whatever systemd.swap= says, as was seen
			name := unit.Name(link, "swap")
			into[name] = units.Entry{Data: fmt.Appendf(nil, "[Swap]\nWhat=%s\n", link)}
			into["swap.target.wants/"+name] = units.Entry{To: "../" + name}
			m.typed = append(m.typed, byType{p.Name, name, where})
		case where != fstab.Swap && ok && c.Class == fs.FileSystem && !m.placed(where) && !m.v.System.Filled[where]:
			name, options := unit.Name(where, "mount"), ""
			if p.Entry.Attributes&readOnlyBit != 0 {
				options = "Options=ro\n"
			}
			into[name] = units.Entry{Data: fmt.Appendf(nil,
				"[Unit]\nBefore=local-fs.target\n[Mount]\nWhat=%s\nWhere=%s\nType=%s\n%s", link, where, c.MountType(), options)}
			into["local-fs.target.requires/"+name] = units.Entry{To: "../" + name}
			m.typed = append(m.typed, byType{p.Name, name, where})
		}
	}
}

// anySwap reports whether a line of fstab is of swap: then none is looked for.
func (m *machine) anySwap() bool {
	for _, u := range m.lines {
		if u.Entry.IsSwap() {
			return true
		}
	}
	return false
}

// placed reports whether a line of fstab is for the place.
func (m *machine) placed(where string) bool {
	for _, u := range m.lines {
		if u.Where == where {
			return true
		}
	}
	return false
}

// note says what is used though no line says so.
func (t byType) note() string {
	if t.where == fstab.Swap {
		return t.node + " is swapped on, found by its type: no line says so"
	}
	return fmt.Sprintf("%s is mounted at %s, found by its type: no line says so", t.node, t.where)
}
