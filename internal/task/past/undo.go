package past

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/units"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
)

// Undo takes a finished deed back: it restores the bytes and files from before,
// unless somebody wrote there since.
type Undo struct {
	Deed string `json:"deed,omitempty"` // default: the newest
	Over bool   `json:"over,omitempty"` // also where something was written since
	// Image is the image file that stands for the deed's, which was renamed or copied.
	Image string `json:"image,omitempty"`
}

// Verb of the request.
func (*Undo) Verb() string { return "undo" }

func (r *Undo) Plan(ctx context.Context, p *task.Planner) error {
	d, err := p.Store.Find(r.Deed)
	if err != nil {
		return err
	}
	all, err := p.Store.List()
	if err != nil {
		return err
	}
	if err := deed.NoWay(all, d); err != nil {
		return err
	}
	if p.Draft.Request, err = task.Encode(&Undo{Deed: d.ID, Over: r.Over, Image: r.Image}); err != nil {
		return err
	}
	p.Undoes = d.ID
	p.Title("undo deed %s: %s", d.ID, d.Title)
	former, err := d.OpenFormer()
	if err != nil {
		return err
	}
	defer former.Close()
	u := &deed.Undoing{Planner: p, Stage: p.Stage, Deed: d, Former: former, Over: r.Over}
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if d.Devices, err = d.Standing(v, r.Image); err != nil {
		return err
	}
	p.Draft.Frees = d.Undo == draft.ByName
	if u.Names, err = deed.Names(v, d.Devices); err != nil {
		return err
	}
	if err = d.InRoot(v.Machine.Root); err != nil {
		return err
	}
	for i := range slices.Backward(d.Steps) {
		if err := u.Inverse(ctx, i); err != nil {
			return err
		}
	}
	for _, t := range d.Written() {
		if err := p.Stage.TellKernel(ctx, u.Names[t.Name]); err != nil {
			return err
		}
	}
	if err := p.Stage.Tell(ctx, u.Later...); err != nil {
		return err
	}
	p.Excuse(d.Errors...)
	p.Draft.Losses = append(p.Draft.Losses, u.Losses...)
	if err := losses(ctx, p, u, v); err != nil {
		return err
	}
	if slices.ContainsFunc(d.Steps, readBySystemd) {
		if err := p.Reload(ctx); err != nil {
			return err
		}
	}
	if err := p.Stage.Tell(ctx, u.Starts...); err != nil {
		return err
	}
	if err := stands(ctx, p, v, slices.Sorted(maps.Values(u.Names))); err != nil {
		return err
	}
	for _, s := range p.Stage.Steps() { // what no table and no text file shows
		if also := deed.ShownOf(s).Also; also != "" {
			p.Facts(fs.Fact{Name: "also", Value: also})
		}
	}
	return nil
}

// readBySystemd reports whether the step changes what systemd has to read again.
func readBySystemd(s draft.Step) bool {
	path := deed.ShownOf(s).Path
	return path == fstab.Path || strings.HasPrefix(path, units.Dirs()[0]+"/")
}

// stands says what is on the devices afterwards, of each disk those of its devices that become
// otherwise; where none does, the disk.
func stands(ctx context.Context, p *task.Planner, before *inventory.Inventory, disks []string) error {
	after, err := p.Now(ctx)
	if err != nil {
		return err
	}
	for _, disk := range disks {
		changed := false
		for _, n := range after.Family(disk) {
			was, _ := before.Node(n.Name)
			if !reflect.DeepEqual(was.Contents, n.Contents) || !reflect.DeepEqual(was.Table, n.Table) || was.Entry != n.Entry {
				p.Stands(n.Name)
				changed = true
			}
		}
		if !changed {
			p.Stands(disk)
		}
	}
	return nil
}

// losses names what goes out of sight though the deed did not make it: file systems that a
// table which was rebuilt had brought back are lost again with the table of before.
func losses(ctx context.Context, p *task.Planner, u *deed.Undoing, before *inventory.Inventory) error {
	after, err := p.Now(ctx)
	if err != nil {
		return err
	}
	for _, d := range u.Deed.Written() {
		disk := u.Names[d.Name]
		for _, n := range before.Family(disk) {
			c, ok := n.Content()
			if !ok || c.Class == fs.Fence || u.Former.Wrote(d.Name, int64(n.Start)+signature(c)) {
				continue
			}
			stays := slices.ContainsFunc(after.Family(disk), func(o inventory.Node) bool {
				return o.Start == n.Start && slices.ContainsFunc(o.Contents, func(x fs.Content) bool {
					return x.Kind == c.Kind && (x.UUID == c.UUID || x.Label == c.Label && x.Size == c.Size)
				})
			})
			if loss, err := p.LossOf(ctx, n); err != nil {
				return err
			} else if !stays && loss != nil {
				p.Draft.Losses = append(p.Draft.Losses, *loss)
			}
		}
	}
	return nil
}

// signature is a byte that what holds the content is known by, from its beginning.
func signature(c fs.Content) int64 {
	if len(c.Signatures) == 0 {
		return 0
	}
	return int64(c.Signatures[0].Start)
}
