package verify

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// references goes through fstab: what systemd does not read as it was meant, and lines that
// name nothing, or two devices, or the wrong kind, or a name that changes between boots.
func (k *look) references() []finding.Finding {
	var out []finding.Finding
	first := map[string]int{}
	for _, u := range k.units {
		l, _ := k.fstab.Line(u.Line)
		thing, before := fmt.Sprintf("%s:%d", fstab.Path, u.Line), len(out)
		out = append(out, k.reading(thing, l, u)...)
		switch {
		case u.None == fstab.Second:
			place := u.Where
			if u.Entry.IsSwap() {
				place = u.What
			}
			out = append(out, FstabTwice.New(thing, "%s has line %d already", place, first[place]).WithMend(way.FstabDisable(way.N(u.Line))))
		case u.None == "" && u.Entry.IsSwap():
			first[u.What] = u.Line
		case u.None == "":
			first[u.Where] = u.Line
		}
		if u.None == "" || u.None == fstab.Second {
			out = append(out, k.reference(thing, u)...)
		}
		for i := range out[before:] { // for which place the line is, whoever reads the list knows at once
			if f, place := &out[before+i], placeOf(u.Entry); !strings.Contains(f.Text, place) {
				f.Text = place + ": " + f.Text
			}
		}
	}
	return out
}

// Each line is judged by what its identifier means now: by nothing, by two devices, by one
// whose content is of another kind, or by a name that only holds until the next boot. A
// line with nofail or noauto does not stop a boot, so that its fault is less grave.
func (k *look) reference(thing string, u fstab.Unit) []finding.Finding {
	e := u.Entry
	if !namesDevice(e.Spec) {
		return nil
	}
	var out []finding.Finding
	if k.v.Blocked[u.Where] && !e.IsSwap() {
		f := FstabNoMount.New(thing, "the mount point %s is a file, and no directory", u.Where).WithRemedy("move the file away, or let the line say another place")
		f.Severity, f.Why = finding.Error, "nothing can be mounted there, and a boot that needs the line stops"
		if u.Tie != fstab.Required {
			f.Severity = finding.Warning
		}
		out = append(out, f)
	} else if there, looked := k.v.Dirs[u.Where]; looked && !there && !e.IsSwap() {
		out = append(out, FstabNoMount.New(thing, "the mount point %s does not exist", u.Where).WithRemedy("make the directory before it is mounted by hand"))
	}
	nodes := k.by.Resolve(e.Spec)
	switch {
	case len(nodes) == 0 && k.hidden(u.Where):
		return out
	case len(nodes) == 0:
		return append(out, k.namesNothing(thing, u))
	case len(nodes) > 1:
		out = append(out, FstabAmbiguous.New(thing, "%s is carried by %s and %s", e.Spec, nodes[0].Name, nodes[1].Name).
			WithRemedy("%s", apart(nodes)))
	}
	// Behind a fence the old content comes back: what stands there meanwhile is no reason
	// to take the line out.
	if c, ok := nodes[0].Content(); ok && !c.MountsAs(e.Type) && c.Class != fs.Fence {
		f := FstabKind.New(thing, "the line says %s, %s holds %s", e.Type, nodes[0].Name, c.Kind).WithMend(way.FstabEdit(way.N(u.Line), "--type="+c.MountType()))
		if u.Tie == fstab.Untied { // the boot does without it, and whoever asks for it is refused
			f.Severity = finding.Warning
		}
		out = append(out, f)
	} else if len(nodes) == 1 && c.Class != fs.Fence {
		out = append(out, k.options(thing, u, nodes[0])...)
	}
	if len(nodes) == 1 && k.pulledOut(u, nodes[0]) {
		out = append(out, FstabPulledOut.New(thing, "%s is needed at boot, and %s can be pulled out", u.Where,
			nodes[0].Name).WithMend(way.FstabEdit(way.N(u.Line), "--add=nofail")))
	}
	if unstable().MatchString(e.Spec) {
		f := FstabUnstable.New(thing, "%s is a kernel name", e.Spec)
		switch ids := nodes[0].Identifiers(); {
		case ids["UUID"] != "":
			f = f.WithMend(way.FstabEdit(way.N(u.Line), "--by=uuid"))
		case ids["PARTUUID"] != "":
			f = f.WithMend(way.FstabEdit(way.N(u.Line), "--by=partuuid"))
		default:
			f = f.WithRemedy("what is there has no identifier: give it one, or leave the line as it is")
		}
		out = append(out, f)
	}
	return out
}

