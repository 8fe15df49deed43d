package view

import "fundus/internal/draft"

// ResultDoc is one thing that is there afterwards of what was asked for, changed or not.
type ResultDoc struct {
	Role        string   `json:"role" of:"role"`
	Device      string   `json:"device,omitempty"` // that it is, or lies on
	Target      string   `json:"target,omitempty"` // the word for that device
	Scheme      string   `json:"scheme,omitempty" of:"scheme"`
	TableID     string   `json:"table_id,omitempty"`
	PartUUID    string   `json:"partuuid,omitempty"`
	First       uint64   `json:"first_sector,omitempty"`
	Sectors     uint64   `json:"sectors,omitempty"`
	Kind        string   `json:"kind,omitempty"`
	UUID        string   `json:"uuid,omitempty"`
	Label       string   `json:"label,omitempty"`
	Size        int64    `json:"size_bytes,omitempty"`
	On          bool     `json:"on,omitempty"`   // swap that the kernel uses
	Path        string   `json:"path,omitempty"` // of a text file, a unit, a directory, a link, a file of swap
	Line        int      `json:"line,omitempty"` // of the text file
	MountPoint  string   `json:"mount_point,omitempty"`
	LeadsTo     string   `json:"leads_to,omitempty"` // of a link
	Options     []string `json:"options,omitempty"`
	Owner       *uint32  `json:"uid,omitempty"`
	Group       *uint32  `json:"gid,omitempty"`
	Permissions *uint32  `json:"mode,omitempty"` // bits, as a number
}

// LayerDoc is one layer of a change of size.
type LayerDoc struct {
	Layer  string `json:"layer" of:"layer"` // disk, partition, device or content
	Device string `json:"device"`
	Kind   string `json:"kind,omitempty"`
	From   int64  `json:"from_bytes"`
	To     int64  `json:"to_bytes"`
	How    string `json:"how,omitempty"`
	Stays  string `json:"stays,omitempty"` // why it keeps its size
}

func resultDocs(list []draft.Result) []ResultDoc {
	out := []ResultDoc{}
	for _, r := range list {
		d := ResultDoc{Role: string(r.Role), Device: r.Device, Target: r.Word, Scheme: r.Scheme, TableID: r.TableID,
			PartUUID: r.PartUUID, First: r.First, Sectors: r.Sectors,
			Kind: r.Kind, UUID: r.UUID, Label: r.Label, Size: int64(r.Size), On: r.On, Path: r.Path, Line: r.Line,
			MountPoint: r.Place, Options: r.Options,
			Owner: r.UID, Group: r.GID, Permissions: r.Mode}
		if r.Role == draft.RoleLink {
			d.MountPoint, d.LeadsTo = "", r.Place
		}
		out = append(out, d)
	}
	return out
}

func layerDocs(list []draft.Layer) []LayerDoc {
	out := []LayerDoc{}
	for _, l := range list {
		out = append(out, LayerDoc{l.Name, l.Device, l.Kind, int64(l.From), int64(l.To), l.How, l.Stays})
	}
	return out
}
