package content

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/refs"
	"fundus/core/refused"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Adjust gives what is on a device other settings, or another identifier, without making it
// anew.
type Adjust struct {
	Target string            `json:"target"`
	Asked  map[string]string `json:"asked"` // as they were typed; IDKey too
}

// IDKey is the identifier among the settings: one of the kind's form, or NewID.
const IDKey = "uuid"

// ErrOtherHas says that another device carries an identifier.
var ErrOtherHas = errors.New("another device carries it")

// Verb of the request.
func (*Adjust) Verb() string { return "adjust" }

// Devices implements task.About.
func (r *Adjust) Devices() []string { return []string{r.Target} }

// adjusting is what becomes of one request.
type adjusting struct {
	node   inventory.Node
	c      fs.Content
	k      kind.Kind
	maker  kind.Maker
	wishes fs.Wishes  // that change something
	id     fs.ID      // none: it stays
	before []fs.Value // of all settings
}

func (r *Adjust) Plan(ctx context.Context, p *task.Planner) error {
	h, err := held(ctx, p, r.Target, "settings")
	if err != nil {
		return err
	}
	v, n, c, k := h.v, h.n, h.c, h.k
	p.Results(draft.RoleFileSystem, n.Name)
	if k.SetID == nil || c.Class != fs.FileSystem && c.Class != fs.Swap {
		return fmt.Errorf("%s holds %s: %w: Fundus changes none of its settings", n.Name, c.Kind, kind.ErrCannot)
	}
	if c.State == fs.Asleep && !v.Imaged(n) {
		return refused.As(refused.Sleeping, fmt.Errorf("%s: a system sleeps in it, and goes on with what it knew of it: start that system, and adjust it then",
			n.Name))
	}
	a := &adjusting{node: n, c: c, k: k, maker: k.MakerLike(c.Kind)}
	if err := errors.Join(a.identify(v, r.Asked[IDKey], p), a.settings(ctx, p, r.Asked)); err != nil {
		return machine.About(n.Name, err)
	}
	p.Title("adjust %s: %s", n.Name, inWords(r.Asked))
	if len(a.wishes) == 0 && a.id == (fs.ID{}) {
		return nil
	}
	if err := a.write(ctx, p, v); err != nil {
		return machine.About(n.Name, err)
	}
	if err := a.follow(ctx, p, v); err != nil {
		return err
	}
	return a.check(ctx, p)
}

func inWords(asked map[string]string) string {
	var words []string
	for _, key := range slices.Sorted(maps.Keys(asked)) {
		words = append(words, key+"="+asked[key])
	}
	return strings.Join(words, " ")
}

// identify reads the identifier that is asked for. One that the target has already changes
// nothing, and one that another device has is refused.
func (a *adjusting) identify(v *inventory.Inventory, word string, p *task.Planner) error {
	switch word {
	case "":
		return nil
	case NewID:
		a.id = a.maker.ID.Fresh(p.Fresh())
		return nil
	}
	id, err := a.maker.ID.Parse(word)
	if err != nil {
		return fmt.Errorf("%s=%w", IDKey, err)
	}
	if id.String() == a.c.UUID {
		return nil
	}
	for _, o := range v.Resolve("UUID=" + id.String()) {
		if o.Name != a.node.Name {
			return fmt.Errorf("%s=%s: %w, %s (%s): what names it would mean either", IDKey, id, ErrOtherHas, o.Name, advice.Words(o))
		}
	}
	a.id = id
	return nil
}

