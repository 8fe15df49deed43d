package gpt

import "fundus/core/finding"

// What is found in a GPT, and in the record of an MBR that protects one.
var (
	TablePrimary = finding.Entry{
		ID:       "table-primary-damaged",
		Severity: finding.Error,
		Why:      "Linux looks at the backup only where the primary copy is good: it sees no partition, while a boot loader may still start a kernel that finds no root",
	}
	TableLost = finding.Entry{
		ID:       "table-lost",
		Severity: finding.Error,
		Why:      "no copy says where the partitions are; what is on them is still there, and can be searched for",
	}
	TableBackup = finding.Entry{
		ID:       "table-backup-damaged",
		Severity: finding.Warning,
		Why:      "if the primary copy is damaged as well, the partitions are gone",
	}
	TableDiffer = finding.Entry{
		ID:       "table-copies-differ",
		Severity: finding.Error,
		Why:      "which partitions exist depends on who reads the table",
	}
	TableBackupAt = finding.Entry{
		ID:       "table-backup-misplaced",
		Severity: finding.Warning,
		Why:      "the space after the backup copy cannot be used, and some firmware does not find the copy",
	}
	TableProtective = finding.Entry{
		ID:       "table-protective-record",
		Severity: finding.Error,
		Why:      "Linux believes a GPT only after a protective record in sector 0",
	}
	TableRecord = finding.Entry{
		ID:       "table-protective-inexact",
		Severity: finding.Note,
		Why:      "Linux does not look there; older programs and some firmware take the disk for another size, or the record for damaged",
	}
	TableHybrid = finding.Entry{
		ID:       "table-hybrid-record",
		Severity: finding.Warning,
		Why:      "two tables say which partitions there are, and only the GPT is kept up to date",
	}
	TableShrunk = finding.Entry{
		ID:       "table-reaches-past-disk",
		Severity: finding.Error,
		Why:      "what is after the end of the disk is gone, and the kernel drops partitions that reach there",
	}
	TableHidden = finding.Entry{
		ID:       "table-invisible-to-linux",
		Severity: finding.Error,
		Why:      "what Linux has no device for cannot be mounted",
	}
	TableDead = finding.Entry{
		ID:       "table-gpt-behind-mbr",
		Severity: finding.Note,
		Why:      "Linux uses the MBR; a program that reads the GPT all the same sees other partitions",
	}
	TableArray = finding.Entry{
		ID:       "table-array-overlapped",
		Severity: finding.Warning,
		Why:      "what is put into the first usable sectors would overwrite the table itself",
	}
)

// Catalogue lists them.
func Catalogue() []finding.Entry {
	return []finding.Entry{
		TablePrimary, TableLost, TableBackup, TableDiffer, TableBackupAt, TableProtective, TableRecord, TableHybrid,
		TableShrunk, TableHidden, TableDead, TableArray,
	}
}
