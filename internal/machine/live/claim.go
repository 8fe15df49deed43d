package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/extent"
	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/machine/image"
)

// Claim takes the BSD lock of each disk, and opens exclusively what changes its
// content: a partition through its own node, the whole disk where it is the
// target. The kernel refuses that while anybody uses it, in whatever namespace;
// the rules say why, as far as can be seen from here.
func (m *Machine) Claim(ctx context.Context, v *inventory.Inventory, targets []machine.Target) (*machine.Claim, error) {
	v, err := machine.Looked(ctx, m, v)
	if err != nil {
		return nil, err
	}
	return machine.ClaimEach(v, targets, func(disk string) (block.Device, error) {
		if slices.Contains(m.images, disk) {
			return image.Claim(disk, image.Geometry(disk))
		}
		return m.claim(ctx, disk, targets)
	})
}

func (m *Machine) claim(ctx context.Context, disk string, targets []machine.Target) (block.Device, error) {
	d, err := m.listed(disk)
	if err != nil {
		return nil, err
	}
	whole := slices.ContainsFunc(targets, func(t machine.Target) bool {
		return t.Takes(disk, t.Span()) && t.Start == 0 && t.Size == d.node.Size
	})
	f, err := openFor(d.node.Path, d.node.Geometry, whole)
	if err != nil {
		return nil, m.claimError(disk, err)
	}
	n := &narrow{File: f, nodes: m.at.dev}
	// udev takes the lock too while it looks at a device, for a moment.
	if err := patiently(ctx, f.Lock); err != nil {
		return nil, errors.Join(m.claimError(disk, err), n.Close())
	}
	for _, p := range d.parts {
		changes := slices.ContainsFunc(targets, func(t machine.Target) bool {
			return t.Takes(disk, extent.Span{Start: uint64(p.start), Count: uint64(p.size)})
		})
		if !changes || whole || !fits(p, f.Size()) {
			continue
		}
		part, err := openFor(filepath.Join(m.at.dev, p.name), d.node.Geometry, true)
		if err != nil {
			return nil, errors.Join(m.claimError(p.name, err), n.Close())
		}
		n.parts = append(n.parts, opened{p.start, min(p.size, part.Size()), part})
	}
	return n, nil
}

func openFor(path string, geo block.Geometry, exclusive bool) (*file.File, error) {
	if exclusive {
		return file.OpenExclusive(path, geo)
	}
	return file.Open(path, true, geo)
}

// claimError explains why the kernel did not give the device, as far as can be
// seen from here.
func (m *Machine) claimError(thing string, err error) error {
	who := strings.Join(m.whoHas(filepath.Join(m.at.dev, thing)), ", ")
	switch {
	case errors.Is(err, file.ErrLocked):
		return &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: thing,
			Text:  cmp.Or(who, "another process") + " has locked it",
			Next:  way.ByHand("wait for it to end, then run the command again"),
		}
	case errors.Is(err, unix.EBUSY) && who != "":
		return &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: thing,
			Text:  "it is claimed; " + who + " has it open",
			Next:  way.ByHand("end that, then run the command again"),
		}
	case errors.Is(err, unix.EBUSY):
		return &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: thing,
			Text:  "the kernel says that it is in use: mounted (perhaps in another namespace), swap, or part of another device",
			Next:  way.Survey(),
		}
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return &machine.Refusal{Rule: machine.RuleReadOnly, Thing: thing, Text: "you may not write to it", Next: way.ByHand("run as root")}
	case errors.Is(err, unix.EROFS):
		return &machine.Refusal{
			Rule:  machine.RuleReadOnly,
			Thing: thing,
			Text:  "the medium is read-only",
			Next:  way.ByHand("it may have a switch for that"),
		}
	}
	return fmt.Errorf("%s: %w", thing, err)
}
