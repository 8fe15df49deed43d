// Package draft holds the types of a change that was worked out and checked on
// overlays, and not written: the draft itself, its steps, what is lost, how far
// it can be taken back, and its code.
//
// Steps are data. The strokes that carry them out, in order, are what a deed
// records; each has the bytes before and after at hand.
package draft

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"time"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/machine"
)

// Format is the version of steps and requests in stored drafts and deeds. 1 was of
// programs before the first release.
const Format = 2

// BootChange is how the next boot differs from that of the machine as it is.
type BootChange struct {
	Before, After string   // in words
	Lines         []string // of which something else becomes, in words
}

// Request is what was asked, as plain data.
type Request struct {
	Verb string          `json:"verb"`
	Args json.RawMessage `json:"args"`
}

// Draft is the change.
type Draft struct {
	Format   int
	Machine  string // "bench fernhill"
	Root     string // of the system whose text files it changes; empty for the running one
	Title    string // "format sdb1 as ext4"
	Request  Request
	Seed     [32]byte
	Clock    time.Time
	Devices  []Device         // that any step names
	Before   []inventory.Node // the disks that it writes to
	After    []inventory.Node
	Parts    []Part // of what was asked for, in order; one at least
	Losses   []Loss
	Wants    []Need            // decisions that only whoever asked can make, beside what is lost
	Errors   []string          // keys of the errors that there were before
	Excused  []string          // things whose new findings are a decision already, or were so before
	Findings []finding.Finding // that the after-state has and the before-state has not
	Boot     *BootChange       // how the next boot changes; nil where the draft has no part in it
	Undo     Grade
	LastStep int  // that can be taken back is the one before this, from 1; 0: all can
	Forward  bool // no images of before are kept: it can only be completed
	InPlace  bool // text files may be written over where they lie
	Steps    []Step
	Code     string // 8 hexadecimal digits
	Digest   [32]byte
	Lines    []LineChange // of text files
}

// Device is a device that a step or an action names. It is found again by its identity,
// never by its name: between planning and recovery names may change.
type Device struct {
	Name     string             `json:"name"` // when it was planned: what steps and actions say
	Path     string             `json:"path"`
	Image    bool               `json:"image,omitempty"`   // an image file that is no disk of the machine, or in one
	Written  bool               `json:"written,omitempty"` // its bytes change: it is a whole disk then
	Identity inventory.Identity `json:"identity"`
	// Below are the disks that a volume or an array is built on, as far as is known:
	// its bytes are theirs.
	Below []inventory.Identity `json:"below,omitempty"`
}

// On reports whether the device is built on the other one.
func (d Device) On(o Device) bool { return slices.ContainsFunc(d.Below, o.Identity.SameDisk) }

// Part is what one request of a draft contributed. Requests that another one plans
// behind itself have parts of their own.
type Part struct {
	Title    string
	Facts    []fs.Fact  // figures with their arithmetic
	Details  []fs.Fact  // those that are the same each time, for whoever wants all
	Values   []fs.Value // of settings, with their origins
	Notes    []string   // roundings and the like
	Warnings []string
	Steps    [2]int // first, and the one behind the last
}

// LineChange shows what becomes of a text file's lines.
type LineChange struct {
	Path    string
	Removed []string
	Added   []string
}

// Loss is one thing that is destroyed.
type Loss struct {
	Node   string   // "sdb1"
	What   string   // "ext4 herbarium, 20.0 GiB"
	Name   string   // what must be typed
	Accept []string // other words that will do
}

// Grade says, as a code, how far a deed can be taken back; its words are the view's.
type Grade string

// The grades, from the best to the worst.
const (
	Nothing      Grade = "none"          // there is nothing to take back
	UntilChanged Grade = "until-changed" // exactly, until the text file is changed
	Exactly      Grade = "exact"         // until somebody writes there
	UntilMounted Grade = "until-mounted" // exactly, until the kernel writes to it
	ContentOnly  Grade = "content-only"  // free space is not restored
	NotAfter     Grade = "not-after"     // a step: see Draft.LastStep
	Never        Grade = "never"         // no images are kept
)

// Worse gives the worse of two grades.
func (g Grade) Worse(o Grade) Grade {
	order := []Grade{Nothing, UntilChanged, Exactly, UntilMounted, ContentOnly, NotAfter, Never}
	if slices.Index(order, o) > slices.Index(order, g) {
		return o
	}
	return g
}

// StepKind says what a step does.
type StepKind string

