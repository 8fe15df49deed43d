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
	"slices"
	"time"

	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/target"
)

// Format is the version of steps and requests in stored drafts and deeds. 1 was of programs before
// the first release; 2 had a field for each kind of step, and actions with all of their words side
// by side.
const Format = 3

// BootChange is how the next boot differs from that of the machine as it is.
type BootChange struct {
	Was, Is       string // the verdicts
	Before, After string // in words, with how long it takes
	Lines         []boot.LineChange
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
	Frees    bool // what lies on the devices is let go of first, and planned again then
	InPlace  bool // text files may be written over where they lie
	Steps    []Step
	Code     string // 8 hexadecimal digits
	Digest   [32]byte
	Stored   quantity.Bytes              // that are not zero: what a deed keeps, before it is compressed
	Remarks  []string                    // what was done before it: that a disk was asked for its size
	Results  []Result                    // what is there afterwards of what was asked for
	Layers   []Layer                     // of a change of size
	Lines    []LineChange                // of text files
	Called   map[string]inventory.Called // the devices before and after, by their names
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
	Steps    [2]int   // first, and the one behind the last
	Under    int      // the part, counted from 1, that is made of this one and others; 0 where it stands by itself
	Idle     bool     // it is so already: the request has nothing to do
	Made     []string // devices that it makes, by their names
}

// LineChange shows what becomes of a text file's lines.
type LineChange struct {
	Path    string
	Removed []string
	Added   []string
}

// Loss is one thing that is destroyed.
type Loss = target.Loss

// Grade says, as a code, how far a deed can be taken back; its words are the view's.
type Grade string

// The grades, from the best to the worst.
const (
	Nothing      Grade = "none"          // there is nothing to take back
	UntilChanged Grade = "until-changed" // exactly, until the text file is changed
	Exactly      Grade = "exact"         // until somebody writes there
	ByName       Grade = "by-name"       // whole, also in use: what is on it by then is named
	UntilMounted Grade = "until-mounted" // exactly, until the kernel writes to it
	ContentOnly  Grade = "content-only"  // free space is not restored
	NotAfter     Grade = "not-after"     // a step: see Draft.LastStep
	Never        Grade = "never"         // no images are kept
)

// Grades lists them all, from the best to the worst.
func Grades() []Grade {
	return []Grade{Nothing, UntilChanged, Exactly, ByName, UntilMounted, ContentOnly, NotAfter, Never}
}

// Worse gives the worse of two grades.
func (g Grade) Worse(o Grade) Grade {
	order := Grades()
	if slices.Index(order, o) > slices.Index(order, g) {
		return o
	}
	return g
}

// Plan is a draft with what is needed to carry it out.
type Plan struct {
	Draft   Draft
	Seen    *inventory.Inventory        // the machine when it was planned
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
