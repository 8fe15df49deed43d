package task

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/internal/draft"
)

// What may become of lines that name what goes, or whose identifier changes.
const (
	Follow  = "follow"  // they say the new identifier
	Drop    = "drop"    // lines of fstab are taken out
	Disable = "disable" // lines of fstab become comments
	Keep    = "keep"    // they are left, and name nothing
)

// Leaving is a device that loses identifiers, with the lines that say them.
type Leaving struct {
	Node     inventory.Node
	Lines    []refs.Reference
	Decision string
	Now      func(spec string) string // what follows an identifier; nil where nothing does
}

// CheckDecision refuses a word that is none of the decisions.
func CheckDecision(word string, follow bool) error {
	words := decisions(follow)
	if word == "" || slices.Contains(words, word) {
		return nil
	}
	return fmt.Errorf("--references=%s: use %s", word, strings.Join(words, ", "))
}

func decisions(follow bool) []string {
	if follow {
		return []string{Follow, Drop, Disable, Keep}
	}
	return []string{Drop, Disable, Keep}
}

// Leave shows what names the device, and does with the lines what was decided; where nothing
// was, the decision is wanted.
func (p *Planner) Leave(ctx context.Context, v *inventory.Inventory, l Leaving) error {
	if len(l.Lines) == 0 || v.Imaged(l.Node) {
		return nil
	}
	var things []string
	for _, ref := range l.Lines {
		p.Facts(fs.Fact{Name: "named by", Value: fmt.Sprintf("%s:%d %s", ref.Path, ref.Line, strings.TrimSpace(ref.Text))})
		things = append(things, fmt.Sprintf("%s:%d", ref.Path, ref.Line))
	}
	switch l.Decision {
	case Keep:
		p.Excuse(things...)
		return nil
	case Follow:
		return p.followed(ctx, v, l)
	case Drop, Disable:
		return p.takeOut(ctx, l)
	}
	p.Excuse(things...)
	p.Want(draft.NeedReferences, l.Node.Name, "--references="+strings.Join(decisions(l.Now != nil), "|"),
		"what names %s in %s would name nothing", l.Node.Name, strings.Join(things, ", "))
	return nil
}

// followed lets the lines say the new identifiers, each in its own form.
func (p *Planner) followed(ctx context.Context, v *inventory.Inventory, l Leaving) error {
	var done []string
	for _, ref := range l.Lines {
		old := refs.Normal(ref.Spec)
		if slices.Contains(done, old) {
			continue
		}
		done = append(done, old)
		if err := p.Rename(ctx, v, l.Node, old, l.Now(old)); err != nil {
			return err
		}
	}
	return nil
}

// takeOut removes the lines of fstab, or makes comments of them, and takes back that the kernel
// resumes from there. Others are left.
func (p *Planner) takeOut(ctx context.Context, l Leaving) error {
	var lines []int
	var others []refs.Reference
	for _, ref := range l.Lines {
		if ref.Path == fstab.Path {
			lines = append(lines, ref.Line)
			continue
		}
		others = append(others, ref)
	}
	if err := p.forget(ctx, l.Node, others); err != nil || len(lines) == 0 {
		return err
	}
	f := p.FstabNow()
	slices.Sort(lines)
	act, word := f.Disable, "make a comment of"
	if l.Decision == Drop {
		act, word = f.Remove, "take out"
	}
	for _, number := range slices.Backward(lines) {
		if _, err := act(number); err != nil {
			return err
		}
	}
	return p.SetFstab(ctx, fmt.Sprintf("%s what names %s in %s", word, l.Node.Name, fstab.Path), f)
}

// forget takes back that the kernel resumes from the node. A copy in what a boot reads first
// only the system itself makes anew.
func (p *Planner) forget(ctx context.Context, n inventory.Node, list []refs.Reference) error {
	v, err := p.Now(ctx) // another part of the draft may have changed the same file
	if err != nil {
		return err
	}
	same := func(r refs.Reference) bool {
		return slices.ContainsFunc(list, func(o refs.Reference) bool { return o.Path == r.Path && o.Spec == r.Spec })
	}
	files, left := refs.Forgotten(v, slices.DeleteFunc(refs.All(v), func(r refs.Reference) bool { return !same(r) }))
	for _, f := range files {
		if err := p.setFile(fmt.Sprintf("resume from %s no more, in %s", n.Name, f.Path), f.Path, f.Data); err != nil {
			return err
		}
		if f.Writer != "" {
			p.Note("%s is written by %s", f.Path, f.Writer)
		}
	}
	if len(files) > 0 {
		p.Warn("existing initramfs images still name %s: boots will wait for it until they are rebuilt",
			n.Name)
	}
	if slices.ContainsFunc(left, func(r refs.Reference) bool { return !r.Fixed }) {
		p.Warn("lines elsewhere than in %s are left as they are", fstab.Path)
	}
	return nil
}
