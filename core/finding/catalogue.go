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
	TypeMisfit      ID = "partition-type-misfit"

	ContentFenced   ID = "content-fenced"
	ContentTwofold  ID = "content-twofold"
	ContentTooLarge ID = "content-larger-than-device"
	ContentSmaller  ID = "content-smaller-than-device"
	ContentErrors   ID = "content-errors-recorded"
	MountFull       ID = "mount-nearly-full"
	MountDiffers    ID = "mount-differs-from-fstab"
	IdentifierNone  ID = "identifier-missing"
	ReferenceNone   ID = "reference-names-nothing"
	ReferenceName   ID = "reference-unstable-name"
	DeviceUnread    ID = "device-unreadable"
	DeviceSilent    ID = "device-silent"

	DuplicateUUID     ID = "duplicate-uuid"
	DuplicateLabel    ID = "duplicate-label"
	DuplicatePartUUID ID = "duplicate-partuuid"
	DuplicateDisk     ID = "duplicate-disk-identifier"

	FstabSyntax     ID = "fstab-syntax"
	FstabUnknown    ID = "fstab-names-nothing"
	FstabAmbiguous  ID = "fstab-names-two"
	FstabKind       ID = "fstab-wrong-kind"
	FstabNoMount    ID = "fstab-mount-point-missing"
	FstabTwice      ID = "fstab-mount-point-twice"
	FstabUnstable   ID = "fstab-unstable-name"
	FstabUnmodelled ID = "fstab-not-modelled"
)

type entry struct {
	severity Severity
	why      string
}

// lookup gives the catalogue's entry; an unknown identifier is an error that a
// test of the catalogue finds.
func lookup(id ID) entry {
	switch id {
	case AlignStep:
		return entry{Note, "partitions that start on the alignment step fit every later disk and RAID chunk"}
	case AlignOptimal:
		return entry{Warning, "a request that crosses the border of a stripe is done by two disks of the array"}
	case TableTooSmall:
		return entry{Warning, "an MBR counts sectors with 32 bits: what lies behind them can never be used"}
	case TypeMisfit:
		return entry{Note, "firmware and systemd go by the type where nothing names the partition"}
	case ContentSmaller:
		return entry{Note, "the space behind the file system is used by nobody"}
	case ContentErrors:
		return entry{Error, "the kernel found the file system inconsistent; it gets worse with every write"}
	case MountFull:
		return entry{Warning, "services stop in odd ways when they can write no more"}
	case MountDiffers:
		return entry{Warning, "after the next boot it will not be as it is now"}
	case IdentifierNone:
		return entry{Warning, "what has no identifier can only be named by where it happens to be plugged in"}
	case ReferenceNone:
		return entry{Warning, "whoever reads the line waits for a device that does not come"}
	case ReferenceName:
		return entry{Warning, "the kernel numbers disks in the order in which it finds them, which changes"}
	case AlignPhysical:
		return entry{Warning, "each write that is off the physical sector makes the disk read, change and write it again"}
	case TablePrimary:
		return entry{Error, "only the backup copy keeps the partitions visible"}
	case TableBackup:
		return entry{Warning, "if the primary copy is damaged as well, the partitions are gone"}
	case TableDiffer:
		return entry{Error, "which partitions exist depends on who reads the table"}
	case TableBackupAt:
		return entry{Warning, "the space behind the backup copy cannot be used, and some firmware does not find the copy"}
	case TableProtective:
		return entry{Error, "Linux believes a GPT only behind a protective record in sector 0"}
	case TableOverlap:
		return entry{Error, "writing to one partition destroys the other"}
	case TableBeyond:
		return entry{Error, "the kernel cuts the partition or leaves it out"}
	case ContentFenced:
		return entry{Error, "a change was cut short here; nothing mounts it until it is completed or taken back"}
	case ContentTwofold:
		return entry{Error, "where two signatures contradict each other the device has no identifier, and is not found at boot"}
	case ContentTooLarge:
		return entry{Error, "the kernel refuses to mount a file system that reaches past its device"}
	case DeviceSilent:
		return entry{Error, "whoever uses a disk that does not answer waits for it, and the boot may wait too"}
	case DeviceUnread:
		return entry{Warning, "what cannot be read cannot be checked"}
	case DuplicateUUID, DuplicateLabel, DuplicatePartUUID, DuplicateDisk:
		return entry{Error, "whoever looks for this identifier may get either device"}
	case FstabSyntax:
		return entry{Error, "systemd leaves the line out"}
	case FstabUnknown:
		return entry{Error, "the boot waits for the device, and then stops unless the line has nofail"}
	case FstabAmbiguous:
		return entry{Error, "which of the two is mounted is a matter of chance"}
	case FstabKind:
		return entry{Error, "the kernel refuses to mount it as that kind"}
	case FstabNoMount:
		return entry{Note, "systemd makes the directory at boot; a plain mount fails"}
	case FstabTwice:
		return entry{Warning, "the later mount hides the earlier one"}
	case FstabUnstable:
		return entry{Warning, "kernel names change between boots, so another disk may be mounted there"}
	case FstabUnmodelled:
		return entry{Note, "this is not modelled, so whether it works is unknown"}
	}
	return entry{Error, ""}
}
