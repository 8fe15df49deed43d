package mbr

import (
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/table"
)

// Check returns everything that is wrong with the table on the named disk.
func Check(disk string, t *Table) (out []finding.Finding) {
	m := t.Model()
	if t.broken != nil {
		out = append(out, finding.New(finding.TableChain, disk, "%v; %d logical partitions were found before", t.broken, len(t.logicals())).
			WithRemedy("copy away what is on the partitions that are seen, and look for the others: fundus table repair %s --search", disk))
	}
	var outer []table.Partition
	for _, p := range m.Parts {
		if p.Role == table.Extended {
			outer = append(outer, p)
		}
	}
	if len(outer) > 1 {
		out = append(out, finding.New(finding.TableChain, disk, "partitions %d and %d are both extended", outer[0].Number, outer[1].Number).
			WithRemedy("Linux follows both chains, other systems only one; copy away what is in the second and remove it"))
	}
	for i, p := range m.Parts {
		if !p.Span.Within(t.sectors) {
			out = append(out, finding.New(finding.TableBeyond, disk, "partition %d: sectors %v, the disk has %d", p.Number, p.Span, t.sectors).
				WithRemedy("remove the entry or restore the table from a deed"))
		}
		if p.Role == table.Logical && !m.Inside(p.Span) {
			out = append(out, finding.New(finding.TableLogical, disk, "logical partition %d: sectors %v, outside of its extended partition", p.Number, p.Span).
				WithRemedy("copy away what is on it and remove it"))
		}
		if p.Role == table.Logical && overlapsAny(p.Span, m.Chain) {
			out = append(out, finding.New(finding.TableOverlap, disk, "partition %d (%v) covers a sector of the chain of logical partitions", p.Number, p.Span).
				WithRemedy("copy what is needed elsewhere and remove it"))
		}
		for _, o := range m.Parts[:i] {
			if o.Span.Overlaps(p.Span) && !(o.Role == table.Extended && p.Role == table.Logical) {
				out = append(out, finding.New(finding.TableOverlap, disk, "partitions %d (%v) and %d (%v) overlap", o.Number, o.Span, p.Number, p.Span).
					WithRemedy("copy what is needed elsewhere and remove one of them"))
			}
		}
	}
	return out
}

func overlapsAny(s extent.Span, list []extent.Span) bool {
	for _, o := range list {
		if s.Overlaps(o) {
			return true
		}
	}
	return false
}