// The kinds of steps. Those that are reserved have their names in the format of deeds;
// no release carries them out yet, and this one refuses them.
const (
	Write StepKind = "write"  // phases of bytes onto a device
	File  StepKind = "file"   // a text file or a directory
	Act   StepKind = "action" // of the running system
	Fill  StepKind = "fill"   // reserved: copies into space that is free
	Place StepKind = "place"  // reserved: computed blocks into space that is free
	Shift StepKind = "shift"  // reserved: moves a range
	Make  StepKind = "make"   // a large file of which the deed keeps the beginning alone
	Own   StepKind = "own"    // whose the files of a mount are
	Link  StepKind = "link"   // a symbolic link
)

// Step is one step as data: of its kind, the one field is set that the kind names.
type Step struct {
	Kind  StepKind `json:"kind"`
	Title string   `json:"title"`
	// NoWayBack is set where nothing takes the step back: then neither is what stands
	// before it taken back, once it has begun.
	NoWayBack bool            `json:"no_way_back,omitempty"`
	Write     *Writing        `json:"write,omitempty"`
	File      *FileChange     `json:"file,omitempty"`
	Action    *machine.Action `json:"action,omitempty"`
	Make      *Making         `json:"make,omitempty"`
	Own       *Owning         `json:"own,omitempty"`
	Link      *Linking        `json:"link,omitempty"`
}

// Whole reports whether the step has what its kind says, and nothing else.
func (s Step) Whole() bool {
	set := map[StepKind]bool{Write: s.Write != nil, File: s.File != nil, Act: s.Action != nil, Make: s.Make != nil, Own: s.Own != nil, Link: s.Link != nil}
	for kind, is := range set {
		if is != (kind == s.Kind) {
			return false
		}
	}
	_, known := set[s.Kind]
	return known
}

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

// Linking makes a symbolic link, or takes it away again while it leads there still.
type Linking struct {
	Path   string `json:"path"`
	To     string `json:"to"`
	Remove bool   `json:"remove,omitempty"`
}

// Role is what a stroke of writing is for.
type Role string

// The roles.
const (
	SetFence  Role = "fence"
	WritePart Role = "write"
	LiftFence Role = "lift"
)

// Stroke is the smallest thing that is carried out between two syncs; a step is one of
// them or several. Before and After read the device's bytes as they are then.
type Stroke struct {
	Step    int
	Role    Role           // of writing
	Device  string         // of writing
	Extents []block.Extent // of writing
	Before  io.ReaderAt
	After   io.ReaderAt
}

// Plan is a draft with what is needed to carry it out.
type Plan struct {
	Draft   Draft
	Seen    *inventory.Inventory        // the machine when it was planned
	Stored  quantity.Bytes              // that are not zero: what a deed keeps, before it is compressed
	Strokes func(fence []byte) []Stroke // the block to fence with
	Undoes  string                      // the deed that it takes back
	Release func()
}

// Close drops overlays and their spill files.
func (p *Plan) Close() {
	if p != nil && p.Release != nil {
		p.Release()
	}
}

// Drop gives the overlays' memory back while the draft is kept: the commit
// plans again.
func (p *Plan) Drop() {
	p.Close()
	p.Strokes, p.Release = nil, nil
}

// Written lists the disks whose bytes change.
func (d *Draft) Written() []Device { return Written(d.Devices) }

// Written keeps those of the devices whose bytes change.
func Written(list []Device) (out []Device) {
	for _, d := range list {
		if d.Written {
			out = append(out, d)
		}
	}
	return out
}

// Facts are those of all parts, in order.
func (d *Draft) Facts() (out []fs.Fact) {
	for _, p := range d.Parts {
		out = append(append(out, p.Facts...), p.Details...)
	}
	return out
}

// Notes are those of all parts, in order.
func (d *Draft) Notes() (out []string) {
	for _, p := range d.Parts {
		out = append(out, p.Notes...)
	}
	return out
}

// Warnings are those of all parts, in order.
func (d *Draft) Warnings() (out []string) {
	for _, p := range d.Parts {
		out = append(out, p.Warnings...)
	}
	return out
}

// Empty reports whether there is nothing to do.
func (d *Draft) Empty() bool { return len(d.Steps) == 0 }

// ErrChanged says that the plan, made again, is another one.
var ErrChanged = errors.New("the machine changed since this draft was made")

// fenceStandIn takes the place of the fence's bytes in the code, since the
// deed that the fence names does not exist yet.
func fenceStandIn() []byte { return bytes.Repeat([]byte("fence..."), 64) }
