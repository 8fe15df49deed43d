package draft

import (
	"encoding/json"
	"fmt"
	"io"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/internal/machine"
)

// StepKind is the word of a kind of step in the records.
type StepKind string

// The kinds of steps that every stage appends. What a kind does, and all that a deed has to know
// of it, stands with its carrier in package deed; a kind that is not here is there alone.
const (
	Write StepKind = "write"  // phases of bytes onto a device
	File  StepKind = "file"   // a text file or a directory
	Act   StepKind = "action" // of the running system
	Make  StepKind = "make"   // a large file of which the deed keeps the beginning alone
	Own   StepKind = "own"    // whose the files of a mount are
	Link  StepKind = "link"   // a symbolic link
)

// StepKinds lists them all.
func StepKinds() []StepKind { return []StepKind{Write, File, Act, Make, Own, Link} }

// Step is one step as data.
type Step struct {
	Title string
	// NoWayBack is set where nothing takes the step back: then neither is what stands
	// before it taken back, once it has begun.
	NoWayBack bool
	Body      Body
}

// Body is what a step does, as plain data that is kept as JSON: a type for each kind.
type Body interface{ Kind() StepKind }

// Kind is that of the body.
func (s Step) Kind() StepKind { return s.Body.Kind() }

// Unread is a body as it stands in a record; whoever knows its kind reads it.
type Unread struct {
	Of   StepKind
	Data json.RawMessage
}

// Kind implements Body.
func (u *Unread) Kind() StepKind { return u.Of }

// MarshalJSON gives the bytes that were read.
func (u *Unread) MarshalJSON() ([]byte, error) { return u.Data, nil }

// stepRecord is a step in a record.
type stepRecord struct {
	Kind      StepKind        `json:"kind"`
	Title     string          `json:"title"`
	NoWayBack bool            `json:"no_way_back,omitempty"`
	Body      json.RawMessage `json:"body"`
}

// MarshalJSON names the kind beside the body.
func (s Step) MarshalJSON() ([]byte, error) {
	body, err := json.Marshal(s.Body)
	if err != nil {
		return nil, fmt.Errorf("step %q: %w", s.Title, err)
	}
	return json.Marshal(stepRecord{s.Kind(), s.Title, s.NoWayBack, body})
}

// UnmarshalJSON leaves the body Unread.
func (s *Step) UnmarshalJSON(data []byte) error {
	var r stepRecord
	if err := json.Unmarshal(data, &r); err != nil {
		return err
	}
	*s = Step{r.Title, r.NoWayBack, &Unread{r.Kind, r.Body}}
	return nil
}

// Acting is an action of the running system.
type Acting struct{ machine.Action }

// Kind implements Body.
func (*Acting) Kind() StepKind { return Act }

// Writing is what a step of kind write does: phases of bytes onto a span of a device,
// with a sync between.
type Writing struct {
	Target machine.Target `json:"target"` // by the device's name when it was planned
	Phases int            `json:"phases"`
	Bytes  quantity.Bytes `json:"bytes"`
	Fence  *Fence         `json:"fence,omitempty"`
	// Before is how many phases come before the fence: they write behind the end of what is
	// there, which is whole meanwhile.
	Before int `json:"before_fence,omitempty"`
}

// Kind implements Body.
func (*Writing) Kind() StepKind { return Write }

// Fence lists the sectors that hold a fence while the step is under way. Old is
// the one whose signature the kernel would believe before, New the one that it
// will believe after; Rest are all others with a signature. Spans are bytes on
// the disk, whole sectors.
type Fence struct {
	Old  extent.Span   `json:"old"`
	New  extent.Span   `json:"new"`
	Rest []extent.Span `json:"rest,omitempty"`
}

// FileChange replaces a text file or makes a directory.
type FileChange struct {
	Path   string            `json:"path"`
	To     string            `json:"to,omitempty"`       // where its symbolic links lead, if it is one
	Over   bool              `json:"in_place,omitempty"` // written over where it lies, since nothing can be renamed over it
	Before machine.FileState `json:"before"`
	After  machine.FileState `json:"after"`
}

// Kind implements Body.
func (*FileChange) Kind() StepKind { return File }

// Making makes a file that reads as zeros behind its beginning, or takes it away again. It is
// known by its size and its beginning.
type Making struct {
	Path   string         `json:"path"`
	Size   quantity.Bytes `json:"size_bytes"`
	Header []byte         `json:"header"`
	Remove bool           `json:"remove,omitempty"`
	// Written is one whose zeros are written; without it its blocks are set aside. Plain is
	// one that the file system never copies on write.
	Written bool `json:"written,omitempty"`
	Plain   bool `json:"plain,omitempty"`
}

// Kind implements Body.
func (*Making) Kind() StepKind { return Make }

// Owning gives the root of what is mounted, or everything below it, to somebody, and the root
// a mode. What is nil stays. Whose it was, file by file, is known when it is carried out, and
// kept then.
type Owning struct {
	Node  string  `json:"node"`  // that is mounted
	Where string  `json:"where"` // its mount point
	UID   *uint32 `json:"uid,omitempty"`
	GID   *uint32 `json:"gid,omitempty"`
	Mode  *uint32 `json:"mode,omitempty"`
	Below bool    `json:"below,omitempty"`
	// Undoes is the deed whose step this one takes back, by what that one kept.
	Undoes string `json:"undoes,omitempty"`
	Step   int    `json:"undoes_step,omitempty"`
}

// Kind implements Body.
func (*Owning) Kind() StepKind { return Own }

// Linking makes a symbolic link, or takes it away again while it leads there still.
type Linking struct {
	Path   string `json:"path"`
	To     string `json:"to"`
	Remove bool   `json:"remove,omitempty"`
}

// Kind implements Body.
func (*Linking) Kind() StepKind { return Link }

// Role is what a stroke of writing is for.
type Role string

// The roles.
const (
	SetFence  Role = "fence"
	WritePart Role = "write"
	LiftFence Role = "lift"
)

// Stroke is the smallest thing that is carried out between two syncs; a step is one of
// them or several. At most one of Bytes and Other is set: where neither is, the step says all.
type Stroke struct {
	Step  int
	Bytes *Bytes
	Other Other
}

// Bytes are those that a stroke puts onto a device. Before and After read the device as it is
// then.
type Bytes struct {
	Role    Role
	Device  string
	Extents []block.Extent
	Before  io.ReaderAt
	After   io.ReaderAt
}

// Other is what a kind of step has strokes of, where that is not bytes which a deed keeps: ranges
// that are copied, or moved.
type Other interface {
	// Sum is a digest of all that the stroke comes to, with the bytes that it reads, and how many
	// bytes a deed keeps of it.
	Sum() (digest []byte, stored quantity.Bytes, err error)
}
