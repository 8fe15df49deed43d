package inventory

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"fundus/core/text/fstab"
	"fundus/core/units"
)

// texts are the text files as they are read, kept for whoever asks again: a look asks dozens of
// times. All copies of an inventory share them, also those of a stage in which a file is another
// one: what is kept goes by the very bytes that it was read from. Nobody changes what it gets.
type texts struct {
	sync.Mutex
	tables kept[*fstab.File]
	lines  kept[linesOf]
	loaded kept[[]units.Loaded]
	nodes  kept[*index]
	uses   kept[*useIndex]
}

// linesOf are the units of a table, by where its mount points led.
type linesOf struct {
	leads map[string]string
	units []fstab.Unit
}

// kept are the last few of a kind, by what they were read from.
type kept[T any] []keptOne[T]

type keptOne[T any] struct {
	first unsafe.Pointer // of the bytes, the places or the nodes
	n     int
	is    T
}

// mostKept is enough for a machine before and after a draft, and a question beside both.
const mostKept = 6

// of gives what was read from the same list, or reads it. The list is not changed once it was
// asked about.
func of[E, T any](k *kept[T], list []E, read func() T) T {
	first := unsafe.Pointer(unsafe.SliceData(list))
	for _, o := range *k {
		if o.first == first && o.n == len(list) {
			return o.is
		}
	}
	is := read()
	*k = append((*k)[max(0, len(*k)-mostKept+1):], keptOne[T]{first, len(list), is})
	return is
}

// Keep has text files and units be read once for each state of theirs, from now on: the inventory
// is whole but for what is looked up by them.
func (v *Inventory) Keep() { v.texts = &texts{} }

// Fstab reads the machine's table of file systems; empty where it is missing. Whoever changes it
// takes a copy (fstab.File.Clone).
func (v *Inventory) Fstab() *fstab.File {
	data := v.Files[fstab.Path].Data
	read := func() *fstab.File { return fstab.Parse(data) }
	if v.texts == nil {
		return read()
	}
	v.texts.Lock()
	defer v.texts.Unlock()
	return of(&v.texts.tables, data, read)
}

// Knows has the table be the one that was read from the file as it is now, where its bytes are the
// same.
func (v *Inventory) Knows(table *fstab.File) {
	data := v.Files[fstab.Path].Data
	if v.texts == nil || !bytes.Equal(data, table.Bytes()) {
		return
	}
	v.texts.Lock()
	defer v.texts.Unlock()
	of(&v.texts.tables, data, func() *fstab.File { return table.Clone() })
}

// Units is what systemd makes of the lines of that table, in their order.
func (v *Inventory) Units() []fstab.Unit {
	table := v.Fstab()
	if v.texts == nil {
		return fstab.Read(table, v.Real)
	}
	v.texts.Lock()
	defer v.texts.Unlock()
	at := slices.IndexFunc(v.texts.lines, func(o keptOne[linesOf]) bool {
		return o.first == unsafe.Pointer(table) && maps.Equal(o.is.leads, v.Leads)
	})
	if at >= 0 {
		return slices.Clone(v.texts.lines[at].is.units)
	}
	l := linesOf{maps.Clone(v.Leads), fstab.Read(table, v.Real)}
	v.texts.lines = append(v.texts.lines[max(0, len(v.texts.lines)-mostKept+1):], keptOne[linesOf]{unsafe.Pointer(table), 0, l})
	return slices.Clone(l.units)
}

// Loaded is what lies in systemd's directories about mounts, automounts, swap and devices, as
// systemd puts it together.
func (v *Inventory) Loaded() []units.Loaded {
	read := func() []units.Loaded { return units.Load(v.UnitFiles) }
	if v.texts == nil {
		return read()
	}
	v.texts.Lock()
	defer v.texts.Unlock()
	return slices.Clone(of(&v.texts.loaded, v.UnitFiles, read))
}

// Kept is what systemd makes of the units that people keep, each as the line that would do the
// same, as far as one can. Those that come with the system are left out.
func (v *Inventory) Kept() (out []fstab.Unit) {
	all := v.Loaded()
	for _, l := range all {
		if l.Masked || l.Where() == "" && !l.IsSwap() || !l.Kept() || strings.HasSuffix(l.Name, ".automount") {
			continue
		}
		e, err := units.ToLine(l, units.Before(all, l.Name), v.UnitFiles)
		if err != nil { // what it mounts is known all the same
			e = fstab.Entry{Spec: fstab.Spec(l.What()), Dir: l.Where(), Type: cmp.Or(l.Get("Mount", "Type"), "auto"), Options: l.Options()}
		}
		table := &fstab.File{}
		if _, err := table.Add(e, 0); err == nil {
			out = append(out, fstab.Read(table, v.Real)...)
		}
	}
	return out
}

// Real is where a mount point leads that is a symbolic link.
func (v *Inventory) Real(dir string) (to string, ok bool) {
	to, ok = v.Leads[dir]
	return to, ok
}

// Named gives, for each node that a line of fstab names, the mount point of the
// first such line.
func (v *Inventory) Named() map[string]string {
	out, r := map[string]string{}, v.Resolver()
	for _, l := range v.Fstab().Entries() {
		for _, n := range r.Resolve(l.Entry.Spec) {
			if out[n.Name] == "" {
				out[n.Name] = l.Entry.Dir
			}
		}
	}
	return out
}
