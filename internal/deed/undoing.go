package deed

import (
	"context"
	"errors"
	"slices"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/stage"
)

// Planner is what an undo is planned with; the planner of tasks is one.
type Planner interface {
	Note(format string, args ...any)
	Warn(format string, args ...any)
	// Now is the machine as it would be after what was planned so far.
	Now(ctx context.Context) (*inventory.Inventory, error)
	// Write refuses where the target cannot be claimed; see stage.Stage.Write.
	Write(ctx context.Context, title string, t machine.Target, fn func(dev block.Device) error) error
	// LossOf says what is on the node; nil where nothing is.
	LossOf(ctx context.Context, n inventory.Node) (*draft.Loss, error)
}

// Undoing is an undo that is being planned: each kind of step appends its inverse to the stage.
type Undoing struct {
	Planner
	Stage  *stage.Stage
	Deed   *Deed
	Former *Former
	Over   bool              // also where something was written since
	Names  map[string]string // device as recorded -> as it is called now
	Later  []machine.Action  // once the kernel knows the partitions of before
	Starts []machine.Action  // once systemd has read the units of before
	Losses []draft.Loss
}

// ErrSince says that somebody changed what the deed left.
var ErrSince = errors.New("something was written there since")

// Inverse appends what takes a step of the deed back.
func (u *Undoing) Inverse(ctx context.Context, number int) error {
	s := u.Deed.Steps[number]
	return carrierOf(s).inverse(ctx, u, number, s)
}

// whole reports whether what is on the node was put on empty room and into use by the deed, all of
// which goes: with what is in it by then, whoever mounted it since, and whosever it is.
func (u *Undoing) whole(v *inventory.Inventory, node string) bool {
	n, ok := v.Node(node)
	return ok && u.Deed.Undo == draft.ByName && slices.ContainsFunc(targetsOf(u.Deed.Steps), func(t machine.Target) bool {
		return t.Hold == machine.HoldContent && u.name(t.Device) == n.Disk() && t.Start == n.Start
	})
}

// name is what a device is called now.
func (u *Undoing) name(was string) string { return nameOf(u.Names, was) }
