package machine

import (
	"context"

	"fundus/core/gather"
	"fundus/core/inventory"
	"fundus/core/mountopt"
)

// What only some machines can is asked for, by these interfaces; the functions below stand
// for those that cannot.

// Settler has others that watch its devices, such as udev.
type Settler interface {
	// Settle waits, with a deadline, until everybody who watches devices has
	// taken up what is on the disks now. It is called without a claim.
	Settle(ctx context.Context, disks []string) error
}

// Settle waits where there is somebody to wait for.
func Settle(ctx context.Context, m Machine, disks []string) error {
	if s, ok := m.(Settler); ok {
		return s.Settle(ctx, disks)
	}
	return nil
}

// Inhibitor may be shut down or put to sleep by others.
type Inhibitor interface {
	// Inhibit keeps the machine from that, as far as it can be asked for it, until release
	// is called.
	Inhibit(ctx context.Context, why string) (release func())
}

// Inhibit keeps the machine up, where anybody else could end it.
func Inhibit(ctx context.Context, m Machine, why string) (release func()) {
	if i, ok := m.(Inhibitor); ok {
		return i.Inhibit(ctx, why)
	}
	return func() {}
}

// Watcher sees disks come and go.
type Watcher interface {
	// Watch reports each disk that comes, changes or goes, until the context ends.
	// It calls begun once: what comes or goes from then on is reported.
	Watch(ctx context.Context, begun func(), report func(Event)) error
}

// Gatherer has a kernel that puts files together.
type Gatherer interface {
	// Scattered shows how each file below a place of a mounted file system lies, and how its
	// kernel puts files together; a refusal where it does not.
	Scattered(ctx context.Context, v *inventory.Inventory, place string, visit func(gather.File)) error
	// Together puts one of those files together and says how it lies afterwards.
	Together(ctx context.Context, v *inventory.Inventory, place, name string) (gather.File, error)
}

// Gathering is the machine as one that puts files together. Errors: a *Refusal where it
// mounts nothing.
func Gathering(m Machine, v *inventory.Inventory, place string) (Gatherer, error) {
	if g, ok := m.(Gatherer); ok {
		return g, nil
	}
	if _, err := CheckGather(v, place); err != nil {
		return nil, err
	}
	return nil, &Refusal{Rule: RuleExchange, Thing: place, Text: "a bench mounts nothing: there are no files of " + place + " to go through"}
}

// OptionTrier has a kernel that can be asked for mount options.
type OptionTrier interface {
	// TryOptions asks it whether a type takes options of the file system, and mounts
	// nothing; nil where it cannot be asked.
	TryOptions(typ string, options []string) mountopt.Answers
}

// TryOptions gives no answers where nobody can be asked.
func TryOptions(r Reader, typ string, options []string) mountopt.Answers {
	if t, ok := r.(OptionTrier); ok {
		return t.TryOptions(typ, options)
	}
	return nil
}
