package view

import (
	"cmp"
	"fmt"
	"strings"

	"fundus/core/inventory"
)

// layerNames are what people call the layers.
func layerNames() map[inventory.LayerKind]string {
	return map[inventory.LayerKind]string{
		inventory.Mapped:     "mapped device",
		inventory.Logical:    "logical volume",
		inventory.Opened:     "opened, encrypted device",
		inventory.Multipath:  "multipath disk",
		inventory.MappedPart: "partition of a mapped device",
	}
}

// layerWords say what a device is that is built on others; "" for one that is not.
func layerWords(l inventory.Layer) string {
	if l.Kind != inventory.RAID {
		return cmp.Or(layerNames()[l.Kind], string(l.Kind))
	}
	words := fmt.Sprintf("%s of %d devices, %s", strings.ToUpper(strings.Replace(l.Level, "raid", "raid ", 1)), l.Of, l.State)
	if l.Missing > 0 {
		words += fmt.Sprintf(", %d missing", l.Missing)
	}
	return words
}

// memberWords say which of several devices it is; "" where there is one alone.
func memberWords(index, of int) string {
	if of < 2 {
		return ""
	}
	return fmt.Sprintf("device %d of %d", index, of)
}
