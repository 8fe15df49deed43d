package view

import (
	"cmp"
	"encoding/json"
	"fmt"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/internal/draft"
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
	Form      string       `json:"form" of:"form"`
	Parent    string       `json:"parent,omitempty"`
	Number    int          `json:"number,omitempty"`
	Target    *TargetDoc   `json:"target,omitempty"`
	Lose      string       `json:"lose,omitempty"` // what --lose wants, where something would be lost
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
	Cache     string       `json:"write_cache,omitempty" of:"write-cache"`
	Zoned     string       `json:"zoned,omitempty"`
	HotPlug   bool         `json:"hot_plug"`
	Backing   string       `json:"backing_file,omitempty"`
	Removable bool         `json:"removable"`
	ReadOnly  bool         `json:"read_only"`
	Scheme    string       `json:"table_scheme,omitempty" of:"scheme"`
	TableID   string       `json:"table_id,omitempty"`
	PartUUID  string       `json:"partuuid,omitempty"`
	PartName  string       `json:"partition_name,omitempty"`
	PartType  string       `json:"partition_type,omitempty"`
	Contents  []ContentDoc `json:"contents"`
	Holds     string       `json:"holds"`              // in a word or two; "empty" where every sampled place reads as zeros, "unknown" where nobody knows
	Believed  string       `json:"believed,omitempty"` // kind that counts where there are several contents
	UsedAt    []string     `json:"used_at"`
	Uses      []UseDoc     `json:"uses"`
	InKernel  bool         `json:"in_kernel"`
	Problem   string       `json:"problem,omitempty"`
	Silent    bool         `json:"silent,omitempty"` // it did not answer, or is offline
}

// UseDoc is one use of a device.
type UseDoc struct {
	How       string `json:"how" of:"use"`    // mounted, swap or held
	Where     string `json:"where,omitempty"` // mount point, or who holds it
	Elsewhere string `json:"elsewhere,omitempty"`
	Type      string `json:"type,omitempty"`
	Options   string `json:"options,omitempty"`             // of the mount
	Super     string `json:"file_system_options,omitempty"` // the same at every place
	ReadOnly  bool   `json:"read_only"`
	Total     int64  `json:"total_bytes,omitempty"`
	Free      int64  `json:"free_bytes,omitempty"`
	Files     uint64 `json:"inodes,omitempty"`
	Left      uint64 `json:"free_inodes,omitempty"`
	Priority  int    `json:"priority,omitempty"`
}

// ContentDoc is what a probe recognised.
type ContentDoc struct {
	Kind      string       `json:"kind"`
	Version   string       `json:"version,omitempty"`
	Class     string       `json:"class" of:"class"`
	Label     string       `json:"label,omitempty"`
	UUID      string       `json:"uuid,omitempty"`
	Size      int64        `json:"size_bytes,omitempty"`
	BlockSize int64        `json:"block_bytes,omitempty"`
	Used      int64        `json:"used_bytes,omitempty"`
	State     string       `json:"state,omitempty" of:"content-state"`
	Unknown   []string     `json:"unknown_features,omitempty"`
	Device    string       `json:"device_uuid,omitempty"` // of this one, where the content spans several
	Devices   string       `json:"devices,omitempty"`     // "device 1 of 3"
	Places    []SpanDoc    `json:"signatures"`
	Features  []FeatureDoc `json:"features,omitempty"`
	Facts     []FactDoc    `json:"facts,omitempty"`
}

