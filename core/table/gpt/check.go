package gpt

import (
	"fmt"
	"strings"

	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/way"
)

// Check returns everything that is wrong with the table on the named disk.
//
// Who goes by which copy differs. Linux wants the protective record and a good primary
// copy, and looks at the backup only where that one names it: without the primary copy it
// sees no partition (block/partitions/efi.c, find_valid_gpt; unless its command line says
// gpt). Boot loaders and firmware may go by the backup. So each fault is said by what it
// does to whom.
func Check(disk string, s *State) []finding.Finding {
	var out []finding.Finding
	repair := way.TableRepair(disk)
	if s.Primary == nil && s.Backup != nil {
		out = append(out, TablePrimary.New(disk,
			"primary copy: %v; the backup copy is good, and Linux does not look at it", s.PrimaryErr).WithMend(repair))
	}
	// A disk that became smaller has lost its backup copy with its end; everything else
	// said of that copy would only repeat it.
	if s.Cut != nil && s.Backup == nil {
		return append(out, s.cut(disk))
	}
	if s.Primary == nil && s.Backup == nil {
		out = append(out, TableLost.New(disk, "neither copy is good: primary: %v; backup: %v", s.PrimaryErr, s.BackupErr).
			WithMend(way.TableRepair(disk, "--search")))
		return out
	}
	if s.Backup == nil {
		out = append(out, TableBackup.New(disk, "backup copy: %v; the primary copy is good", s.BackupErr).WithMend(repair))
	}
	switch s.Protective {
	case Pure, HybridMBR:
	default:
		out = append(out, TableProtective.New(disk, "%s: Linux sees no partition", s.Unseen()).WithMend(repair))
	}
	if why := s.inexact(); why != "" {
		out = append(out, TableRecord.New(disk, "the protective record in sector 0: %s", why).WithMend(repair))
	}
	if s.Protective == HybridMBR {
		out = append(out, TableHybrid.New(disk, "sector 0 has partitions besides the protective record, which Linux does not look at").
			WithRemedy("where another system starts from them they are needed; else nothing needs to be done"))
	}
	if s.Primary != nil && s.Backup != nil {
		if !same(s.Primary, s.Backup) {
			out = append(out, TableDiffer.New(disk, "the two copies of the table differ; Linux follows the primary one").WithMend(repair))
		}
		// A virtual disk that grew: the copy is where the disk ended before. Linux still
		// finds it, by the primary header; a firmware with a damaged primary one does not.
		if last := s.Sectors - 1; s.Backup.MyLBA != last {
			out = append(out, TableBackupAt.New(disk,
				"the backup copy is at sector %d, the disk ends at sector %d: it has become larger by %v", s.Backup.MyLBA,
				last, quantity.Bytes(last-s.Backup.MyLBA)*quantity.Bytes(s.sector)).WithMend(repair))
		}
	}
	if good := s.Good(); good.EntrySize != entryEnd {
		out = append(out, TableHidden.New(disk,
			"its entries have %d bytes: Linux takes those of %d alone, and sees no partition", good.EntrySize, entryEnd).
			WithRemedy("copy away what is on the partitions with a system that sees them"))
	} else if hidden := good.Hidden(); len(hidden) > 0 {
		out = append(out, TableHidden.New(disk, "Linux has no devices for partitions above %d: %s", table.HighestNumber, numbers(hidden)).
			WithRemedy("give them lower numbers: fundus partition edit --number"))
	}
	good := s.Good()
	// The first partition that is put there would overwrite the entries; some makers of
	// images write such a header.
	if end := good.arrayEnd(s.sector); good.FirstUsable < end {
		out = append(out, TableArray.New(disk,
			"the header says that sector %d is usable, and the entry array takes sectors %d to %d", good.FirstUsable,
			end-good.arraySectors(s.sector), end-1).WithMend(repair))
	}
	return append(out, s.checkSpans(disk, good)...)
}

// inexact says what a protective record that stands alone says wrongly. Where the disk has
// grown, that the copy is not at its end says it already.
func (s *State) inexact() string {
	if s.Protective != Pure || s.Backup == nil || s.Backup.MyLBA != s.Sectors-1 {
		return ""
	}
	return inexact(s.MBR, s.Sectors-1)
}

// cut is the finding of a disk that has become smaller than its table.
func (s *State) cut(disk string) finding.Finding {
	need := s.Cut.Alternate + 1
	f := TableShrunk.New(disk, "the table is for %d sectors, the disk has %d: Linux sees no partition", need, s.Sectors)
	lost := s.Cut.Past(s.Sectors - s.Cut.arraySectors(s.sector) - 2)
	if len(lost) == 0 {
		return f.WithMend(way.TableRepair(disk))
	}
	f.Text += fmt.Sprintf("; partitions that reach past its end: %s", numbers(lost))
	return f.WithRemedy("give the disk its former size again, %d sectors; what is after its end now is not on it", need)
}

// CheckDead says that a GPT lies behind an MBR without partitions: Linux does not look
// at it, and nobody can tell from the bytes which of the two was meant.
func CheckDead(disk string, s *State) []finding.Finding {
	good := s.Good()
	if s.Protective != EmptyMBR || good == nil {
		return nil
	}
	used := 0
	for _, e := range good.Entries {
		if e.Used() {
			used++
		}
	}
	return []finding.Finding{TableDead.New(disk,
		"after the MBR, which has no partition, is a GPT that has %d; Linux does not look at it", used).
		WithRemedy("if the disk got an MBR on purpose, nothing: the GPT is older; if the GPT is right, fundus table repair %s uses it",
			disk)}
}

func numbers(list []int) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = fmt.Sprint(n)
	}
	return strings.Join(words, ", ")
}

func (s *State) checkSpans(disk string, t *Table) []finding.Finding {
	var out []finding.Finding
	usable := t.Usable()
	spans := make([]extent.Span, len(t.Entries)) // an unused one is empty
	for i, e := range t.Entries {
		if !e.Used() {
			continue
		}
		spans[i] = e.Span()
		array := t.arraySectors(s.sector)
		f := table.Beyond.New(disk, "partition %d: sectors %d-%d, usable are %v", i+1, e.First, e.Last, usable)
		switch inner := (extent.Span{Start: 2 + array, Count: s.Sectors - min(s.Sectors, 2*array+3)}); {
		case e.Span().Count == 0:
			f.Text = fmt.Sprintf("partition %d ends with sector %d, before it begins with sector %d: the entry names no sectors",
				i+1, e.Last, e.First)
			out = append(out, f.WithRemedy("nothing can be in it; it stays until the entry is removed"))
		case usable.Contains(e.Span()):
		case inner.Contains(e.Span()): // only the header leaves it out
			out = append(out, f.WithMend(way.TableRepair(disk)))
		default:
			out = append(out, f.WithRemedy("copy away what can be read; fundus deed list shows whether a deed has the old table"))
		}
	}
	for _, pair := range extent.Overlaps(spans) {
		out = append(out, table.Overlap.New(disk, "partitions %d (%v) and %d (%v) overlap", pair[0]+1, spans[pair[0]],
			pair[1]+1, spans[pair[1]]).
			WithRemedy("copy what is needed elsewhere and remove one of them"))
	}
	return out
}
