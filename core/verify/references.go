package verify

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// references goes through fstab: lines that name nothing, or two devices, or
// the wrong kind, or a name that changes between boots.
func (k *look) references() []finding.Finding {
	var out []finding.Finding
	taken := map[string]int{}
	for _, l := range k.fstab.Lines {
		thing := fmt.Sprintf("%s:%d", fstab.Path, l.Number)
		if l.Err != nil {
			out = append(out, FstabSyntax.New(thing, "%v", l.Err).WithRemedy("mend the line"))
		}
		if l.Entry == nil {
			continue
		}
		out = append(out, k.reference(thing, *l.Entry)...)
		if first := taken[l.Entry.Dir]; first > 0 && !l.Entry.IsSwap() {
			out = append(out, FstabTwice.New(thing, "%s is also the mount point of line %d", l.Entry.Dir, first).WithMend("fundus fstab remove %s", k.shown(*l.Entry)))
		} else {
			taken[l.Entry.Dir] = l.Number
		}
	}
	return out
}

// Each line is judged by what its identifier means now: by nothing, by two devices, by one
// whose content is of another kind, or by a name that only holds until the next boot. A
// line with nofail or noauto does not stop a boot, so that its fault is less grave.
func (k *look) reference(thing string, e fstab.Entry) []finding.Finding {
	if !namesDevice(e.Spec) {
		return nil
	}
	var out []finding.Finding
	if there, looked := k.v.Dirs[e.Dir]; looked && !there && !e.IsSwap() {
		out = append(out, FstabNoMount.New(thing, "the mount point %s does not exist", e.Dir).WithRemedy("make the directory before it is mounted by hand"))
	}
	nodes := k.by.Resolve(e.Spec)
	switch {
	case len(nodes) == 0 && k.hidden(e.Dir):
		return out
	case len(nodes) == 0:
		f := k.withoutLine(FstabUnknown.New(thing, "%s names no device (mount point %s)", e.Spec, e.Dir), e)
		if meant := nearest(k.v, e.Dir); meant != "" {
			f.Text += fmt.Sprintf("; %s is mounted there", meant)
		}
		if e.IsSwap() && len(k.swaps) == 1 {
			f.Text += fmt.Sprintf("; the swap area is %s, which is %s", k.swaps[0].Name, steady(k.swaps))
		}
		switch {
		case e.Has("noauto"): // a card that is not plugged in
			f.Severity, f.Why, f.Mend = finding.Note, "nothing waits for it: the line is mounted only when somebody asks for it", ""
			f = f.WithRemedy("nothing needs to be done where it is plugged in now and then")
		case e.Has("nofail"):
			f.Severity, f.Why = finding.Warning, "the boot goes on without it"
		}
		return append(out, f)
	case len(nodes) > 1:
		out = append(out, FstabAmbiguous.New(thing, "%s is carried by %s and %s", e.Spec, nodes[0].Name, nodes[1].Name).
			WithRemedy("name the device by its PARTUUID"))
	}
	// Behind a fence the old content comes back: what stands there meanwhile is no reason
	// to take the line out.
	if c, ok := nodes[0].Content(); ok && !c.MountsAs(e.Type) && c.Class != fs.Fence {
		out = append(out, FstabKind.New(thing, "the line says %s, %s holds %s", e.Type, nodes[0].Name, c.Kind).WithRemedy("let the line say %s", c.MountType()))
	}
	if unstable().MatchString(e.Spec) {
		out = append(out, FstabUnstable.New(thing, "%s is a kernel name", e.Spec).WithRemedy("name it by UUID, as fundus fstab add does"))
	}
	return out
}

// hidden reports whether a device that could not be read may be the one that a line means:
// then nobody can say that the line names nothing.
func (k *look) hidden(dir string) bool {
	if u, ok := k.v.MountedAt(dir); ok {
		if n, there := k.v.Node(u.Node); there && n.Problem != "" {
			return true
		}
	}
	return slices.ContainsFunc(k.v.Nodes, func(n inventory.Node) bool {
		return n.Silent || n.Problem != "" && len(n.Contents) == 0 && n.Form != inventory.Image && n.Size > 0
	})
}

// withoutLine says that a line may go, unless the machine does not start without it.
func (k *look) withoutLine(f finding.Finding, e fstab.Entry) finding.Finding {
	if a := advice.Absent(k.v, e.Dir, k.shown(e)); a.Next != "" {
		return f.WithMend("%s", a.Next)
	}
	if e.Dir == "/" && len(k.roots) == 1 {
		return f.WithRemedy("let the line say %s, which the running root is", steady(k.roots))
	}
	return f.WithRemedy("the line is needed: let it say an identifier of today (fundus survey, fundus inspect)")
}

// shown is how the line is named to be removed: by its mount point, unless others
// have that too.
func (k *look) shown(e fstab.Entry) string {
	if e.IsSwap() || k.sameDir[e.Dir] > 1 {
		return e.Spec
	}
	return e.Dir
}

func namesDevice(spec string) bool {
	tag, _, isTag := strings.Cut(spec, "=")
	if isTag {
		switch strings.ToUpper(tag) {
		case "UUID", "LABEL", "PARTUUID", "PARTLABEL":
			return true
		}
		return false
	}
	return unstable().MatchString(spec)
}

// unstable matches names that the kernel gives in the order of discovery.
func unstable() *regexp.Regexp {
	return regexp.MustCompile(`^/dev/((sd|vd|xvd|hd)[a-z]+[0-9]*|nvme[0-9]+n[0-9]+(p[0-9]+)?|mmcblk[0-9]+(p[0-9]+)?)$`)
}
