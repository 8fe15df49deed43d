package prepare

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/mount"
)

// Prepare makes a disk ready for a use, from its table to the mount at each boot.
type Prepare struct {
	Disk   string            `json:"disk"`
	As     string            `json:"as"`              // kind of the contents
	Asked  map[string]string `json:"asked,omitempty"` // settings of the kind, as they were typed; no size
	Label  string            `json:"label,omitempty"` // default: the last part of the mount point, where that fits
	Mount  string            `json:"mount,omitempty"` // mount point; none: no line, and no mount
	Home   mount.Home        `json:"home,omitzero"`
	Size   quantity.Size     `json:"size,omitzero"`    // of the partition; none: all of the gap
	Scheme table.Scheme      `json:"scheme,omitempty"` // none: of the empty table that is there, else GPT
	Record Record            `json:"record,omitempty"`
	Line   Line              `json:"line,omitzero"`
	InRoom bool              `json:"in_free_room,omitempty"` // beside the partitions that are there
}

// Line is how the place is used at each boot.
type Line struct {
	Options   []string `json:"options,omitempty"`
	Needed    bool     `json:"needed,omitempty"`
	Automount bool     `json:"automount,omitempty"`
	Idle      string   `json:"idle,omitempty"`
}

// asked reports whether anything was said of it.
func (l Line) asked() bool { return len(l.Options) > 0 || l.Needed || l.Automount || l.Idle != "" }

// Record is what keeps the use for each boot.
type Record string

// The records. Without a word it is fstab, or the unit that is there.
const (
	Fstab Record = "fstab"
	Unit  Record = "unit"
)

// Verb of the request.
func (*Prepare) Verb() string { return "prepare" }

// Devices implements task.About.
func (r *Prepare) Devices() []string { return []string{r.Disk} }

// road is a request that is being planned.
type road struct {
	*Prepare
	*task.Planner
	disk    inventory.Node
	maker   kind.Maker
	swap    bool
	place   string // the mount point as it is written, "" for none
	label   string
	derived bool           // nobody typed the label
	part    inventory.Node // as soon as there is one
	untold  []string       // settings that left nothing on it by which they could be compared
}

func (r *Prepare) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	m, err := kind.FindMaker(r.As)
	if err != nil {
		return err
	}
	w := &road{Prepare: r, Planner: p, disk: n, maker: m, swap: m.Word == fstab.Swap}
	if err := w.check(v); err != nil {
		return err
	}
	if r.Mount != "" {
		at, err := p.Stage.Place(path.Clean(r.Mount))
		if err != nil {
			return err
		}
		w.place = at.Path
	}
	if err := w.named(v); err != nil {
		return err
	}
	w.title()
	found, state := w.find(v)
	if state != finished || !w.usedAt(v, found) {
		if err := w.apartFrom(v); err != nil {
			return err
		}
	}
	if state == finished {
		w.part = found
		return w.goOn(ctx, v)
	}
	if err := w.room(ctx, v, found, state); err != nil {
		return err
	}
	if err := w.fill(ctx); err != nil {
		return err
	}
	return w.keep(ctx)
}

// brief leaves out of the first page why the line names its device as it does: for what was just made
// it is always the same.
func (w *road) brief() {
	part := w.Current()
	part.Facts = slices.DeleteFunc(part.Facts, func(f fs.Fact) bool {
		if f.Name == "named by" {
			part.Details = append(part.Details, f)
		}
		return f.Name == "named by"
	})
}

// title says what it is about.
func (w *road) title() {
	what := fmt.Sprintf("prepare %s", w.disk.Name)
	if w.place != "" {
		what += " for " + w.place
	}
	w.Title("%s, as %s", what, w.maker.Word)
}

