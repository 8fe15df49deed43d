package finding

// The catalogue's identifiers, by family.
const (
	AlignStep     ID = "alignment-step"
	AlignPhysical ID = "alignment-physical"
	AlignOptimal  ID = "alignment-optimal"

	TablePrimary    ID = "table-primary-damaged"
	TableBackup     ID = "table-backup-damaged"
	TableDiffer     ID = "table-copies-differ"
	TableBackupAt   ID = "table-backup-misplaced"
	TableProtective ID = "table-protective-record"
	TableOverlap    ID = "table-overlap"
	TableBeyond     ID = "table-beyond-usable"
	TableTooSmall   ID = "table-mbr-on-large-disk"
	TableHybrid     ID = "table-hybrid-record"
	TableChain      ID = "table-chain-broken"
	TableLogical    ID = "table-logical-outside"
	TableShrunk     ID = "table-reaches-past-disk"
	TableHidden     ID = "table-invisible-to-linux"
	TableDead       ID = "table-gpt-behind-mbr"
	TableArray      ID = "table-array-overlapped"
	KernelDiffers   ID = "kernel-partitions-differ"
	TypeMisfit      ID = "partition-type-misfit"

	ContentFenced   ID = "content-fenced"
	ContentTwofold  ID = "content-twofold"
	ContentTooLarge ID = "content-larger-than-device"
	ContentSmaller  ID = "content-smaller-than-device"
	ContentErrors   ID = "content-errors-recorded"
	ContentDue      ID = "content-check-due"
	ContentStripe   ID = "content-stripe-misfit"
	MountFull       ID = "mount-nearly-full"
	MountDiffers    ID = "mount-differs-from-fstab"
	IdentifierNone  ID = "identifier-missing"
	ReferenceNone   ID = "reference-names-nothing"
	FileUnread      ID = "file-unreadable"
	ReferenceName   ID = "reference-unstable-name"
	DeviceUnread    ID = "device-unreadable"
	DeviceSilent    ID = "device-silent"

	DuplicateUUID     ID = "duplicate-uuid"
	DuplicateLabel    ID = "duplicate-label"
	DuplicatePartUUID ID = "duplicate-partuuid"
	DuplicateDisk     ID = "duplicate-disk-identifier"

	FstabSyntax    ID = "fstab-syntax"
	FstabUnknown   ID = "fstab-names-nothing"
	FstabAmbiguous ID = "fstab-names-two"
	FstabKind      ID = "fstab-wrong-kind"
	FstabNoMount   ID = "fstab-mount-point-missing"
	FstabTwice     ID = "fstab-mount-point-twice"
	FstabUnstable  ID = "fstab-unstable-name"
)

// Entry is one kind of finding: its usual severity, and why it matters.
type Entry struct {
	ID       ID
	Severity Severity
	Why      string
}

// Catalogue lists every kind of finding, family by family.
func Catalogue() []Entry {
	return []Entry{
		{AlignStep, Note, "partitions that start on the alignment step fit every later disk and RAID chunk"},
		{AlignPhysical, Warning, "each write that is off the physical sector makes the disk read, change and write it again"},
		{AlignOptimal, Warning, "a request that crosses the border of a stripe is done by two disks of the array"},
		{TablePrimary, Error, "only the backup copy keeps the partitions visible"},
		{TableBackup, Warning, "if the primary copy is damaged as well, the partitions are gone"},
		{TableDiffer, Error, "which partitions exist depends on who reads the table"},
		{TableBackupAt, Warning, "the space behind the backup copy cannot be used, and some firmware does not find the copy"},
		{TableProtective, Error, "Linux believes a GPT only behind a protective record in sector 0"},
		{TableOverlap, Error, "writing to one partition destroys the other"},
		{TableBeyond, Error, "the kernel cuts the partition or leaves it out"},
		{TableTooSmall, Warning, "an MBR counts sectors with 32 bits: what lies behind them can never be used"},
		{TableHybrid, Warning, "two tables say which partitions there are, and only the GPT is kept up to date"},
		{TableChain, Error, "partitions behind the break are seen by nobody"},
		{TableLogical, Error, "systems differ in whether they show such a partition, and an edit of the chain can lose it"},
		{TableShrunk, Error, "what lies behind the end of the disk is gone, and the kernel drops partitions that reach there"},
		{TableHidden, Error, "what Linux has no device for cannot be mounted"},
		{TableDead, Note, "Linux goes by the MBR; a program that reads the GPT all the same sees other partitions"},
		{TableArray, Warning, "what is put into the first usable sectors would overwrite the table itself"},
		{KernelDiffers, Warning, "whoever uses a partition by its name gets what the kernel has, not what the table says"},
		{TypeMisfit, Note, "firmware and systemd go by the type where nothing names the partition"},
		{ContentFenced, Error, "a change was cut short here; nothing mounts it until it is completed or taken back"},
		{ContentTwofold, Error, "where two signatures contradict each other the device has no identifier, and is not found at boot"},
		{ContentTooLarge, Error, "the kernel refuses to mount a file system that reaches past its device"},
		{ContentSmaller, Note, "the space behind the file system is used by nobody"},
		{ContentErrors, Error, "the kernel found the file system inconsistent; it gets worse with every write"},
		{ContentDue, Note, "its own count says that it was not looked through for long"},
		{ContentStripe, Note, "writes that do not fill a stripe make the array read before it writes"},
		{MountFull, Warning, "services stop in odd ways when they can write no more"},
		{MountDiffers, Warning, "after the next boot it will not be as it is now"},
		{IdentifierNone, Warning, "what has no identifier can only be named by where it happens to be plugged in"},
		{ReferenceNone, Warning, "whoever reads the line waits for a device that does not come"},
		{FileUnread, Note, "what names a device there was not looked at"},
		{ReferenceName, Warning, "the kernel numbers disks in the order in which it finds them, which changes"},
		{DeviceUnread, Warning, "what cannot be read cannot be checked"},
		{DeviceSilent, Error, "whoever uses a disk that does not answer waits for it, and the boot may wait too"},
		{DuplicateUUID, Error, "whoever looks for this identifier may get either device"},
		{DuplicateLabel, Error, "whoever looks for this identifier may get either device"},
		{DuplicatePartUUID, Error, "whoever looks for this identifier may get either device"},
		{DuplicateDisk, Error, "whoever looks for this identifier may get either device"},
		{FstabSyntax, Error, "systemd leaves the line out"},
		{FstabUnknown, Error, "the boot waits for the device, and then stops unless the line has nofail"},
		{FstabAmbiguous, Error, "which of the two is mounted is a matter of chance"},
		{FstabKind, Error, "the kernel refuses to mount it as that kind"},
		{FstabNoMount, Note, "systemd makes the directory at boot; a plain mount fails"},
		{FstabTwice, Warning, "the later mount hides the earlier one"},
		{FstabUnstable, Warning, "kernel names change between boots, so another disk may be mounted there"},
	}
}

// lookup gives the catalogue's entry; an unknown identifier has no reason, which
// a test of the catalogue finds.
func lookup(id ID) Entry {
	for _, e := range Catalogue() {
		if e.ID == id {
			return e
		}
	}
	return Entry{id, Error, ""}
}