// settings keeps of what is asked what is not so already, and refuses what cannot be given
// later.
func (a *adjusting) settings(ctx context.Context, p *task.Planner, asked map[string]string) (err error) {
	if a.k.Values != nil {
		if a.before, err = valuesOf(ctx, p, a.node, a.k); err != nil {
			return err
		}
	}
	a.wishes = fs.Wishes{}
	rows := a.maker.Settings()
	for _, key := range slices.Sorted(maps.Keys(asked)) {
		if key == IDKey {
			continue
		}
		i := slices.IndexFunc(rows, func(s fs.Setting) bool { return s.Key == key })
		if i < 0 {
			return fmt.Errorf("%s: %w; there is %s", key, fs.ErrNoSetting, strings.Join(a.later(), ", "))
		}
		if a.k.Adjust == nil || !rows[i].When.Later() {
			return fmt.Errorf("%s: %w; later there is %s", key, fs.ErrFixed, strings.Join(a.later(), ", "))
		}
		word, err := spelled(rows[i], asked[key])
		if err != nil {
			return err
		}
		if !slices.Contains(a.before, fs.Value{Key: key, Word: word}) {
			a.wishes[key] = fs.Wish{Word: asked[key], By: fs.ByRequest}
		}
	}
	return nil
}

// later lists the keys that can be given to what was made already.
func (a *adjusting) later() (keys []string) {
	if a.k.Adjust != nil {
		for _, s := range a.maker.Settings() {
			if s.When.Later() {
				keys = append(keys, s.Key)
			}
		}
	}
	return append(keys, IDKey)
}

// spelled is a word for a setting as it is said of what is there.
func spelled(s fs.Setting, word string) (string, error) {
	n, err := s.Parse(word)
	if err != nil || s.Form == fs.Text {
		return word, err
	}
	return s.Word(n), nil
}

// valuesOf are the settings of what is on the node.
func valuesOf(ctx context.Context, p *task.Planner, n inventory.Node, k kind.Kind) ([]fs.Value, error) {
	dev, err := p.Stage.Open(ctx, n.Disk())
	if err != nil {
		return nil, err
	}
	defer dev.Close()
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err != nil {
		return nil, err
	}
	return k.Values(part)
}

// Otherwise is a setting that is not what was asked for.
type Otherwise struct {
	Key, Is, Asked string
	Later          bool // it can be given to what was made already
}

// Compared holds settings against those of what is on the node: which are otherwise, and which leave
// nothing there by which they could be told. Errors: fs.ErrNoSetting; of words that are no value.
func Compared(ctx context.Context, p *task.Planner, n inventory.Node, asked map[string]string) (other []Otherwise, untold []string, err error) {
	c, _ := n.Content()
	k, ok := kind.Of(c)
	var now []fs.Value
	if ok && k.Values != nil {
		if now, err = valuesOf(ctx, p, n, k); err != nil {
			return nil, nil, err
		}
	}
	rows := k.MakerLike(c.Kind).Settings()
	for _, key := range slices.Sorted(maps.Keys(asked)) {
		i := slices.IndexFunc(rows, func(s fs.Setting) bool { return s.Key == key })
		if i < 0 {
			return nil, nil, fmt.Errorf("%s: %w", key, fs.ErrNoSetting)
		}
		word, err := spelled(rows[i], asked[key])
		if err != nil {
			return nil, nil, err
		}
		switch at := slices.IndexFunc(now, func(v fs.Value) bool { return v.Key == key }); {
		case at < 0:
			untold = append(untold, key)
		case now[at].Word != word:
			other = append(other, Otherwise{key, now[at].Word, word, k.Adjust != nil && rows[i].When.Later()})
		}
	}
	return other, untold, nil
}

// write has it done: by the kernel where it is mounted and the kernel has a call for that,
// else on the device.
func (a *adjusting) write(ctx context.Context, p *task.Planner, v *inventory.Inventory) error {
	if mounts := machine.Mounts(v, a.node.Name); len(mounts) > 0 {
		if len(a.wishes) > 0 || a.k.LiveID == nil || a.k.LiveID(a.c) != nil {
			return a.inUse(mounts[0])
		}
		p.Facts(fs.Fact{Name: IDKey, Value: fmt.Sprintf("%s becomes %s", cmp.Or(a.c.UUID, "none"), a.id)})
		return p.Stage.Tell(ctx, machine.Action{
			Verb:        machine.Identify,
			Device:      a.node.Name,
			ContentArgs: machine.ContentArgs{ID: a.id.String(), FormerID: a.c.UUID},
		})
	}
	err := p.Write(ctx, "write the settings", machine.Whole(a.node, machine.HoldContent), func(dev block.Device) error {
		if len(a.wishes) > 0 {
			if err := a.k.Adjust(dev, a.wishes); err != nil {
				return err
			}
		}
		if a.id == (fs.ID{}) {
			return nil
		}
		return a.k.SetID(dev, a.id)
	})
	if err != nil {
		return err
	}
	return a.changes(ctx, p)
}

