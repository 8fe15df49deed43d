package view

import (
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
)

// Head begins every document.
type Head struct {
	Fundus int    `json:"fundus"` // version of the documents: 1
	Kind   string `json:"kind"`
}

// DeviceDoc is one disk, partition or image. All sizes are in bytes.
type DeviceDoc struct {
	Name      string       `json:"name"`
	Path      string       `json:"path"`
	Form      string       `json:"form"`
	Parent    string       `json:"parent,omitempty"`
	Number    int          `json:"number,omitempty"`
	Start     int64        `json:"start_bytes"`
	Size      int64        `json:"size_bytes"`
	Logical   int64        `json:"logical_sector_bytes"`
	Physical  int64        `json:"physical_sector_bytes"`
	Bus       string       `json:"bus,omitempty"`
	Model     string       `json:"model,omitempty"`
	Serial    string       `json:"serial,omitempty"`
	Vendor    string       `json:"vendor,omitempty"`
	WWN       string       `json:"wwn,omitempty"`
	Firmware  string       `json:"firmware,omitempty"`
	Alias     string       `json:"alias,omitempty"`
	Layer     string       `json:"layer,omitempty"`
	BuiltOn   []string     `json:"built_on,omitempty"`
	Links     []string     `json:"links,omitempty"`
	MinIO     int64        `json:"minimal_io_bytes"`
	OptIO     int64        `json:"optimal_io_bytes"`
	Offset    int64        `json:"alignment_offset_bytes"`
	Spinning  bool         `json:"rotational"`
	Discard   int64        `json:"discard_step_bytes"`
	Cache     string       `json:"write_cache,omitempty"`
	Zoned     string       `json:"zoned,omitempty"`
	HotPlug   bool         `json:"hot_plug"`
	Backing   string       `json:"backing_file,omitempty"`
	Removable bool         `json:"removable"`
	ReadOnly  bool         `json:"read_only"`
	Scheme    string       `json:"table_scheme,omitempty"`
	TableID   string       `json:"table_id,omitempty"`
	PartUUID  string       `json:"partuuid,omitempty"`
	PartName  string       `json:"partition_name,omitempty"`
	PartType  string       `json:"partition_type,omitempty"`
	Contents  []ContentDoc `json:"contents"`
	Believed  string       `json:"believed,omitempty"` // kind that counts where there are several contents
	UsedAt    []string     `json:"used_at"`
	Uses      []UseDoc     `json:"uses"`
	InKernel  bool         `json:"in_kernel"`
	Problem   string       `json:"problem,omitempty"`
	Silent    bool         `json:"silent,omitempty"` // it did not answer, or is offline
}

// UseDoc is one use of a device.
type UseDoc struct {
	How       string `json:"how"`             // mounted, swap or held
	Where     string `json:"where,omitempty"` // mount point, or who holds it
	Elsewhere string `json:"elsewhere,omitempty"`
	Type      string `json:"type,omitempty"`
	Options   string `json:"options,omitempty"`
	ReadOnly  bool   `json:"read_only"`
	Total     int64  `json:"total_bytes,omitempty"`
	Free      int64  `json:"free_bytes,omitempty"`
	Files     uint64 `json:"inodes,omitempty"`
	Left      uint64 `json:"free_inodes,omitempty"`
	Priority  int    `json:"priority,omitempty"`
}

// ContentDoc is what a probe recognised.
type ContentDoc struct {
	Kind      string    `json:"kind"`
	Version   string    `json:"version,omitempty"`
	Class     string    `json:"class"`
	Label     string    `json:"label,omitempty"`
	UUID      string    `json:"uuid,omitempty"`
	Size      int64     `json:"size_bytes,omitempty"`
	BlockSize int64     `json:"block_bytes,omitempty"`
	Used      int64     `json:"used_bytes,omitempty"`
	State     string    `json:"state"`
	Unknown   []string  `json:"unknown_features,omitempty"`
	Device    string    `json:"device_uuid,omitempty"` // of this one, where the content spans several
	Devices   string    `json:"devices,omitempty"`     // "device 1 of 3"
	Places    []SpanDoc `json:"signatures"`
	Facts     []FactDoc `json:"facts,omitempty"`
}

// SpanDoc is a run of bytes.
type SpanDoc struct {
	Start  uint64 `json:"start_bytes"`
	Length uint64 `json:"length_bytes"`
}

// FactDoc is a figure with its arithmetic, for reading.
type FactDoc struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// SurveyDoc is the document of kind survey.
type SurveyDoc struct {
	Head
	Machine string      `json:"machine"`
	Devices []DeviceDoc `json:"devices"`
	Free    []FreeDoc   `json:"free"`
}

// FreeDoc is a gap of a disk.
type FreeDoc struct {
	Disk  string `json:"disk"`
	Start int64  `json:"start_bytes"`
	Size  int64  `json:"size_bytes"`
}

