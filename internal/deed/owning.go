package deed

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"

	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// owning carries changes of whose the files of a mount are. They are known only while it is
// mounted, which an earlier step may bring about: so the stroke itself looks first, keeps in
// the deed whose each was, and then begins. Both ways it changes what is as it was found, and
// leaves what somebody changed since.
type owning struct{ plain }

func (owning) read(data []byte) (draft.Body, error) { return decoded[draft.Owning](data) }

func (owning) names(s draft.Step) []string { return []string{bodyOf[*draft.Owning](s).Node} }

func (owning) touches(a, b sighted) Touch {
	one := bodyOf[*draft.Owning](a.Step)
	other, is := b.Body.(*draft.Owning)
	if is && (one.Node == other.Node || one.Where == other.Where) {
		return Under
	}
	return Apart
}

func (owning) shown(s draft.Step) Shown { return Shown{Also: s.Title} }

// keptOwners is the file of a deed that says whose the files were, of one step.
func keptOwners(dir string, step int) string {
	return filepath.Join(dir, fmt.Sprintf("owners-%d", step))
}

// wantedOwners is a copy of what the deed kept that is taken back.
func wantedOwners(dir string, step int) string {
	return filepath.Join(dir, fmt.Sprintf("wanted-%d", step))
}

// record copies what the deed to be taken back kept: that one may be forgotten meanwhile.
func (owning) record(r *recorder, s draft.Stroke) (StrokeRecord, error) {
	o := bodyOf[*draft.Owning](r.deed.Steps[s.Step])
	if o.Undoes == "" {
		return StrokeRecord{Step: s.Step}, nil
	}
	c, err := readOwners(keptOwners(filepath.Join(filepath.Dir(r.deed.dir), filepath.Base(o.Undoes)), o.Step))
	if err != nil {
		return StrokeRecord{}, err
	}
	return StrokeRecord{Step: s.Step}, writeOwners(wantedOwners(r.deed.dir, s.Step), c.Reversed())
}

func (owning) grade(draft.Step) draft.Grade { return draft.Exactly }

func (owning) carry(ctx context.Context, x *executor, number int, way Way) error {
	step := x.deed.Strokes[number].Step
	o, kept := bodyOf[*draft.Owning](x.deed.Steps[step]), keptOwners(x.deed.dir, step)
	change, err := readOwners(kept)
	begun := !errors.Is(err, fs.ErrNotExist)
	switch {
	case begun && err != nil:
		return err
	case !begun && !way.Forward: // nothing was changed yet
		return nil
	}
	return x.mounted(ctx, o, func(dir string) error {
		if !begun {
			if change, err = x.owners(ctx, o, step, dir); err != nil {
				return err
			}
			if err := writeOwners(kept, change); err != nil {
				return err
			}
		}
		if !way.Forward {
			change = change.Reversed()
		}
		left, err := change.Apply(ctx, dir, o.Below)
		if err == nil && left > 0 {
			err = x.log.line(remark, 0, fmt.Sprintf("%d files below %s are somebody else's by now, and stay theirs", left, o.Where))
		}
		return err
	})
}

// owners looks at what is to be changed, and whose it is.
func (x *executor) owners(ctx context.Context, o *draft.Owning, step int, dir string) (oscall.OwnerChange, error) {
	if o.Undoes == "" {
		c, _, err := CountOwners(ctx, o, dir)
		return c, err
	}
	wanted, err := readOwners(wantedOwners(x.deed.dir, step))
	if err != nil {
		return wanted, err
	}
	change, _, err := oscall.LookAtOwners(ctx, dir, o.Below, func(inode uint64, now oscall.Owner) oscall.Owner {
		if from, to, ok := wanted.Find(inode); ok && from == now {
			return to
		}
		return now
	})
	change.Born, change.Mode = wanted.Born, wanted.Mode
	return change, err
}

// CountOwners is the change that a step would make in what is mounted at the directory now,
// with what was met on the way.
func CountOwners(ctx context.Context, o *draft.Owning, dir string) (oscall.OwnerChange, oscall.OwnerCount, error) {
	c, n, err := oscall.LookAtOwners(ctx, dir, o.Below, func(_ uint64, now oscall.Owner) oscall.Owner {
		if o.UID != nil {
			now.UID = *o.UID
		}
		if o.GID != nil {
			now.GID = *o.GID
		}
		return now
	})
	if err != nil || o.Mode == nil {
		return c, n, err
	}
	mode, err := oscall.ModeOf(dir)
	if mode != *o.Mode {
		c.Mode = &[2]uint32{mode, *o.Mode}
	}
	return c, n, err
}