// changes shows what each setting was and is.
func (a *adjusting) changes(ctx context.Context, p *task.Planner) error {
	after, err := a.before, error(nil)
	if a.k.Values != nil {
		if after, err = valuesOf(ctx, p, a.node, a.k); err != nil {
			return err
		}
	}
	was := map[string]string{}
	for _, b := range a.before {
		was[b.Key] = b.Word
	}
	for _, now := range after {
		if was[now.Key] != now.Word {
			p.Facts(fs.Fact{Name: now.Key, Value: fmt.Sprintf("%s becomes %s", cmp.Or(was[now.Key], "none"), now.Word)})
		}
	}
	if a.id != (fs.ID{}) {
		p.Facts(fs.Fact{Name: IDKey, Value: fmt.Sprintf("%s becomes %s", cmp.Or(a.c.UUID, "none"), a.id)})
	}
	if a.wishes["journal"].Word == "no" {
		p.Note("without a journal it has to be checked whole after a power cut, before it is used again")
	}
	return nil
}

// inUse refuses what would come back over ours: the kernel has the superblock in its memory,
// and writes it.
func (a *adjusting) inUse(use inventory.Use) error {
	why := "what the kernel has of the superblock in its memory would come back over it"
	if a.id != (fs.ID{}) && len(a.wishes) == 0 && a.k.LiveID != nil {
		why = a.k.LiveID(a.c).Error()
	}
	var alike []string
	for _, key := range slices.Sorted(maps.Keys(a.wishes)) {
		if a.k.Alike == nil {
			break
		}
		if option := a.k.Alike(fs.Value{Key: key, Word: a.wishes[key].Word}); option != "" {
			alike = append(alike, fmt.Sprintf("the option %s in %s does what %s says, for each mount", option, fstab.Path, key))
		}
	}
	err := refused.As(refused.InUse, fmt.Errorf("it is mounted at %s: %s", use.Where, why))
	if len(alike) > 0 {
		err = fmt.Errorf("%w; %s", err, strings.Join(alike, "; "))
	}
	if use.Where == "/" {
		return fmt.Errorf("%w; a rescue system can do it", err)
	}
	return way.To(err, way.Unmount(use.Where))
}

// follow lets every line say the new identifier, and what the content is now where that has
// another name.
func (a *adjusting) follow(ctx context.Context, p *task.Planner, v *inventory.Inventory) error {
	if a.id != (fs.ID{}) && a.c.UUID != "" {
		old := "UUID=" + a.c.UUID
		for _, ref := range refs.Named(v, old) {
			if ref.Path != fstab.Path {
				p.Note("an initramfs that was built before still says %s: rebuild it before the next boot", old)
				break
			}
		}
		if err := p.Rename(ctx, v, a.node, old, "UUID="+a.id.String()); err != nil {
			return err
		}
	}
	if _, ok := a.wishes["journal"]; !ok { // by which its kind has another name
		return nil
	}
	return retype(ctx, p, a.node)
}

// check holds the result against what was asked.
func (a *adjusting) check(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := v.Node(a.node.Name)
	c, ok := now.Content()
	want := cmp.Or(a.id.String(), a.c.UUID)
	if !ok || len(now.Contents) != len(a.node.Contents) || c.UUID != want || c.State != a.c.State || c.Label != a.c.Label {
		return fmt.Errorf("%s: the result is not what was asked for (it would hold %q); nothing was written. This is a fault of Fundus",
			now.Name, advice.Holds(now))
	}
	return nil
}