// InspectDoc is the document of kind inspection.
type InspectDoc struct {
	Head
	Device     DeviceDoc         `json:"device"`
	Alignment  string            `json:"alignment"`
	Differs    []string          `json:"options_differ"` // of its mounts from fstab
	Places     []FactDoc         `json:"places"`         // partitions and gaps of a disk
	References []string          `json:"references"`
	Findings   []finding.Finding `json:"findings"`
	Structures []StructureDoc    `json:"structures,omitempty"` // with --fields
	BytesAt    int64             `json:"bytes_start,omitempty"`
	Bytes      string            `json:"bytes,omitempty"` // with --bytes, in hexadecimal
}

// FindingsDoc is the document of kinds verification and fstab-check.
type FindingsDoc struct {
	Head
	Findings []finding.Finding `json:"findings"`
}

// RehearsalDoc is the document of kind rehearsal.
type RehearsalDoc struct {
	Head
	Machine string    `json:"machine"`
	Verdict string    `json:"verdict"`
	Lines   []LineDoc `json:"lines"`
}

// LineDoc is one line of fstab.
type LineDoc struct {
	Number     int    `json:"line"`
	Spec       string `json:"spec"`
	MountPoint string `json:"mount_point"`
	Type       string `json:"type"`
	Device     string `json:"device,omitempty"`
	Outcome    string `json:"outcome"`
	Reason     string `json:"reason"`
	NoFail     bool   `json:"nofail"`
}

// DraftDoc is the document of kind draft.
type DraftDoc struct {
	Head
	Changed  bool              `json:"changed"`
	Stored   bool              `json:"stored"`
	Deed     string            `json:"deed,omitempty"`
	Later    []string          `json:"later"`   // done on disk; the running system takes it up at the next boot
	Remarks  []string          `json:"remarks"` // of a commit
	Code     string            `json:"code,omitempty"`
	Machine  string            `json:"machine"`
	Title    string            `json:"title"`
	Before   []DeviceDoc       `json:"before"`
	After    []DeviceDoc       `json:"after"`
	Facts    []FactDoc         `json:"facts"`
	Settings []ValueDoc        `json:"settings"`
	Notes    []string          `json:"notes"`
	Warnings []string          `json:"warnings"`
	Losses   []LossDoc         `json:"losses"`
	Files    []FileDoc         `json:"files"`
	Findings []finding.Finding `json:"findings"`
	Steps    []StepDoc         `json:"steps"`
	Undo     string            `json:"undo"`
}

// ValueDoc is a setting as it was decided.
type ValueDoc struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	From  string `json:"from"` // default, hint of the device, configuration or asked
}

// FileDoc is a text file whose lines change.
type FileDoc struct {
	Path    string   `json:"path"`
	Removed []string `json:"removed_lines"`
	Added   []string `json:"added_lines"`
}

// LossDoc is one thing that is destroyed.
type LossDoc struct {
	Device string `json:"device"`
	What   string `json:"what"`
	Lose   string `json:"lose"`
}

// StepDoc is one step.
type StepDoc struct {
	Kind   string `json:"kind"`
	Title  string `json:"title"`
	Bytes  int64  `json:"written_bytes,omitempty"`
	Fenced bool   `json:"fenced,omitempty"`
}

// DeedsDoc is the document of kind deeds.
type DeedsDoc struct {
	Head
	Deeds []DeedDoc `json:"deeds"`
}

// DeedDoc is one deed.
type DeedDoc struct {
	ID       string    `json:"id"`
	Created  time.Time `json:"created"`
	State    string    `json:"state"`
	Title    string    `json:"title"`
	Undoes   string    `json:"undoes,omitempty"`
	UndoneBy string    `json:"undone_by,omitempty"`
	Problem  string    `json:"problem,omitempty"`
}

// DraftsDoc is the document of kind drafts.
type DraftsDoc struct {
	Head
	Drafts []StoredDoc `json:"drafts"`
}

// StoredDoc is one stored draft.
type StoredDoc struct {
	Code    string    `json:"code"`
	Created time.Time `json:"created"`
	Machine string    `json:"machine"`
	Title   string    `json:"title"`
}

// RecoveryDoc is the document of kind recovery.
type RecoveryDoc struct {
	Head
	Changed   bool   `json:"changed"`
	Deed      string `json:"deed"`
	Direction string `json:"direction"`
	Strokes   int    `json:"strokes"`
}

// MessageDoc is the document of kinds version and message.
type MessageDoc struct {
	Head
	Text string `json:"text"`
}

// ErrorDoc is the document of kind error.
type ErrorDoc struct {
	Head
	Code  int    `json:"exit_code"`
	Text  string `json:"text"`
	State string `json:"state"`
	Next  string `json:"next,omitempty"`
}

