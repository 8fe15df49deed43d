package task

import (
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
)

// Again are the options with which the kernel would mount the same once more: what it lists
// and takes.
func Again(u inventory.Use) string {
	t := kind.Options(u.Kind)
	var out []string
	for _, o := range slices.Concat(mountopt.Listed(u.Options), mountopt.Listed(u.Super)) {
		if row, ok := t.Find(o); ok && !row.Default && !slices.Contains(out, o) && len(t.Check([]string{o}, nil)) == 0 {
			out = append(out, o)
		}
	}
	return strings.Join(out, ",")
}
