package act

import (
	"context"
	"errors"

	"fundus/core/inventory"
	"fundus/core/target"
	"fundus/internal/machine"
)

// Rescanned is what became of a disk when the kernel was asked to look again.
type Rescanned struct {
	Before, After []inventory.Node // the disk, then its partitions
	Done          []machine.Action
	Refused       []Refused
}

// Refused is an action that the kernel did not carry out.
type Refused struct {
	Action machine.Action
	Err    error
}

// Rescan has the kernel ask each disk for its size, and then take up its table,
// partition by partition, so that what is as it was is not touched. Without a word
// it is every disk of the machine. With try nothing is done: it lists what would be.
func Rescan(ctx context.Context, m machine.Machine, word string, try bool) ([]Rescanned, error) {
	before, err := m.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	var disks []inventory.Node
	if word != "" {
		n, err := target.Disk(before, word)
		if err != nil {
			return nil, err
		}
		if n.Form == inventory.Image {
			return nil, &machine.Refusal{Rule: machine.RuleNoDevice, Thing: n.Name, Text: "an image is no device of this machine's kernel"}
		}
		disks = append(disks, n)
	} else {
		for _, n := range before.Disks() {
			if n.Form != inventory.Image && !n.Minor() && !n.Silent {
				disks = append(disks, n)
			}
		}
	}
	var out []Rescanned
	for _, d := range disks {
		r := Rescanned{Before: before.Family(d.Name), After: before.Family(d.Name)}
		if try {
			r.Done = machine.Catchup(before, d.Name)
		} else if err := r.run(ctx, m, d); err != nil {
			return out, err
		}
		out = append(out, r)
	}
	return out, nil
}

func (r *Rescanned) run(ctx context.Context, m machine.Machine, d inventory.Node) error {
	if d.Form == inventory.Disk {
		ask := machine.Action{Verb: machine.ReadSize, Device: d.Name}
		if err := m.Do(ctx, nil, ask); err != nil {
			r.Refused = append(r.Refused, Refused{ask, err})
		}
	}
	v, err := m.Inventory(ctx)
	if err != nil {
		return err
	}
	for _, a := range machine.Catchup(v, d.Name) {
		if err := m.Do(ctx, v, a); err != nil {
			r.Refused = append(r.Refused, Refused{a, err})
			continue
		}
		r.Done = append(r.Done, a)
	}
	if len(r.Done)+len(r.Refused) > 0 {
		if v, err = m.Inventory(ctx); err != nil {
			return err
		}
	}
	r.After = v.Family(d.Name)
	return nil
}

// Later reports whether what was refused comes about at the next boot by itself.
func (r *Rescanned) Later() bool {
	for _, f := range r.Refused {
		var refusal *machine.Refusal
		var later *machine.LaterError
		if errors.As(f.Err, &refusal) || errors.As(f.Err, &later) {
			return true
		}
	}
	return false
}