// check holds the words against each other, and against what the disk is, before anything is planned.
func (w *road) check(v *inventory.Inventory) error {
	wrong := func(format string, args ...any) error {
		return way.To(refused.As(refused.SettingWrong, fmt.Errorf(format, args...)), way.Help("prepare"))
	}
	root := v.Machine.Root != ""
	switch {
	case w.Asked["size"] != "":
		return wrong("size=%s: --size says how large the partition is, and the contents fill it", w.Asked["size"])
	case w.Record != "" && w.Record != Fstab && w.Record != Unit:
		return wrong("--record=%s: use fstab or unit", w.Record)
	case w.Scheme != "" && w.Scheme != table.GPT && w.Scheme != table.MBR:
		return wrong("--scheme=%s: use gpt or mbr", w.Scheme)
	case w.Mount != "" && !strings.HasPrefix(w.Mount, "/"):
		return wrong("mount point %q: write it from the root: /%s", w.Mount, strings.TrimLeft(w.Mount, "./"))
	case w.Mount != "" && path.Clean(w.Mount) == "/":
		return wrong("--mount=/: the root is mounted already, and stays where it is")
	case w.swap && (w.disk.Hardware.Removable || w.disk.Hardware.HotPlug):
		return wrong("%s can be pulled out: swap that is on at each boot would hold up every boot without it", w.disk.Name)
	case w.swap && w.Mount != "":
		return wrong("--mount=%s: a swap area has no mount point", w.Mount)
	case w.swap && w.Home != (mount.Home{}):
		return wrong("--owner, --mode and --link are about a file system, and swap is none")
	case w.disk.Form == inventory.Image && w.Mount != "":
		return wrong("--mount=%s: %s is an image: it gets a table, a partition and a file system alone", w.Mount, w.disk.Name)
	case w.Mount == "" && !w.swap && (w.Home != (mount.Home{}) || w.Record != "" || w.Line.asked()):
		return wrong("--owner, --mode, --link, --record, --options, --needed, --automount and --idle are about a mount: say --mount")
	case w.disk.Form == inventory.Image && (w.Record != "" || w.Line.asked()):
		return wrong("--record and the options of a line: %s is an image, which no boot uses", w.disk.Name)
	case w.Line.Automount && w.Home != (mount.Home{}):
		return wrong("--owner, --mode and --link with --automount: nothing is mounted until the place is used; set them then")
	case w.Line.Idle != "" && !w.Line.Automount:
		return wrong("--idle=%s is about --automount", w.Line.Idle)
	case root && w.Home != (mount.Home{}):
		return wrong("--owner, --mode and --link with --root: nothing is mounted there; set them once that system runs")
	case w.InRoom && w.Label == "" && w.Mount == "" && !w.swap:
		return wrong("--in-free-room: say --label or --mount, by which the partition is known when the command is run again")
	}
	return nil
}

// named decides on the label.
func (w *road) named(v *inventory.Inventory) error {
	m := kind.MakerOf(w.maker)
	if w.label = w.Label; w.label == "" && w.place != "" {
		w.label, w.derived = path.Base(w.place), true
	}
	label, err := m.Label(w.label)
	switch {
	case err != nil && !w.derived:
		return err
	case err != nil:
		w.label = ""
		return nil
	}
	for _, o := range v.Resolve("LABEL=" + label) {
		if w.derived && o.Disk() != w.disk.Name {
			w.Note("it gets no label: %s has the label %s", o.Name, label)
			label = ""
			break
		}
	}
	w.label = label
	return nil
}

// goOn is Plan where what was asked for lies on the disk already: what differs is refused, and what is
// not there yet is added.
func (w *road) goOn(ctx context.Context, v *inventory.Inventory) error {
	w.there()
	if err := w.differs(ctx, v); err != nil {
		return err
	}
	kept := w.keptAs(v) != nil
	steps := len(w.Stage.Steps())
	if err := w.keep(ctx); err != nil {
		return err
	}
	_, mounted := v.MountedAt(w.place)
	if kept && mounted && w.Home != (mount.Home{}) && len(w.Stage.Steps()) > steps {
		return w.differ([]difference{w.ownedOtherwise()})
	}
	if len(w.Stage.Steps()) == 0 {
		switch {
		case w.place != "":
			w.Note("%s is there as asked, on %s", w.place, w.part.Name)
		case w.swap:
			w.Note("%s is swapped on, now and at each boot", w.part.Name)
		default:
			w.Note("%s holds %s, as asked", w.part.Name, advice.Holds(w.part))
		}
	}
	if len(w.untold) > 0 {
		w.Note("not compared: %s, of which nothing stands on %s", strings.Join(w.untold, ", "), w.part.Name)
	}
	return nil
}

// lineOf is the request for a line of fstab.
func (w *road) lineOf() boot.FstabAdd {
	dir := w.place
	if w.swap {
		dir = fstab.Swap
	}
	return boot.FstabAdd{
		Target:    w.part.Name,
		Dir:       dir,
		Options:   w.Line.Options,
		Needed:    w.Line.Needed,
		Automount: w.Line.Automount,
		Idle:      w.Line.Idle,
	}
}

// firmware reports whether it is to hold what the firmware starts.
func (w *road) firmware() bool {
	return w.Asked["for"] == "efi" // a word that FAT alone takes
}
