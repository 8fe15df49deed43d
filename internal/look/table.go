package look

import (
	"context"

	"fundus/core/quantity"
	"fundus/core/table/saved"
	"fundus/core/target"
	"fundus/internal/machine"
)

// SavedTable gives the table of a disk as a document that restores it.
func SavedTable(ctx context.Context, r machine.Reader, word string) (saved.Document, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return saved.Document{}, err
	}
	n, err := target.LookDisk(v, word)
	if err != nil {
		return saved.Document{}, err
	}
	if n.Table == nil {
		return saved.Document{}, target.NoTable(v, n)
	}
	return saved.Save(n.Table, saved.Disk{Identity: n.Identity.Disk, Size: n.Size, Sector: quantity.Bytes(n.Geometry.Logical)}), nil
}