// apart says how two devices of one identifier are told apart.
func apart(nodes []inventory.Node) string {
	if slices.ContainsFunc(nodes, func(n inventory.Node) bool { return n.Entry.UUID == "" }) {
		return "give the copy another identifier, or take it out"
	}
	return "name the device by its PARTUUID, or give the copy another identifier"
}

// pulledOut reports whether a boot stops where somebody has pulled the device out, which the
// machine could do without: the disk of the root itself it cannot.
func (k *look) pulledOut(u fstab.Unit, n inventory.Node) bool {
	disk, _ := k.v.Node(n.Disk())
	if u.Tie != fstab.Required || u.Automount || u.Entry.IsSwap() || !disk.Hardware.ComesAndGoes() {
		return false
	}
	root, mounted := k.v.MountedAt("/")
	on, _ := k.v.Node(root.Node)
	return u.Where != "/" && u.Where != "/usr" && !(mounted && on.Disk() == disk.Name)
}

// placeOf is what a line is for: a mount point, or swap.
func placeOf(e fstab.Entry) string {
	if e.IsSwap() {
		return "swap"
	}
	return e.Dir
}

// noDevice says that a word for a device finds none.
func noDevice(spec string) string {
	if strings.HasPrefix(spec, "/") {
		return "there is no " + spec
	}
	return "no device has " + spec
}

// namesNothing is the finding on a line whose device is not there.
func (k *look) namesNothing(thing string, u fstab.Unit) finding.Finding {
	e := u.Entry
	f := k.withoutLine(FstabUnknown.New(thing, "%s: %s", placeOf(e), noDevice(e.Spec)), u)
	if node, how := k.misspelt(e.Spec); node != "" {
		f.Text += "; " + how
		f = f.WithMend(way.FstabEdit(way.N(u.Line), "--device="+node))
	} else if again, is := k.allRemade()[refs.Normal(e.Spec)]; is {
		f = again.said(f)
	} else if meant := nearest(k.v, u.Where); meant != "" {
		f.Text += fmt.Sprintf("; %s is mounted there", meant)
	}
	if e.IsSwap() && len(k.swaps) == 1 {
		f.Text += fmt.Sprintf("; the swap area is %s, which is %s", k.swaps[0].Name, steady(k.swaps))
		if f.Mend.Is("fstab disable") && !k.inFstab(k.swaps[0]) {
			f = f.WithMend(way.FstabEdit(way.N(u.Line), "--device="+k.swaps[0].Name))
		}
	}
	switch {
	case u.Tie == fstab.Untied: // a card that is not plugged in
		f.Severity, f.Why, f.Mend = finding.Note, "nothing waits for it: the line is mounted only on request", way.None()
		f = f.WithRemedy("nothing needs to be done where it is plugged in now and then")
	case e.IsSwap():
		f.Severity, f.Why = finding.Warning, "the boot waits for the device, with nofail too"
	case u.Automount:
		f.Severity, f.Why = finding.Warning, "the boot goes on; the first access waits, and fails"
	case u.Tie == fstab.Wanted && k.outcome(u.Line) == boot.Delay:
		f.Severity, f.Why = finding.Warning, "the boot goes on without it, once it has waited"
	case u.Tie == fstab.Wanted:
		f.Severity, f.Why = finding.Warning, "the boot goes on without it"
	}
	return f
}

// inFstab reports whether a line names the device.
func (k *look) inFstab(n inventory.Node) bool {
	return slices.ContainsFunc(k.units, func(u fstab.Unit) bool {
		return slices.ContainsFunc(k.by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
	})
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
func (k *look) withoutLine(f finding.Finding, u fstab.Unit) finding.Finding {
	e := u.Entry
	if a := advice.Absent(k.v, e.Dir, k.shown(e)); !a.Next.Empty() {
		return f.WithMend(a.Next)
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
