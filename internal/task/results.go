package task

import (
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/units"
	"fundus/internal/draft"
)

// subject is something that a request is about.
type subject struct {
	role draft.ResultRole
	key  string
}

// Results are what a request asked for, by what it is and a key: a device by its name, a mount by its
// place, a line by its device and its place with a blank between, a unit by its name. They are read off
// the machine as it will be when all is planned, so that the draft says what the commit makes, and a
// request that has nothing to do says what is there.
func (p *Planner) Results(role draft.ResultRole, keys ...string) {
	for _, key := range keys {
		p.subjects = append(p.subjects, subject{role, key})
	}
}

// Stands is for requests that take away or go back: nobody asked for a thing by name, and what is
// on the devices afterwards is what there is to say.
func (p *Planner) Stands(devices ...string) { p.Results(whatever, devices...) }

// whatever is no role: of a device all that is on it.
const whatever draft.ResultRole = ""

// Result is one that nobody can read off an inventory.
func (p *Planner) Result(r draft.Result) { p.Draft.Results = append(p.Draft.Results, r) }

// results reads them off the machine as it will be.
func (p *Planner) results(after *inventory.Inventory) {
	told := map[subject]bool{}
	var out []draft.Result
	for _, s := range p.subjects {
		if !told[s] {
			told[s] = true
			out = append(out, resultsOf(after, s)...)
		}
	}
	p.Draft.Results = append(out, p.Draft.Results...)
	for i := range p.Draft.Results {
		r := &p.Draft.Results[i]
		if n, ok := after.Node(r.Device); ok {
			r.Word = target.NameOf(after, n).Word
		}
	}
}

func resultsOf(v *inventory.Inventory, s subject) (out []draft.Result) {
	n, known := v.Node(s.key)
	switch s.role {
	case whatever:
		for _, role := range []draft.ResultRole{draft.RoleTable, draft.RolePartition, draft.RoleFileSystem} {
			out = append(out, resultsOf(v, subject{role, s.key})...)
		}
		for _, u := range v.Uses {
			if u.Node == s.key && u.How == inventory.Mounted && u.Elsewhere == "" {
				out = append(out, resultsOf(v, subject{draft.RoleMount, u.Where})...)
			}
		}
		return out
	case draft.RoleTable:
		if known && n.Table != nil {
			return []draft.Result{{Role: s.role, Device: n.Name, Scheme: string(n.Table.Scheme), TableID: n.Table.ID}}
		}
	case draft.RolePartition:
		if known && n.Entry.Number > 0 {
			return []draft.Result{{
				Role:     s.role,
				Device:   n.Name,
				PartUUID: n.Entry.UUID,
				First:    n.Entry.Span.Start,
				Sectors:  n.Entry.Span.Count,
			}}
		}
	case draft.RoleFileSystem:
		if c, ok := n.Content(); ok && (c.Class == fs.FileSystem || c.Class == fs.Swap) {
			r := draft.Result{Role: s.role, Device: n.Name, Kind: c.Kind, UUID: c.UUID, Label: c.Label, Size: c.Size}
			if c.Class == fs.Swap {
				r.Role, r.On = draft.RoleSwap, v.SwapsOn(n.Name)
			}
			return []draft.Result{r}
		}
	case draft.RoleSwap:
		return swapResult(v, s.key)
	case draft.RoleMount:
		if u, ok := v.MountedAt(s.key); ok {
			return []draft.Result{{Role: s.role, Device: u.Node, Place: u.Where, Kind: u.Kind, Options: fstab.Split(u.Options)}}
		}
	case draft.RoleLine:
		return lineResults(v, s.key)
	case draft.RoleUnit:
		for _, l := range v.Loaded() {
			if l.Name == s.key && l.Path != "" {
				return []draft.Result{{Role: s.role, Path: l.Path, Place: placeOf(l)}}
			}
		}
	}
	return nil
}

func placeOf(l units.Loaded) string {
	if l.IsSwap() {
		return ""
	}
	return l.Where()
}

// swapResult is an area of swap by its device, or by the path of its file.
func swapResult(v *inventory.Inventory, key string) []draft.Result {
	if n, ok := v.Node(key); ok {
		c, _ := n.Content()
		return []draft.Result{{
			Role:   draft.RoleSwap,
			Device: n.Name,
			Kind:   c.Kind,
			UUID:   c.UUID,
			Label:  c.Label,
			Size:   c.Size,
			On:     v.SwapsOn(n.Name),
		}}
	}
	return []draft.Result{{Role: draft.RoleSwap, Path: key, Kind: "swap", On: v.AreaAt(key)}}
}

// lineResults are the lines of fstab that say that device and that place.
func lineResults(v *inventory.Inventory, key string) (out []draft.Result) {
	by := v.Resolver()
	for _, l := range v.Fstab().Entries() {
		if string(l.Entry.Spec)+" "+l.Entry.Dir != key {
			continue
		}
		r := draft.Result{
			Role:    draft.RoleLine,
			Path:    fstab.Path,
			Line:    l.Number,
			Place:   l.Entry.Dir,
			Kind:    l.Entry.Type,
			Options: l.Entry.Options,
		}
		if l.Entry.IsSwap() || !strings.HasPrefix(r.Place, "/") {
			r.Place = ""
		}
		if found := by.Resolve(l.Entry.Spec); len(found) == 1 {
			r.Device = found[0].Name
		}
		out = append(out, r)
	}
	return out
}