// inverse puts back whose the files were, where nobody gave them away since.
func (owning) inverse(ctx context.Context, u *Undoing, number int, s draft.Step) error {
	v, err := u.Now(ctx)
	if err != nil {
		return err
	}
	back := *bodyOf[*draft.Owning](s)
	back.Undoes, back.Step = u.Deed.ID, number
	back.Node = u.name(back.Node)
	if u.whole(v, back.Node) {
		return nil
	}
	if use, mounted := v.MountedAt(back.Where); !mounted || use.Node != back.Node {
		return &machine.Refusal{
			Rule:  machine.RuleNotMounted,
			Thing: back.Node,
			Text:  fmt.Sprintf("it is not mounted at %s, so the former owners cannot be restored", back.Where),
			Next:  way.Mount(back.Node, back.Where),
		}
	}
	u.Stage.Add("restore former owners, where unchanged since: "+back.Where, &back)
	return nil
}

// mounted calls the function with the directory at which the device is mounted. After a boot
// it may not be any more: then it is for as long as that takes.
func (x *executor) mounted(ctx context.Context, o *draft.Owning, do func(dir string) error) error {
	v, err := x.machine.Inventory(ctx)
	if err != nil {
		return err
	}
	if x.names != nil {
		if err := x.deed.is(v, x.names, o.Node); err != nil {
			return err
		}
	}
	at, err := machine.Below(x.machine.Root(), o.Where)
	if err != nil {
		return err
	}
	a := machine.Action{Verb: machine.Mount, Device: x.name(o.Node), UseArgs: machine.UseArgs{Where: o.Where}}
	for _, s := range x.deed.Steps {
		if on, is := s.Body.(*draft.Acting); is && on.Verb == machine.Mount && on.Where == o.Where {
			a = on.With(x.names)
		}
	}
	if isMounted(v, a) {
		return do(at.Full)
	}
	if err := x.give(a); err != nil {
		return err
	}
	if err := x.machine.Do(ctx, v, a); err != nil {
		return err
	}
	inverse, _ := a.Inverse()
	return errors.Join(do(at.Full), x.machine.Do(ctx, nil, inverse))
}

func isMounted(v *inventory.Inventory, a machine.Action) bool {
	use, there := v.MountedAt(a.Where)
	return there && use.Node == a.Device
}

// The kept owners are lines: what they are, a line a run, and a checksum. They are the deed's
// own, as its images are.
const ownersTag = "owners 1"

func writeOwners(path string, c oscall.OwnerChange) error {
	var out bytes.Buffer
	fmt.Fprintf(&out, "%s born %d", ownersTag, c.Born)
	if c.Mode != nil {
		fmt.Fprintf(&out, " mode %o %o", c.Mode[0], c.Mode[1])
	}
	out.WriteByte('\n')
	for _, r := range c.Runs {
		fmt.Fprintf(&out, "%d %d %d %d %d %d\n", r.First, r.Count, r.From.UID, r.From.GID, r.To.UID, r.To.GID)
	}
	fmt.Fprintf(&out, "end %08x\n", crc32.ChecksumIEEE(out.Bytes()))
	return oscall.WriteFile(path, out.Bytes(), ownFile())
}

func readOwners(path string) (c oscall.OwnerChange, err error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return c, err
	}
	torn := fmt.Errorf("%s: %w", filepath.Base(path), ErrTorn)
	at := bytes.LastIndex(data, []byte("end "))
	if at < 0 || string(data[at:]) != fmt.Sprintf("end %08x\n", crc32.ChecksumIEEE(data[:at])) {
		return c, torn
	}
	lines := bufio.NewScanner(bytes.NewReader(data[:at]))
	lines.Scan()
	var mode [2]uint32
	switch n, _ := fmt.Sscanf(lines.Text(), ownersTag+" born %d mode %o %o", &c.Born, &mode[0], &mode[1]); n {
	case 1:
	case 3:
		c.Mode = &mode
	default:
		return c, torn
	}
	for lines.Scan() {
		var r oscall.OwnerRun
		if _, err := fmt.Sscan(lines.Text(), &r.First, &r.Count, &r.From.UID, &r.From.GID, &r.To.UID, &r.To.GID); err != nil {
			return c, torn
		}
		c.Runs = append(c.Runs, r)
	}
	return c, nil
}
