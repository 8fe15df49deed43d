package look

import (
	"context"
	"fmt"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// Verification is what verify found, and what it looked at.
type Verification struct {
	Findings                []finding.Finding
	Disks, Partitions, Line int      // that were looked at
	Elsewhere               int      // lines of other text files that name a device
	Targets                 []string // names of the devices that were asked for; none: all
}

// Verify checks the machine, or the devices that the words mean with the lines that name
// them.
func Verify(ctx context.Context, r machine.Reader, words []string) (*Verification, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	all := verify.All(v)
	if len(words) > 0 {
		return verifyTargets(v, all, words)
	}
	out := &Verification{Findings: all, Disks: len(v.Disks()), Line: len(v.Fstab().Entries())}
	out.Partitions = len(v.Nodes) - out.Disks
	for _, r := range refs.All(v) {
		if r.Path != fstab.Path {
			out.Elsewhere++
		}
	}
	return out, nil
}

// verifyTargets keeps what is about the targets, each thing once: two of them may be a disk
// and a partition of it.
func verifyTargets(v *inventory.Inventory, all []finding.Finding, words []string) (*Verification, error) {
	out := &Verification{}
	nodes, lines := map[string]inventory.Node{}, map[string]bool{}
	for _, w := range words {
		n, err := target.Look(v, w)
		if err != nil {
			return nil, err
		}
		out.Targets = append(out.Targets, n.Name)
		for _, member := range v.Family(n.Name) {
			nodes[member.Name] = member
			for _, ref := range refs.Of(v, member.Name) {
				lines[fmt.Sprintf("%s:%d", ref.Path, ref.Line)] = true
			}
		}
	}
	for _, n := range nodes {
		if n.Parent == "" {
			out.Disks++
		} else {
			out.Partitions++
		}
	}
	out.Line = len(lines)
	for _, f := range all {
		if _, is := nodes[f.Thing]; is || lines[f.Thing] {
			out.Findings = append(out.Findings, f)
		}
	}
	return out, nil
}
