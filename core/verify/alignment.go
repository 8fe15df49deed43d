package verify

import (
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/quantity"
)

// alignment holds each partition's start against the physical sector and the
// alignment step.
//
// Four grades, of which the first that applies is said: off the physical sector at the
// start (every write is read, changed and written back), off it at the end (the last one
// alone), off the best I/O size of an array, and off the step that costs nothing and fits
// them all. Starts count from where the disk says that its first physical sector begins,
// which on some old disks with an odd jumper is not sector 0.
func alignment(v *inventory.Inventory) []finding.Finding {
	var out []finding.Finding
	for _, n := range v.Nodes {
		if n.Form != inventory.Partition || n.Size == 0 {
			continue
		}
		geo := n.Geometry
		start := n.Start - quantity.Bytes(geo.Offset)
		step := quantity.Bytes(extent.Step(extent.Base, uint64(geo.Physical), uint64(geo.OptIO)))
		switch {
		case geo.Physical > 0 && start%quantity.Bytes(geo.Physical) != 0:
			out = append(out, AlignPhysical.New(n.Name, "starts at byte %d, %d bytes after a physical sector of %d",
				n.Start, start%quantity.Bytes(geo.Physical), geo.Physical).
				WithRemedy("it costs only speed; a recreated partition begins on %v", step))
		case geo.Physical > 0 && (start+n.Size)%quantity.Bytes(geo.Physical) != 0:
			f := AlignPhysical.New(n.Name, "ends at byte %d, %d bytes after a physical sector of %d",
				n.Start+n.Size-1, (start+n.Size)%quantity.Bytes(geo.Physical), geo.Physical)
			f.Severity = finding.Note
			out = append(out, f.WithRemedy("nothing needs to be done at once: only a write to the last sector is slow"))
		case geo.OptIO > geo.Physical && int64(step)%geo.OptIO == 0 && int64(start)%geo.OptIO != 0:
			out = append(out, AlignOptimal.New(n.Name,
				"starts at byte %d, %d bytes after a multiple of the best I/O of %d", n.Start, int64(start)%geo.OptIO,
				geo.OptIO).
				WithRemedy("it costs only speed; a recreated partition begins on %v", step))
		case start%step != 0:
			out = append(out, AlignStep.New(n.Name, "starts at byte %d, which is no multiple of the alignment step of %v", n.Start, step).
				WithRemedy("nothing needs to be done at once"))
		}
	}
	return out
}