// Documents lists one empty document of each form, by the name of its schema.
func Documents() map[string]any {
	return map[string]any{"survey": SurveyDoc{}, "inspection": InspectDoc{}, "findings": FindingsDoc{}, "rehearsal": RehearsalDoc{}, "draft": DraftDoc{},
		"deeds": DeedsDoc{}, "drafts": DraftsDoc{}, "recovery": RecoveryDoc{}, "message": MessageDoc{}, "event": EventDoc{}, "error": ErrorDoc{}, "configuration": ConfigurationDoc{}, "rescan": RescanDoc{}, "search": SearchDoc{}, "types": TypesDoc{}, "references": ReferencesDoc{}, "settings": SettingsDoc{}}
}

func (p *Printer) document(d any) error {
	enc := json.NewEncoder(p.Out)
	enc.SetIndent("", "  ")
	return enc.Encode(d)
}

// line prints a document on one line, for those that follow each other.
func (p *Printer) line(d any) error { return json.NewEncoder(p.Out).Encode(d) }

func head(kind string) Head { return Head{1, kind} }

// Error prints the document of an error.
func (p *Printer) Error(code int, words, state, next string) error {
	return p.document(ErrorDoc{head("error"), code, words, state, next})
}

func deviceDoc(v *inventory.Inventory, n inventory.Node) DeviceDoc {
	d := DeviceDoc{Name: n.Name, Path: n.Path, Form: string(n.Form), Parent: n.Parent, Number: n.Number, Start: int64(n.Start), Size: int64(n.Size),
		Logical: n.Geometry.Logical, Physical: n.Geometry.Physical, Bus: n.Hardware.Bus, Model: n.Hardware.Model, Serial: n.Hardware.Serial,
		Vendor: n.Hardware.Vendor, WWN: n.Hardware.WWN, Firmware: n.Hardware.Firmware, Alias: n.Alias, Layer: n.Layer, BuiltOn: n.BuiltOn, Links: n.Links,
		Removable: n.Hardware.Removable, ReadOnly: n.Hardware.ReadOnly, PartUUID: n.Entry.UUID, PartName: n.Entry.Name, PartType: n.Entry.Type,
		Contents: []ContentDoc{}, UsedAt: []string{}, Uses: []UseDoc{}, InKernel: n.InKernel, Problem: n.Problem, Silent: n.Silent,
		MinIO: n.Geometry.MinIO, OptIO: n.Geometry.OptIO, Offset: n.Geometry.Offset, Spinning: n.Hardware.Rotational, Discard: int64(n.Hardware.Discard),
		Cache: n.Hardware.WriteCache, Zoned: n.Hardware.Zoned, HotPlug: n.Hardware.HotPlug, Backing: n.Hardware.Backing}
	if c, ok := n.Content(); ok && len(n.Contents) > 1 {
		d.Believed = c.Kind
	}
	if n.Table != nil {
		d.Scheme, d.TableID = string(n.Table.Scheme), n.Table.ID
	}
	for _, c := range n.Contents {
		doc := ContentDoc{Kind: c.Kind, Version: c.Version, Class: string(c.Class), Device: c.Device, Devices: c.Devices, Places: []SpanDoc{}, Label: c.Label, UUID: c.UUID, Size: int64(c.Size), BlockSize: int64(c.BlockSize), Used: int64(c.Used), State: string(c.State), Unknown: c.Unknown}
		for _, s := range c.Signatures {
			doc.Places = append(doc.Places, SpanDoc{s.Start, s.Count})
		}
		for _, f := range c.Facts {
			doc.Facts = append(doc.Facts, FactDoc{f.Name, f.Value})
		}
		d.Contents = append(d.Contents, doc)
	}
	for _, u := range v.UsesOf(n.Name) {
		d.UsedAt = append(d.UsedAt, u.Where)
		d.Uses = append(d.Uses, UseDoc{string(u.How), u.Where, u.Elsewhere, u.Kind, u.Options, u.ReadOnly, int64(u.Space.Total), int64(u.Space.Free), u.Space.Files, u.Space.Left, u.Priority})
	}
	return d
}

func devices(v *inventory.Inventory, nodes []inventory.Node) []DeviceDoc {
	out := []DeviceDoc{}
	for _, n := range nodes {
		out = append(out, deviceDoc(v, n))
	}
	return out
}

func surveyDocument(s *task.Survey) SurveyDoc {
	d := SurveyDoc{Head: head("survey"), Machine: s.Inventory.Machine.String(), Devices: []DeviceDoc{}, Free: []FreeDoc{}}
	for _, disk := range s.Disks {
		family := slices.DeleteFunc(s.Inventory.Family(disk.Name), func(n inventory.Node) bool { return s.Matching != nil && n.Parent != "" && !s.Matching[n.Name] })
		d.Devices = append(d.Devices, devices(s.Inventory, family)...)
		for _, x := range pieces(s.Inventory, disk) {
			if x.node == nil && shown(s, x) {
				d.Free = append(d.Free, FreeDoc{disk.Name, int64(x.start), int64(x.size)})
			}
		}
	}
	return d
}

