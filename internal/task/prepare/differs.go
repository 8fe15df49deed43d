package prepare

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/refused"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
)

// difference is something that is there and not as the words say, with the command that makes it so.
type difference struct {
	what string
	next way.Step
}

// differ refuses for what differs; the first command is what leads on, for each may change the next.
func (w *road) differ(list []difference) error {
	var texts []string
	for _, d := range list {
		text := d.what
		if len(list) > 1 && !d.next.Empty() {
			text += " (" + d.next.String() + ")"
		}
		texts = append(texts, text)
	}
	err := fmt.Errorf("%s is there already, and differs: %s", w.part.Name, strings.Join(texts, "; "))
	return way.To(refused.As(refused.Exists, err), list[0].next)
}

// there says in the draft's results what is there already of what was asked for.
func (w *road) there() {
	w.Made(w.part.Name)
	w.Results(draft.RoleTable, w.disk.Name)
	w.Results(draft.RolePartition, w.part.Name)
	w.Results(draft.RoleFileSystem, w.part.Name)
}

// differs refuses where what is there is not what was asked for.
func (w *road) differs(ctx context.Context, v *inventory.Inventory) error {
	n := w.part
	c, _ := n.Content()
	if !w.maker.Makes(c) || c.State == fs.Damaged {
		return w.differ([]difference{{fmt.Sprintf("it holds %s, not %s", advice.Holds(n), w.maker.Word), way.Inspect(n.Name)}})
	}
	var list []difference
	if want, err := kind.MakerOf(w.maker).Label(w.Label); err == nil && w.Label != "" && want != c.Label {
		list = append(list, difference{fmt.Sprintf("its label is %q, not %q", c.Label, want), way.Label(n.Name, want)})
	}
	if size, asked := w.sized(); asked && size != n.Size {
		list = append(list, difference{fmt.Sprintf("it has %v, not %v", n.Size, size), way.Resize(n.Name, w.Size.Text)})
	}
	if w.Scheme != "" && w.disk.Table.Scheme != w.Scheme {
		list = append(list, difference{
			fmt.Sprintf("the table is %s, not %s", w.disk.Table.Scheme.Name(), w.Scheme.Name()),
			way.TableConvert(w.disk.Name, "--scheme", string(w.Scheme)),
		})
	}
	list = append(list, w.keptOtherwise(v)...)
	set, err := w.setOtherwise(ctx)
	if err != nil {
		return err
	}
	if list = append(list, set...); len(list) > 0 {
		return w.differ(list)
	}
	return nil
}

// setOtherwise compares the settings that were asked for with those that are there. What leaves nothing
// there, such as for whom it was made, is as good as any other.
func (w *road) setOtherwise(ctx context.Context) (list []difference, err error) {
	other, untold, err := content.Compared(ctx, w.Planner, w.part, w.Asked)
	if err != nil {
		return nil, machine.About(w.part.Name, err)
	}
	for _, o := range other {
		d := difference{fmt.Sprintf("its %s is %s, not %s", o.Key, o.Is, o.Asked), way.Settings(w.maker.Word, o.Key)}
		if o.Later {
			d.next = way.Adjust(w.part.Name, o.Key+"="+o.Asked)
		}
		list = append(list, d)
	}
	w.untold = untold
	return list, nil
}

// keptOtherwise compares what keeps it in use at each boot.
func (w *road) keptOtherwise(v *inventory.Inventory) []difference {
	u := w.keptAs(v)
	switch {
	case u == nil:
		return nil
	case u.unit && w.Record == Fstab:
		return []difference{{"a unit keeps it, not a line of fstab", way.FstabAdd("--from-unit", w.unitOf(v))}}
	case !u.unit && w.Record == Unit:
		return []difference{{fmt.Sprintf("line %d of fstab keeps it, not a unit", u.Line), way.UnitAdd("--from-fstab", way.N(u.Line))}}
	case !w.Line.asked():
		return nil
	}
	want, err := boot.Proposed(w.Planner, v, w.part, w.lineOf())
	if err != nil {
		return []difference{{fmt.Sprintf("its options cannot be what was asked for: %v", err), way.Help("prepare")}}
	}
	return w.optionsOtherwise(u, want.Options)
}

// optionsOtherwise compares the options that a line or a unit has with those that it should have.
func (w *road) optionsOtherwise(k *keeper, want []string) []difference {
	without := func(list, of []string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(o string) bool { return slices.Contains(of, o) || o == "defaults" })
	}
	more, less := without(k.Entry.Options, want), without(want, k.Entry.Options)
	var words, edit []string
	if len(more) > 0 {
		words, edit = append(words, "has "+strings.Join(more, ",")), append(edit, "--drop="+strings.Join(more, ","))
	}
	if len(less) > 0 {
		words, edit = append(words, "lacks "+strings.Join(less, ",")), append(edit, "--add="+strings.Join(less, ","))
	}
	if len(words) == 0 {
		return nil
	}
	if k.unit {
		return []difference{{"its unit " + strings.Join(words, " and "), way.UnitList()}}
	}
	return []difference{{fmt.Sprintf("line %d of fstab %s", k.Line, strings.Join(words, " and ")), way.FstabEdit(append([]string{way.N(k.Line)}, edit...)...)}}
}

// unitOf is the name of the unit that keeps it.
func (w *road) unitOf(v *inventory.Inventory) string {
	for _, l := range v.Loaded() {
		if w.swap && l.IsSwap() && len(v.Resolve(l.What())) == 1 && v.Resolve(l.What())[0].Name == w.part.Name || !w.swap && l.Where() == w.place {
			return l.Name
		}
	}
	return ""
}

// ownedOtherwise is the difference of an owner, a mode or a link.
func (w *road) ownedOtherwise() difference {
	words := []string{w.place}
	var what []string
	for _, o := range []struct{ option, name, value string }{
		{"--owner", "owner", w.Home.Owner}, {"--mode", "mode", w.Home.Mode}, {"--link", "link", w.Home.Link},
	} {
		if o.value != "" {
			words, what = append(words, o.option+"="+o.value), append(what, o.name+" "+o.value)
		}
	}
	return difference{"its top directory is not as said: " + strings.Join(what, ", "), way.Mount(words...)}
}
