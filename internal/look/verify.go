package look

import (
	"context"
	"slices"

	"fundus/core/finding"
	"fundus/core/refs"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// Verification is what verify found.
type Verification struct {
	Findings                []finding.Finding
	Disks, Partitions, Line int // that were looked at
	Elsewhere               int // lines of other text files that name a device
}

// Verify checks the machine, or the devices that the words mean.
func Verify(ctx context.Context, r machine.Reader, words []string) (*Verification, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	all := verify.All(v)
	out := &Verification{Findings: all, Disks: len(v.Disks()), Line: len(v.Fstab().Entries())}
	out.Partitions = len(v.Nodes) - out.Disks
	for _, r := range refs.All(v) {
		if r.Path != fstab.Path {
			out.Elsewhere++
		}
	}
	if len(words) == 0 {
		return out, nil
	}
	out = &Verification{}
	for _, w := range words {
		n, err := target.Resolve(v, w)
		if err != nil {
			return nil, err
		}
		if n.Parent == "" {
			out.Disks++
		}
		out.Partitions += len(v.Family(n.Name)) - 1
		out.Findings = append(out.Findings, verify.About(v, slices.Clone(all), n.Name)...)
	}
	return out, nil
}