// FeatureDoc is a feature of a file system, by its bit.
type FeatureDoc struct {
	Field    string `json:"field"`
	Bit      string `json:"bit"` // "0x4"
	Constant string `json:"constant"`
	Meaning  string `json:"meaning"`
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

// VersionDoc is the document of kind version.
type VersionDoc struct {
	Head
	Release   string `json:"release"`
	Commit    string `json:"commit,omitempty"` // of the sources, where the build knows it
	Go        string `json:"go"`               // that it was built with
	Documents int    `json:"documents"`        // the version of documents: that of "fundus" in each
	Deeds     int    `json:"deeds"`            // the format of the deeds that it writes
}

// Version is which release this is.
type Version struct{ Release, Commit, Go string }

// Document implements Report.
func (r Version) Document() any {
	return VersionDoc{head("version"), r.Release, r.Commit, r.Go, 1, draft.Format}
}

// Words implements Report.
func (r Version) Words(p *Printer) {
	p.printf("fundus %s%s\n", r.Release, map[bool]string{true: " (" + r.Go + ")"}[r.Go != ""])
}

// MessageDoc is the document of kind message.
type MessageDoc struct {
	Head
	Text string `json:"text"`
}

// Documents has one empty document of each kind, by the word for the kind. That of kind table is the
// saved table's own.
func Documents() map[string]any {
	return map[string]any{"survey": SurveyDoc{}, "inspection": InspectDoc{}, "verification": FindingsDoc{},
		"fstab-check": FindingsDoc{}, "rehearsal": RehearsalDoc{}, "draft": DraftDoc{},
		"deeds": DeedsDoc{}, "drafts": DraftsDoc{}, "recovery": RecoveryDoc{}, "message": MessageDoc{},
		"version": VersionDoc{}, "event": EventDoc{}, "error": ErrorDoc{},
		"configuration": ConfigurationDoc{}, "rescan": RescanDoc{}, "search": SearchDoc{}, "types": TypesDoc{},
		"references": ReferencesDoc{}, "settings": SettingsDoc{}, "fstab": FstabDoc{},
		"options": MountOptionsDoc{}, "swap": SwapDoc{}, "units": UnitsDoc{}, "jobs": JobsDoc{},
		"gathered": GatheredDoc{}, "kinds": KindsDoc{}, "deed": ShownDeedDoc{}, "progress": ProgressDoc{}, "partitions": PartitionsDoc{}}
}

func (p *Printer) document(d any) error {
	enc := json.NewEncoder(p.Out)
	enc.SetIndent("", "  ")
	return enc.Encode(d)
}

// line prints a document on one line, for those that follow each other.
func (p *Printer) line(d any) error { return json.NewEncoder(p.Out).Encode(d) }

func head(kind string) Head { return Head{1, kind} }

// deviceDoc is one device, with the words by which it is named where those are known.
func deviceDoc(v *inventory.Inventory, n inventory.Node, called map[string]inventory.Called) DeviceDoc {
	d := DeviceDoc{Name: n.Name, Path: n.Path, Form: string(n.Form), Parent: n.Parent, Number: n.Number,
		Start: int64(n.Start), Size: int64(n.Size),
		Logical: n.Geometry.Logical, Physical: n.Geometry.Physical, Bus: n.Hardware.Bus, Model: n.Hardware.Model, Serial: n.Hardware.Serial,
		Vendor: n.Hardware.Vendor, WWN: n.Hardware.WWN, Firmware: n.Hardware.Firmware, Alias: n.Alias,
		Layer: layerWords(n.Layer), BuiltOn: n.BuiltOn, Links: n.Links,
		Removable: n.Hardware.Removable, ReadOnly: n.Hardware.ReadOnly, PartUUID: n.Entry.UUID, PartName: n.Entry.Name,
		PartType: n.Entry.Type,
		Contents: []ContentDoc{}, UsedAt: []string{}, Uses: []UseDoc{}, InKernel: n.InKernel, Problem: n.Problem, Silent: n.Silent,
		MinIO: n.Geometry.MinIO, OptIO: n.Geometry.OptIO, Offset: n.Geometry.Offset, Spinning: n.Hardware.Rotational,
		Discard: int64(n.Hardware.Discard),
		Cache:   writeCaches()[n.Hardware.WriteCache], Zoned: n.Hardware.Zoned, HotPlug: n.Hardware.HotPlug, Backing: n.Hardware.Backing}
	if c, known := called[n.Name]; known {
		d.Target, d.Lose = targetDoc(c), c.Lose
	}
	if c, ok := n.Content(); ok && len(n.Contents) > 1 {
		d.Believed = c.Kind
	}
	d.Holds = cmp.Or(advice.Holds(n), "empty")
	if n.Table != nil {
		d.Scheme, d.TableID = string(n.Table.Scheme), n.Table.ID
		d.Holds = cmp.Or(advice.Holds(n), "table")
	}
	for _, c := range n.Contents {
		doc := ContentDoc{
			Kind:      c.Kind,
			Version:   c.Version,
			Class:     contentClasses()[string(c.Class)],
			Device:    c.Member.ID,
			Devices:   memberWords(c.Member.Index, c.Member.Of),
			Places:    []SpanDoc{},
			Label:     c.Label,
			UUID:      c.UUID,
			Size:      int64(c.Size),
			BlockSize: int64(c.BlockSize),
			Used:      int64(c.Used),
			State:     contentStates()[inventory.StateOf(c, v.UsesOf(n.Name))],
			Unknown:   c.Unknown,
		}
		for _, s := range c.Signatures {
			doc.Places = append(doc.Places, SpanDoc{s.Start, s.Count})
		}
		for _, f := range c.Features {
			doc.Features = append(doc.Features, FeatureDoc{f.Field, fmt.Sprintf("%#x", f.Bit), f.Constant, f.Meaning})
		}
		for _, f := range c.Facts {
			doc.Facts = append(doc.Facts, FactDoc{f.Name, f.Value})
		}
		d.Contents = append(d.Contents, doc)
	}
	for _, u := range v.UsesOf(n.Name) {
		d.UsedAt = append(d.UsedAt, u.Where)
		d.Uses = append(d.Uses, UseDoc{
			string(u.How), u.Where, u.Elsewhere, u.Kind, u.Options, u.Super, u.ReadOnly, int64(u.Space.Total),
			int64(u.Space.Free), u.Space.Files, u.Space.Left, u.Priority,
		})
	}
	return d
}

func devices(v *inventory.Inventory, nodes []inventory.Node, called map[string]inventory.Called) []DeviceDoc {
	out := []DeviceDoc{}
	for _, n := range nodes {
		out = append(out, deviceDoc(v, n, called))
	}
	return out
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
