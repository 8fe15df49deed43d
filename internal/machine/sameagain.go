package machine

import (
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
)

// SameAgain are the options with which the kernel would mount the same once more: what it lists
// and takes, and would not list without having been asked.
func SameAgain(u inventory.Use) string {
	t := kind.Options(u.Kind)
	var out []string
	for _, o := range slices.Concat(mountopt.Listed(u.Options), mountopt.Listed(u.Super)) {
		if _, ok := t.Find(o); !ok || t.Unasked(o) || slices.Contains(out, o) {
			continue
		}
		wrong := func(f mountopt.Fault) bool { return f.Trouble != mountopt.Untold } // which it takes now
		if !slices.ContainsFunc(t.Check([]string{o}, nil), wrong) {
			out = append(out, o)
		}
	}
	return strings.Join(out, ",")
}
