package mbr

import (
	"fmt"

	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/table"
	"fundus/core/way"
)

// Check returns everything that is wrong with the table on the named disk.
//
// An MBR has no checksum and no copy: what can be said is whether its records fit the disk
// and each other, and whether its chain leads anywhere. A chain that does not is followed
// as far as Linux does.
func Check(disk string, t *Table) (out []finding.Finding) {
	m := t.Model()
	if t.broken != nil {
		out = append(out, TableChain.New(disk, "%v; %d logical partitions were found before", t.broken, len(t.logicals())).
			WithRemedy("copy away what is on the partitions that are seen, and look for the others: fundus table repair %s --search", disk))
	}
	var outer []table.Partition
	for _, p := range m.Parts {
		if p.Role == table.Extended {
			outer = append(outer, p)
		}
	}
	if len(outer) > 1 {
		out = append(out, TableChain.New(disk, "partitions %d and %d are both extended", outer[0].Number, outer[1].Number).
			WithRemedy("Linux follows both chains, other systems only one; copy away what is in the second and remove it"))
	}
	for _, p := range m.Parts {
		if !p.Span.Within(t.sectors) {
			out = append(out, table.Beyond.New(disk, "partition %d: sectors %v, the disk has %d", p.Number, p.Span, t.sectors).
				WithRemedy("%s shows whether a deed has the old table", way.DeedList().Line()))
		}
		if p.Role == table.Logical && !m.Inside(p.Span) {
			out = append(out, TableLogical.New(disk, "logical partition %d: sectors %v, outside of its extended partition", p.Number, p.Span).
				WithRemedy("copy away what is on it and remove it"))
		}
	}
	return append(out, overlaps(disk, m)...)
}

// overlaps holds primary and extended partitions against each other, and logical ones
// against each other and the chain.
func overlaps(disk string, m *table.Table) (out []finding.Finding) {
	var spans [2][]extent.Span
	var names [2][]string
	for _, p := range m.Parts {
		in := 0
		if p.Role == table.Logical {
			in = 1
		}
		spans[in], names[in] = append(spans[in], p.Span), append(names[in], fmt.Sprintf("partition %d (%v)", p.Number, p.Span))
	}
	for _, c := range m.Chain {
		spans[1], names[1] = append(spans[1], c), append(names[1], fmt.Sprintf("the chain's sector %d", c.Start))
	}
	for in := range spans {
		for _, pair := range extent.Overlaps(spans[in]) {
			out = append(out, table.Overlap.New(disk, "%s and %s overlap", names[in][pair[0]], names[in][pair[1]]).
				WithRemedy("copy what is needed elsewhere and remove one of them"))
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
