package gpt

import (
	"fmt"
	"strings"

	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/quantity"
)

// Check returns everything that is wrong with the table on the named disk.
func Check(disk string, s *State) []finding.Finding {
	var out []finding.Finding
	repair := "fundus table repair " + disk
	if s.Primary == nil && s.Backup != nil {
		out = append(out, finding.New(finding.TablePrimary, disk, "primary copy: %v; the backup copy is good", s.PrimaryErr).WithMend("%s", repair))
	}
	if s.Cut != nil && s.Backup == nil {
		return append(out, s.cut(disk))
	}
	if s.Primary == nil && s.Backup == nil {
		out = append(out, finding.New(finding.TablePrimary, disk, "no good copy: primary: %v; backup: %v", s.PrimaryErr, s.BackupErr).
			WithRemedy("restore the table from a deed (fundus deed list), or make a new one: fundus table new %s", disk))
		return out
	}
	if s.Backup == nil {
		out = append(out, finding.New(finding.TableBackup, disk, "backup copy: %v; the primary copy is good", s.BackupErr).WithMend("%s", repair))
	}
	if s.Protective != Pure && s.Protective != HybridMBR {
		out = append(out, finding.New(finding.TableProtective, disk, "sector 0 holds no protective record").WithMend("%s", repair))
	}
	if s.Protective == HybridMBR {
		out = append(out, finding.New(finding.TableHybrid, disk, "sector 0 has partitions beside the protective record, which Linux does not look at").
			WithRemedy("where another system starts from them they are needed; else the disk is better without: fundus table new writes a pure record"))
	}
	if s.Primary != nil && s.Backup != nil {
		if !same(s.Primary, s.Backup) {
			out = append(out, finding.New(finding.TableDiffer, disk, "the two copies of the table differ; Linux follows the primary one").WithMend("%s", repair))
		}
		if last := s.Sectors - 1; s.Backup.MyLBA != last {
			out = append(out, finding.New(finding.TableBackupAt, disk, "the backup copy lies at sector %d, the disk ends at sector %d: it has become larger by %v", s.Backup.MyLBA, last, quantity.Bytes(last-s.Backup.MyLBA)*quantity.Bytes(s.sector)).WithMend("%s", repair))
		}
	}
	if good := s.Good(); good.EntrySize != entryEnd {
		out = append(out, finding.New(finding.TableHidden, disk, "its entries have %d bytes: Linux takes those of %d alone, and sees no partition", good.EntrySize, entryEnd).
			WithRemedy("copy away what is on the partitions with a system that sees them, and make a new table: fundus table new %s", disk))
	} else if hidden := good.Hidden(); len(hidden) > 0 {
		out = append(out, finding.New(finding.TableHidden, disk, "Linux has no devices for partitions above %d: %s", HighestNumber, numbers(hidden)).
			WithRemedy("give them lower numbers: fundus partition edit --number"))
	}
	return append(out, checkSpans(disk, s.Good())...)
}

// cut is the finding of a disk that has become smaller than its table.
func (s *State) cut(disk string) finding.Finding {
	need := s.Cut.Alternate + 1
	f := finding.New(finding.TableShrunk, disk, "the table is for %d sectors, the disk has %d: Linux sees no partition", need, s.Sectors)
	lost := s.Cut.Past(s.Sectors - s.Cut.arraySectors(s.sector) - 2)
	if len(lost) == 0 {
		return f.WithMend("fundus table repair %s", disk)
	}
	f.Text += fmt.Sprintf("; partitions that reach past its end: %s", numbers(lost))
	return f.WithRemedy("give the disk its former size again, %d sectors; what is behind its end now is not on it", need)
}

func numbers(list []int) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = fmt.Sprint(n)
	}
	return strings.Join(words, ", ")
}

func checkSpans(disk string, t *Table) []finding.Finding {
	var out []finding.Finding
	usable := t.Usable()
	spans := make([]extent.Span, len(t.Entries)) // an unused one is empty
	for i, e := range t.Entries {
		if !e.Used() {
			continue
		}
		spans[i] = e.Span()
		if e.Span().Count == 0 || !usable.Contains(e.Span()) {
			out = append(out, finding.New(finding.TableBeyond, disk, "partition %d: sectors %d-%d, usable are %v", i+1, e.First, e.Last, usable).
				WithRemedy("remove the entry or restore the table from a deed"))
		}
	}
	for _, pair := range extent.Overlaps(spans) {
		out = append(out, finding.New(finding.TableOverlap, disk, "partitions %d (%v) and %d (%v) overlap", pair[0]+1, spans[pair[0]], pair[1]+1, spans[pair[1]]).
			WithRemedy("copy what is needed elsewhere and remove one of them"))
	}
	return out
}
