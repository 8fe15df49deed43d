package gpt

import (
	"fundus/core/finding"
)

// Check returns everything that is wrong with the table on the named disk.
func Check(disk string, s *State) []finding.Finding {
	var out []finding.Finding
	repair := "fundus table repair " + disk
	if s.Primary == nil && s.Backup != nil {
		out = append(out, finding.New(finding.TablePrimary, disk, "primary copy: %v; the backup copy is good", s.PrimaryErr).WithMend("%s", repair))
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
	if s.Primary != nil && s.Backup != nil {
		if !same(s.Primary, s.Backup) {
			out = append(out, finding.New(finding.TableDiffer, disk, "the two copies of the table differ; Linux follows the primary one").WithMend("%s", repair))
		}
		if last := s.Sectors - 1; s.Backup.MyLBA != last {
			out = append(out, finding.New(finding.TableBackupAt, disk, "the backup copy lies at sector %d, the disk ends at sector %d", s.Backup.MyLBA, last).WithMend("%s", repair))
		}
	}
	return append(out, checkSpans(disk, s.Good())...)
}

func checkSpans(disk string, t *Table) []finding.Finding {
	var out []finding.Finding
	usable := t.Usable()
	for i, e := range t.Entries {
		if !e.Used() {
			continue
		}
		if e.Span().Count == 0 || !usable.Contains(e.Span()) {
			out = append(out, finding.New(finding.TableBeyond, disk, "partition %d: sectors %d-%d, usable are %v", i+1, e.First, e.Last, usable).
				WithRemedy("remove the entry or restore the table from a deed"))
		}
		for k := range i {
			if o := t.Entries[k]; o.Used() && o.Span().Overlaps(e.Span()) {
				out = append(out, finding.New(finding.TableOverlap, disk, "partitions %d (%v) and %d (%v) overlap", k+1, o.Span(), i+1, e.Span()).
					WithRemedy("copy what is needed elsewhere and remove one of them"))
			}
		}
	}
	return out
}
