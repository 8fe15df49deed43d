package boot

import (
	"testing"

	"fundus/core/inventory"
)

// Machines are those of the table, by their names.
func Machines(t *testing.T) map[string]*inventory.Inventory {
	all := map[string]*inventory.Inventory{}
	for _, d := range machines(t) {
		all[d.Name] = d.look()
	}
	return all
}
