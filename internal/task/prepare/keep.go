package prepare

import (
	"context"
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/mount"
)

// apartFrom refuses a place that something else has: nothing is made on the disk for it.
func (w *road) apartFrom(v *inventory.Inventory) error {
	if w.place == "" {
		return nil
	}
	taken := func(by string, next way.Step) error {
		return way.To(refused.As(refused.Exists, fmt.Errorf("%s is taken: %s; choose another place", w.place, by)), next)
	}
	if use, ok := v.MountedAt(w.place); ok {
		return taken(use.Node+" is mounted there", way.Inspect(use.Node))
	}
	if other, ok := v.OtherAt(w.place); ok {
		return taken(other.Kind+" is mounted there", way.Survey())
	}
	for _, k := range keepers(v) {
		switch {
		case k.Where != w.place:
		case k.unit:
			return taken(fmt.Sprintf("a unit mounts %s there", k.What), way.UnitList())
		default:
			return taken(fmt.Sprintf("line %d of fstab mounts %s there", k.Line, k.What), way.FstabList())
		}
	}
	return nil
}

// keeper is what keeps the partition in use at each boot.
type keeper struct {
	fstab.Unit
	unit bool // a unit that people keep, and no line of fstab
}

// keptAs is what keeps the partition in use; nil where nothing does.
func (w *road) keptAs(v *inventory.Inventory) *keeper {
	by := v.Resolver()
	for _, k := range keepers(v) {
		found := by.Resolve(k.Entry.Spec)
		mine := len(found) == 1 && found[0].Name == w.part.Name
		if mine && (w.swap && k.Entry.IsSwap() || !w.swap && k.Where == w.place) {
			return &k
		}
	}
	return nil
}

// keepers are the lines of fstab, and then the units, that are of some effect.
func keepers(v *inventory.Inventory) (out []keeper) {
	for _, u := range v.Units() {
		if u.None == "" {
			out = append(out, keeper{u, false})
		}
	}
	for _, u := range v.Kept() {
		if u.None == "" {
			out = append(out, keeper{u, true})
		}
	}
	return out
}

// keep has the partition be used now and at each boot, as far as it is not.
func (w *road) keep(ctx context.Context) error {
	v, err := w.Now(ctx)
	if err != nil || w.place == "" && !w.swap || w.disk.Form == inventory.Image {
		return err
	}
	here := v.Machine.Root == ""
	if !here {
		w.Note("nothing is mounted, started or turned on: the system below %s does not run here", v.Machine.Root)
	}
	if w.place != "" {
		if at, err := w.Stage.Place(w.place); err == nil && !at.There {
			w.Facts(fs.Fact{Name: "directory", Value: w.place + " is made"})
		}
	}
	line := w.lineOf()
	byUnit := w.Record == Unit
	if kept := w.keptAs(v); kept != nil {
		byUnit = kept.unit
	}
	switch {
	case byUnit:
		_, err = w.Piece(ctx, &boot.UnitAdd{FstabAdd: line})
		if err == nil && here {
			err = w.useNow(ctx)
		}
	case !here || w.Line.Automount:
		_, err = w.Piece(ctx, &line)
	case w.swap:
		_, err = w.Piece(ctx, &mount.SwapOn{Target: w.part.Name, Options: w.Line.Options, Persist: true})
	default:
		_, err = w.Piece(ctx, &mount.Mount{Target: w.part.Name, Dir: w.place, Options: w.Line.Options, Persist: true, Line: line, Home: w.Home})
	}
	w.brief()
	if err != nil || w.place == "" {
		return err
	}
	if v, err = w.Now(ctx); err == nil {
		w.used(v)
	}
	return err
}

// useNow has what a unit keeps be used at once, where systemd was not told to start it.
func (w *road) useNow(ctx context.Context) error {
	v, err := w.Now(ctx)
	if err != nil {
		return err
	}
	kept := w.keptAs(v)
	use, mounted := v.MountedAt(w.place)
	var r task.Request
	switch {
	case kept == nil, w.swap && v.SwapsOn(w.part.Name), kept.Automount && !mounted:
		return nil
	case w.swap:
		r = &mount.SwapOn{Target: w.part.Name, Options: w.Line.Options}
	case mounted && use.Node == w.part.Name:
		r = &mount.Mount{Target: w.part.Name, Dir: w.place, Home: w.Home}
	default:
		r = &mount.Mount{Target: w.part.Name, Dir: w.place, Options: kept.Entry.Options, Home: w.Home}
	}
	_, err = w.Piece(ctx, r)
	return err
}

// used says where it is mounted.
func (w *road) used(v *inventory.Inventory) {
	if use, mounted := v.MountedAt(w.place); mounted {
		w.Facts(fs.Fact{Name: "mounted", Value: fmt.Sprintf("%s at %s", use.Node, use.Where)})
	} else if kept := w.keptAs(v); kept != nil && kept.Automount {
		w.Facts(fs.Fact{Name: "mounted", Value: "when somebody uses the place for the first time"})
	}
}