func inspectDocument(i *task.Inspection) InspectDoc {
	v := &inventory.Inventory{Nodes: []inventory.Node{i.Node}, Uses: i.Uses}
	doc := InspectDoc{Head: head("inspection"), Device: deviceDoc(v, i.Node), Alignment: i.Alignment, Differs: []string{}, Places: []FactDoc{}, References: orEmpty(i.References),
		Findings: orEmpty(i.Findings), Structures: structureDocs(i), BytesAt: i.BytesAt, Bytes: hex.EncodeToString(i.Bytes)}
	for _, u := range i.Uses {
		if words := i.Differs(u); words != "" {
			doc.Differs = append(doc.Differs, u.Where+": "+words)
		}
	}
	for _, f := range i.Places {
		doc.Places = append(doc.Places, FactDoc{f.Name, f.Value})
	}
	return doc
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func findingsDocument(kind string, list []finding.Finding) FindingsDoc {
	return FindingsDoc{head(kind), orEmpty(list)}
}

func rehearsalDocument(r *task.Rehearsal) RehearsalDoc {
	d := RehearsalDoc{head("rehearsal"), r.Machine, r.Verdict, []LineDoc{}}
	for _, l := range r.Lines {
		d.Lines = append(d.Lines, LineDoc{l.Number, l.Spec, l.Dir, l.Kind, l.Device, l.Outcome, l.Reason, l.NoFail})
	}
	return d
}

func draftDocument(d *draft.Draft, r Result) DraftDoc {
	v := &inventory.Inventory{}
	doc := DraftDoc{Head: head("draft"), Changed: r.Changed, Stored: r.Stored, Deed: r.Deed, Later: orEmpty(r.Later), Remarks: orEmpty(r.Remarks), Machine: d.Machine, Title: d.Title,
		Before: devices(v, d.Before), After: devices(v, d.After), Facts: []FactDoc{}, Settings: []ValueDoc{}, Notes: orEmpty(d.Notes()), Warnings: orEmpty(d.Warnings()),
		Losses: []LossDoc{}, Files: []FileDoc{}, Findings: orEmpty(d.Findings), Steps: []StepDoc{}, Undo: string(d.Undo)}
	if r.Stored {
		doc.Code = d.Code
	}
	for _, part := range d.Parts {
		for _, s := range part.Values {
			doc.Settings = append(doc.Settings, ValueDoc{s.Key, s.Word, string(s.By)})
		}
	}
	for _, f := range d.Facts() {
		doc.Facts = append(doc.Facts, FactDoc{f.Name, f.Value})
	}
	for _, l := range d.Lines {
		doc.Files = append(doc.Files, FileDoc{l.Path, orEmpty(l.Removed), orEmpty(l.Added)})
	}
	for _, l := range d.Losses {
		doc.Losses = append(doc.Losses, LossDoc{l.Node, l.What, l.Name})
	}
	for _, s := range d.Steps {
		doc.Steps = append(doc.Steps, stepDocument(s))
	}
	return doc
}

func stepDocument(s draft.Step) StepDoc {
	doc := StepDoc{Kind: string(s.Kind), Title: s.Title}
	if s.Write != nil {
		doc.Bytes, doc.Fenced = int64(s.Write.Bytes), s.Write.Fence != nil
	}
	return doc
}

func deedsDocument(list []*deed.Deed) DeedsDoc {
	d := DeedsDoc{head("deeds"), []DeedDoc{}}
	for _, x := range list {
		state, _ := stateWords(x)
		doc := DeedDoc{ID: x.ID, Created: x.Created, State: state, Title: x.Title, Undoes: x.Undoes, UndoneBy: x.UndoneBy}
		if x.Problem != nil {
			doc.Problem = x.Problem.Error()
		}
		d.Deeds = append(d.Deeds, doc)
	}
	return d
}

func draftsDocument(list []deed.StoredDraft) DraftsDoc {
	d := DraftsDoc{head("drafts"), []StoredDoc{}}
	for _, x := range list {
		d.Drafts = append(d.Drafts, StoredDoc{x.Code, x.Created, x.Machine, x.Title})
	}
	return d
}

func recoveryDocument(o *deed.Outcome) RecoveryDoc {
	return RecoveryDoc{head("recovery"), o.Strokes > 0, o.Deed.ID, string(o.Direction), o.Strokes}
}

func messageDocument(kind, words string) MessageDoc { return MessageDoc{head(kind), words} }
