package refused

import "errors"

// ID says for a program what kind of refusal or failure it is. Words are added, never renamed.
type ID string

// The identifiers of errors.
const (
	BadWords      ID = "words"          // the command line makes no sense
	NoSuchDevice  ID = "no-such-device" // or nothing of that name that could be meant
	NoSuchThing   ID = "no-such-thing"  // a line, a unit, an identifier, a signature, a file
	Ambiguous     ID = "ambiguous"      // fits more than one
	Silent        ID = "silent"         // it did not answer
	Unreadable    ID = "unreadable"
	NoPermission  ID = "no-permission"
	ReadOnly      ID = "read-only"
	InUse         ID = "in-use"
	NotInUse      ID = "not-in-use" // what is not mounted or on, where that is needed
	SystemRoot    ID = "system-root"
	Sleeping      ID = "sleeping" // a system sleeps there
	Locked        ID = "locked"   // by another process
	Fenced        ID = "fenced"   // by a deed that was cut short
	Exists        ID = "exists"
	NoRoom        ID = "no-room"
	TooSmall      ID = "too-small"
	TooLarge      ID = "too-large"
	NoTable       ID = "no-table"
	TableDamaged  ID = "table-damaged"
	NothingThere  ID = "nothing-there" // it holds nothing of the wanted kind
	KindUnknown   ID = "kind-unknown"
	KindCannot    ID = "kind-cannot"
	SettingWrong  ID = "setting-wrong"
	OptionWrong   ID = "option-wrong" // of a mount
	NoDirectory   ID = "no-directory"
	Needed        ID = "needs"    // see needs
	NotLost       ID = "not-lost" // --lose names nothing that is lost
	Hopeless      ID = "hopeless" // nobody can want the result
	NoSuchDeed    ID = "no-such-deed"
	NoSuchDraft   ID = "no-such-draft"
	DraftStale    ID = "draft-stale"   // see draft
	WrittenSince  ID = "written-since" // somebody wrote there after the deed
	NoUndo        ID = "no-undo"
	Midway        ID = "midway" // stopped: recover
	TakenBack     ID = "taken-back"
	Interrupted   ID = "interrupted"
	KernelRefused ID = "kernel-refused"
	TextFile      ID = "text-file"
	StatePlace    ID = "state-place" // where deeds are kept
	Other         ID = "other"
)

// IDs lists them all.
func IDs() []ID {
	return []ID{BadWords, NoSuchDevice, NoSuchThing, Ambiguous, Silent, Unreadable, NoPermission, ReadOnly, InUse,
		NotInUse, SystemRoot, Sleeping, Locked, Fenced, Exists,
		NoRoom, TooSmall, TooLarge, NoTable, TableDamaged, NothingThere, KindUnknown, KindCannot, SettingWrong,
		OptionWrong, NoDirectory, Needed, NotLost, Hopeless,
		NoSuchDeed, NoSuchDraft, DraftStale, WrittenSince, NoUndo, Midway, TakenBack, Interrupted, KernelRefused,
		TextFile, StatePlace, Other}
}

// Error is a refusal of that kind; its text is the refusal's own.
type Error struct {
	ID  ID
	Err error
}

func (e *Error) Error() string { return e.Err.Error() }

// Unwrap gives the refusal itself.
func (e *Error) Unwrap() error { return e.Err }

// As says of a refusal which kind it is.
func As(id ID, err error) error { return &Error{id, err} }

// Of is the kind that a refusal was said to be; empty where nobody did.
func Of(err error) ID {
	var e *Error
	if errors.As(err, &e) {
		return e.ID
	}
	return ""
}
