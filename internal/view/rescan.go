package view

import (
	"fmt"

	"fundus/core/inventory"
	"fundus/internal/act"
)

// RescanDoc is the document of what the kernel took up.
type RescanDoc struct {
	Head
	Disks []RescannedDoc `json:"disks"`
}

// RescannedDoc is one disk.
type RescannedDoc struct {
	Name    string          `json:"name"`
	Was     int64           `json:"was_bytes"`
	Size    int64           `json:"size_bytes"`
	Done    []string        `json:"done"`
	Refused []string        `json:"refused"`
	Before  []KernelPartDoc `json:"kernel_partitions_before"`
	Now     []KernelPartDoc `json:"kernel_partitions"`
}

// KernelPartDoc is a partition as the kernel knows it.
type KernelPartDoc struct {
	Number int   `json:"number"`
	Start  int64 `json:"start_bytes"`
	Size   int64 `json:"size_bytes"`
}

func kernelParts(list []inventory.KernelPart) []KernelPartDoc {
	out := []KernelPartDoc{}
	for _, k := range list {
		out = append(out, KernelPartDoc{k.Number, int64(k.Start), int64(k.Size)})
	}
	return out
}

// Rescanned is size and partitions of each disk before and after.
type Rescanned struct {
	List  []act.Rescanned
	Draft bool // nothing was done
}

// Document implements Report.
func (r Rescanned) Document() any {
	doc := RescanDoc{Head: head("rescan"), Disks: []RescannedDoc{}}
	for _, d := range r.List {
		doc.Disks = append(doc.Disks, rescannedDoc(d))
	}
	return doc
}

// Words implements Report.
func (r Rescanned) Words(p *Printer) {
	list, draft := r.List, r.Draft
	for _, r := range list {
		was, now := r.Before[0], r.After[0]
		text := fmt.Sprintf("%s  %s", visible(now.Name), p.size(now.Size, now.Geometry.Logical))
		if was.Size != now.Size {
			text += ", before " + p.size(was.Size, was.Geometry.Logical)
		}
		unseen := now.Table != nil && now.Table.Unseen != ""
		if unseen {
			text += "; Linux sees no partition on it: " + visible(now.Table.Unseen)
			if len(now.Kernel) > 0 {
				text += fmt.Sprintf("; the kernel still has %d, from before, until it starts again", len(now.Kernel))
			}
		} else if now.Problem != "" {
			text += "; whether kernel and table agree cannot be told: " + visible(now.Problem)
		} else if len(r.Done)+len(r.Refused) == 0 {
			text += "; kernel and table agree"
		} else {
			text += fmt.Sprintf("; partitions in the kernel: %d, before %d", len(now.Kernel), len(was.Kernel))
		}
		p.wrap(0, "", text)
		word := "done: "
		if draft {
			word = "would: "
		}
		for _, a := range r.Done {
			p.wrap(2, word, a.String())
		}
		for _, f := range r.Refused {
			p.wrap(2, "refused: ", visible(f.Err.Error()))
		}
		if unseen {
			p.wrap(2, "", "fundus table repair "+visible(now.Name))
		} else if now.Size > was.Size && now.Table != nil {
			p.wrap(2, "", fmt.Sprintf("the new space is free for partitions: fundus partition list %s", visible(now.Name)))
		}
	}
}

func rescannedDoc(r act.Rescanned) RescannedDoc {
	d := RescannedDoc{Name: r.After[0].Name, Was: int64(r.Before[0].Size), Size: int64(r.After[0].Size), Done: []string{}, Refused: []string{},
		Before: kernelParts(r.Before[0].Kernel), Now: kernelParts(r.After[0].Kernel)}
	for _, a := range r.Done {
		d.Done = append(d.Done, a.String())
	}
	for _, f := range r.Refused {
		d.Refused = append(d.Refused, f.Err.Error())
	}
	return d
}
