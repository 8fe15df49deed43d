package verify

import "fundus/core/finding"

// What is found by the checks of a machine.
var (
	AlignStep = finding.Entry{
		ID:       "alignment-step",
		Severity: finding.Note,
		Why:      "partitions that start on the alignment step fit every later disk and RAID chunk",
	}
	AlignPhysical = finding.Entry{
		ID:       "alignment-physical",
		Severity: finding.Warning,
		Why:      "each write that is off the physical sector makes the disk read, change and write it again",
	}
	AlignOptimal = finding.Entry{
		ID:       "alignment-optimal",
		Severity: finding.Warning,
		Why:      "a request that crosses the border of a stripe is done by two disks of the array",
	}
	TableTooSmall = finding.Entry{
		ID:       "table-mbr-on-large-disk",
		Severity: finding.Warning,
		Why:      "an MBR counts sectors with 32 bits: what is after that can never be used",
	}
	KernelDiffers = finding.Entry{
		ID:       "kernel-partitions-differ",
		Severity: finding.Warning,
		Why:      "a partition used by its name is what the kernel has, not what the table says",
	}
	TypeMisfit = finding.Entry{
		ID:       "partition-type-misfit",
		Severity: finding.Note,
		Why:      "firmware and systemd use the type if nothing names the partition",
	}
	ContentFenced = finding.Entry{
		ID:       "content-fenced",
		Severity: finding.Error,
		Why:      "a change was cut short here; nothing mounts it until it is completed or taken back",
	}
	ContentTwofold = finding.Entry{
		ID:       "content-twofold",
		Severity: finding.Error,
		Why:      "where two signatures contradict each other the device has no identifier, and is not found at boot",
	}
	ContentTooLarge = finding.Entry{
		ID:       "content-larger-than-device",
		Severity: finding.Error,
		Why:      "the kernel refuses to mount a file system that reaches past its device",
	}
	ContentSmaller = finding.Entry{
		ID:       "content-smaller-than-device",
		Severity: finding.Note,
		Why:      "the space after the file system is unused",
	}
	ContentDamaged = finding.Entry{
		ID:       "content-damaged",
		Severity: finding.Error,
		Why:      "the kernel refuses what is there, and lines that name it wait at boot",
	}
	ContentUnknown = finding.Entry{
		ID:       "content-unknown",
		Severity: finding.Warning,
		Why:      "something is there that Fundus does not recognise: it may be data, or the rest of what was",
	}
	ContentErrors = finding.Entry{
		ID:       "content-errors-recorded",
		Severity: finding.Error,
		Why:      "the kernel found the file system inconsistent; it gets worse with every write",
	}
	ContentDue = finding.Entry{
		ID:       "content-check-due",
		Severity: finding.Note,
		Why:      "its own count says that it was not looked through for long",
	}
	ContentStripe = finding.Entry{
		ID:       "content-stripe-misfit",
		Severity: finding.Note,
		Why:      "writes that do not fill a stripe make the array read before it writes",
	}
	MountFull = finding.Entry{
		ID:       "mount-nearly-full",
		Severity: finding.Warning,
		Why:      "services stop in odd ways when they can write no more",
	}
	MountDiffers = finding.Entry{
		ID:       "mount-differs-from-fstab",
		Severity: finding.Warning,
		Why:      "after the next boot it will not be as it is now",
	}
	IdentifierNone = finding.Entry{
		ID:       "identifier-missing",
		Severity: finding.Warning,
		Why:      "what has no identifier can only be named by where it happens to be plugged in",
	}
	ReferenceNone = finding.Entry{
		ID:       "reference-names-nothing",
		Severity: finding.Warning,
		Why:      "programs that read the line wait for a device that never comes",
	}
	FileUnread      = finding.Entry{ID: "file-unreadable", Severity: finding.Note, Why: "what names a device there was not looked at"}
	ReferenceOffset = finding.Entry{
		ID:       "resume-offset",
		Severity: finding.Warning,
		Why:      "a machine that hibernated is resumed from the wrong place, or not at all",
	}
	ReferenceName = finding.Entry{
		ID:       "reference-unstable-name",
		Severity: finding.Warning,
		Why:      "the kernel numbers disks in the order in which it finds them, which changes",
	}
	DeviceUnread = finding.Entry{ID: "device-unreadable", Severity: finding.Warning, Why: "what cannot be read cannot be checked"}
	DeviceSilent = finding.Entry{
		ID:       "device-silent",
		Severity: finding.Error,
		Why:      "programs that use a disk that does not respond wait for it, and the boot may wait too",
	}
	DuplicateUUID = finding.Entry{
		ID:       "duplicate-uuid",
		Severity: finding.Error,
		Why:      "a search for this identifier may find either device",
	}
	DuplicateLabel = finding.Entry{
		ID:       "duplicate-label",
		Severity: finding.Error,
		Why:      "a search for this identifier may find either device",
	}
	DuplicatePartUUID = finding.Entry{
		ID:       "duplicate-partuuid",
		Severity: finding.Error,
		Why:      "a search for this identifier may find either device",
	}
	DuplicateDisk = finding.Entry{
		ID:       "duplicate-disk-identifier",
		Severity: finding.Error,
		Why:      "a search for this identifier may find either device",
	}
	FstabUnknown = finding.Entry{
		ID:       "fstab-names-nothing",
		Severity: finding.Error,
		Why:      "the boot waits for the device, and then stops unless the line has nofail",
	}
	FstabAmbiguous = finding.Entry{ID: "fstab-names-two", Severity: finding.Error, Why: "which of the two is mounted is a matter of chance"}
	FstabKind      = finding.Entry{ID: "fstab-wrong-kind", Severity: finding.Error, Why: "the kernel refuses to mount it as that kind"}
	FstabNoMount   = finding.Entry{
		ID:       "fstab-mount-point-missing",
		Severity: finding.Note,
		Why:      "systemd makes the directory at boot; a plain mount fails",
	}
	FstabTwice = finding.Entry{
		ID:       "fstab-mount-point-twice",
		Severity: finding.Warning,
		Why:      "the boot takes the first line and drops the second; mounting all lines by hand puts one over the other",
	}
	FstabUnstable = finding.Entry{
		ID:       "fstab-unstable-name",
		Severity: finding.Warning,
		Why:      "kernel names change between boots, so another disk may be mounted there",
	}
	FstabPulledOut = finding.Entry{
		ID:       "fstab-needs-removable",
		Severity: finding.Warning,
		Why:      "without the device the boot stops in the emergency shell",
	}
	FstabDies = finding.Entry{
		ID:       "fstab-reader-dies",
		Severity: finding.Error,
		Why:      "this line and every one below it are never mounted, without a message",
	}
	FstabRefused = finding.Entry{
		ID:       "fstab-unit-refused",
		Severity: finding.Error,
		Why:      "systemd cannot make a unit of the line: nothing is mounted there",
	}
	FstabIgnored = finding.Entry{ID: "fstab-line-ignored", Severity: finding.Error, Why: "systemd passes over the line without a word"}
	FstabLost    = finding.Entry{
		ID:       "fstab-line-cut",
		Severity: finding.Error,
		Why:      "what the reader does not see has no meaning, such as nofail at the end",
	}
	FstabFields = finding.Entry{
		ID:       "fstab-fields-more",
		Severity: finding.Warning,
		Why:      "a blank ends a field: what follows is no option",
	}
	FstabNumber = finding.Entry{
		ID:       "fstab-number-not-number",
		Severity: finding.Warning,
		Why:      "what does not begin with digits counts as 0: no check at boot",
	}
	FstabReturn = finding.Entry{
		ID:       "fstab-carriage-return",
		Severity: finding.Warning,
		Why:      "a carriage return is part of the word before it, not of the line's end",
	}
	FstabEscape = finding.Entry{
		ID:       "fstab-escape-unread",
		Severity: finding.Warning,
		Why:      "only \\040, \\011, \\012, \\134 and \\\\ are read; any other stays as it is written",
	}
	FstabTagCase = finding.Entry{
		ID:       "fstab-tag-case",
		Severity: finding.Error,
		Why:      "identifiers are read in capitals only: no device is waited for, and the mount fails",
	}
	FstabOption = finding.Entry{
		ID:       "fstab-option-unknown",
		Severity: finding.Error,
		Why:      "the kernel refuses the whole mount for one option that it does not know",
	}
	FstabValue = finding.Entry{
		ID:       "fstab-option-bad-value",
		Severity: finding.Error,
		Why:      "the kernel refuses the whole mount for one value that it does not take",
	}
	FstabByCopy = finding.Entry{
		ID:       "fstab-by-copy",
		Severity: finding.Warning,
		Why:      "the kernel takes the descriptors next to the copy, which date from the creation of the file system: writes based on them overwrite files",
	}
	FstabNeeds = finding.Entry{
		ID:       "fstab-option-needs",
		Severity: finding.Error,
		Why:      "the kernel refuses the mount of this file system with the option",
	}
	FstabOverruled = finding.Entry{
		ID:       "fstab-option-overridden",
		Severity: finding.Warning,
		Why:      "the last of two opposites counts, whichever was meant",
	}
	FstabNoEffect = finding.Entry{
		ID:       "fstab-option-no-effect",
		Severity: finding.Note,
		Why:      "the line looks as if it did something",
	}
	FstabRedundant = finding.Entry{
		ID:       "fstab-option-redundant",
		Severity: finding.Note,
		Why:      "the file system has it so without the option",
	}
	FstabForetold = finding.Entry{
		ID:       "fstab-not-mounted",
		Severity: finding.Error,
		Why:      "the next boot goes on without what the line asks for, or does not come up",
	}
	FstabUntold = finding.Entry{ID: "fstab-untold", Severity: finding.Note, Why: "what cannot be seen from here may come up or not"}
	FstabTime   = finding.Entry{ID: "fstab-timeout-unparsable", Severity: finding.Warning, Why: "systemd uses its default instead"}
	FstabParent = finding.Entry{
		ID:       "fstab-parent-nofail",
		Severity: finding.Error,
		Why:      "a required line below one with nofail makes that one required too: without it the boot ends in the emergency shell",
	}
	UnitBeside = finding.Entry{
		ID:       "unit-beside-line",
		Severity: finding.Warning,
		Why:      "the unit overrides the line, so editing the line has no effect",
	}
	UnitMasked = finding.Entry{
		ID:       "unit-masked",
		Severity: finding.Warning,
		Why:      "a masked unit is never started",
	}
	UnitName = finding.Entry{
		ID:       "unit-name-misfit",
		Severity: finding.Error,
		Why:      "systemd refuses a unit whose name is not that of its path",
	}
	UnitNoDevice = finding.Entry{
		ID:       "unit-no-device-edge",
		Severity: finding.Warning,
		Why:      "a unit waits for a device that is a path, and for nothing else",
	}
	FstabLink = finding.Entry{
		ID:       "fstab-mount-point-is-link",
		Severity: finding.Note,
		Why:      "the mount is known by the place that the link leads to",
	}
)

// Catalogue lists them.
func Catalogue() []finding.Entry {
	return []finding.Entry{
		AlignStep, AlignPhysical, AlignOptimal, TableTooSmall, KernelDiffers, TypeMisfit,
		ContentFenced, ContentTwofold, ContentTooLarge, ContentSmaller, ContentDamaged, ContentUnknown, ContentErrors, ContentDue,
		ContentStripe, MountFull, MountDiffers, IdentifierNone, ReferenceNone, FileUnread,
		ReferenceName, ReferenceOffset, DeviceUnread, DeviceSilent, DuplicateUUID, DuplicateLabel, DuplicatePartUUID,
		DuplicateDisk, FstabUnknown, FstabAmbiguous, FstabKind, FstabNoMount,
		FstabTwice, FstabUnstable, FstabPulledOut, FstabDies, FstabRefused, FstabIgnored, FstabLost, FstabFields,
		FstabNumber, FstabReturn, FstabEscape, FstabTagCase, FstabOption, FstabValue, FstabByCopy, FstabNeeds,
		FstabOverruled, FstabNoEffect, FstabRedundant, FstabForetold, FstabUntold, FstabTime, FstabParent, FstabLink,
		UnitBeside, UnitMasked, UnitName, UnitNoDevice,
	}
}
