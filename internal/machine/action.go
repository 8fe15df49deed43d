package machine

import (
	"fmt"

	"fundus/core/extent"
	"fundus/core/quantity"
)

// Verb is what an action does.
type Verb string

// The verbs.
const (
	AddPartition    Verb = "add-partition"    // tell the kernel of a partition
	RemovePartition Verb = "remove-partition" // make the kernel forget one
	ReadTable       Verb = "read-table"       // have the kernel read the whole table again
	Mount           Verb = "mount"
	Bind            Verb = "bind" // show a directory at another place too
	Unmount         Verb = "unmount"
	Remount         Verb = "remount" // give a mount other options
	SwapOn          Verb = "swap-on"
	SwapOff         Verb = "swap-off"
	ResizePartition Verb = "resize-partition" // tell the kernel of a partition's new end
	ReadSize        Verb = "read-size"        // have the kernel ask the disk for its size again
	ReloadUnits     Verb = "reload-units"     // have systemd read fstab and its units again
	StartUnit       Verb = "start-unit"       // have systemd mount what its unit of a mount point says
	Start           Verb = "start-named"      // have systemd start a unit
	Stop            Verb = "stop-named"       // have systemd stop one
	Discard         Verb = "discard"          // tell the device which bytes nobody needs
	Relabel         Verb = "relabel"          // have the kernel change the label of a mounted file system
	Identify        Verb = "identify"         // have the kernel change its identifier
	Grow            Verb = "grow"             // have the kernel make a mounted file system larger
)

// Action is one change of the running system, as plain data: what is to be done, with which device,
// and the words of one group or two, by the verb.
type Action struct {
	Verb        Verb   `json:"verb"`
	Device      string `json:"device,omitempty"` // name; "" for what is about a path or a unit alone
	PartArgs    `json:"partition,omitzero"`
	UseArgs     `json:"use,omitzero"`
	ContentArgs `json:"content,omitzero"`
	Spans       []extent.Span `json:"spans,omitempty"` // bytes of the device
}

// PartArgs are a partition as the kernel is told of it.
type PartArgs struct {
	Number int            `json:"number,omitempty"`
	Start  quantity.Bytes `json:"start_bytes,omitempty"`
	Size   quantity.Bytes `json:"size_bytes,omitempty"`
	Was    quantity.Bytes `json:"was_bytes,omitempty"` // its size before
}

// UseArgs are how the system uses a device, a file or a directory.
type UseArgs struct {
	Where         string `json:"where,omitempty"`          // mount point; of a file of swap, its path
	From          string `json:"from,omitempty"`           // directory that is bound; what a line of fstab names
	Unit          string `json:"unit,omitempty"`           // that systemd starts or stops
	Kind          string `json:"kind,omitempty"`           // file system
	Options       string `json:"options,omitempty"`        // with commas
	FormerOptions string `json:"former_options,omitempty"` // before
	Detach        bool   `json:"detach,omitempty"`         // take the mount away from the tree alone
	Make          bool   `json:"make,omitempty"`           // make the mount point where it is missing
}

// ContentArgs are what the content of a device is to be, and was.
type ContentArgs struct {
	Label        string         `json:"label,omitempty"`
	FormerLabel  string         `json:"former_label,omitempty"`
	ID           string         `json:"id,omitempty"` // as Linux writes it
	FormerID     string         `json:"former_id,omitempty"`
	Length       quantity.Bytes `json:"size_bytes,omitempty"` // of the file system
	FormerLength quantity.Bytes `json:"former_size_bytes,omitempty"`
}

// With is the action on the device as it is called now, by the names of before.
func (a Action) With(names map[string]string) Action {
	if now, ok := names[a.Device]; ok {
		a.Device = now
	}
	return a
}

// Devices are the names of the devices that the action is about.
func (a Action) Devices() []string {
	if a.Device == "" {
		return nil
	}
	return []string{a.Device}
}

// LaterError is an action that the running system does not carry out now, but
// brings about by itself at the next boot: what is on disk stays as it is.
type LaterError struct {
	Action Action
	Why    string
	Then   string // what is to be done then; "" where the boot brings it about
}

func (e *LaterError) Error() string {
	if e.Then != "" {
		return fmt.Sprintf("%v: %s; %s", e.Action, e.Why, e.Then)
	}
	return fmt.Sprintf("%v: %s; the next boot brings it about", e.Action, e.Why)
}

// ShortError is an action that was carried out, and brought about something else than was
// foretold.
type ShortError struct {
	Action Action
	Text   string
}

func (e *ShortError) Error() string { return fmt.Sprintf("%v: %s", e.Action, e.Text) }
