package act

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"fundus/internal/draft"
	"fundus/internal/machine"
)

// Free lets go of what a way back begins with: a mount, swap, a unit. As long as somebody uses it the
// kernel writes to it, so that what the deed is to keep would be of the middle of a change; it is
// planned again afterwards, on what is still then. The function that is returned brings back what was
// let go of. Errors: machine.Refusal with who keeps it busy; what was let go of before is back.
func Free(ctx context.Context, m machine.Machine, d *draft.Draft) (back func(context.Context) error, err error) {
	var done []machine.Action
	back = func(ctx context.Context) error {
		var failed error
		for _, a := range slices.Backward(done) {
			if inverse, ok := a.Inverse(); ok {
				failed = errors.Join(failed, do(ctx, m, inverse))
			}
		}
		done = nil
		if failed != nil {
			return fmt.Errorf("and could not be used again: %w", failed)
		}
		return nil
	}
	for _, s := range d.Steps {
		a, is := s.Body.(*draft.Acting)
		if !is || !a.Frees() {
			continue
		}
		if err := do(ctx, m, a.Action); err != nil {
			return nil, errors.Join(err, back(context.WithoutCancel(ctx)))
		}
		done = append(done, a.Action)
	}
	return back, nil
}

// do carries out one action by a look of its own, for each changes what the next one meets.
func do(ctx context.Context, m machine.Machine, a machine.Action) error {
	v, err := m.Inventory(ctx)
	if err != nil {
		return err
	}
	return m.Do(ctx, v, a)
}
