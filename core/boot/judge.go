package boot

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// names are those of all units, in order.
func (g *graph) names() []string { return slices.Sorted(maps.Keys(g.nodes)) }

// accesses works out what becomes of mounts that come at the first access alone: as if nothing
// else were started.
func (g *graph) accesses() {
	for _, name := range g.names() {
		n := g.nodes[name]
		if a, ok := strings.CutSuffix(name, ".automount"); ok && n.job {
			g.access(g.node(a+".mount"), map[*node]bool{})
		}
	}
}

func (g *graph) access(n *node, seen map[*node]bool) {
	if n.job || seen[n] || n.absent != "" || n.masked {
		return
	}
	seen[n] = true
	for _, r := range n.requires {
		g.access(r, seen)
	}
	if !g.fails(n) {
		g.ends(n)
	}
}

// ofLines is what becomes of the lines of fstab.
func (j *judge) ofLines() (out []Line) {
	table := j.m.v.Fstab()
	for _, u := range j.m.lines {
		e := u.Entry
		raw, _ := table.Line(u.Line)
		dir := u.Where
		if dir == "" {
			dir = e.Dir
		}
		l := Line{
			Number:  u.Line,
			Spec:    e.Spec,
			Dir:     dir,
			Kind:    e.Type,
			NoFail:  e.NoFail(),
			Options: strings.Join(e.Options, ","),
			Pass:    e.Pass,
			Raw:     raw.Raw,
			Unit:    u,
		}
		j.line(&l)
		out = append(out, l)
	}
	return out
}

// nameOf is the unit of a line.
func nameOf(u fstab.Unit) string {
	if u.Entry.IsSwap() {
		return unit.Name(u.What, "swap")
	}
	return unit.Name(u.Where, "mount")
}

// A line of which no unit is made says why; the others are as their units are. The order is that in
// which systemd comes to decide: whether fstab is read at all, whether the line is, whether its unit
// is masked, and whether another one has taken its place.
func (j *judge) line(l *Line) {
	u := l.Unit
	switch {
	case !j.m.has("systemd-fstab-generator"), !j.m.facts.Words.On("fstab", true):
		if l.is(Unread, "this boot does not read fstab"); u.Where == "/" {
			l.Outcome = Passed
		}
		return
	case u.None == fstab.Dies, u.None == fstab.Dead, u.None == fstab.NoName, u.None == fstab.NoNeed:
		l.is(Unread, "%s", u.None)
		return
	case u.None == fstab.Second && !j.same(u):
		l.is(Unread, "%s", u.None)
		return
	case u.None != "":
		l.is(Passed, "%s", u.None)
		return
	case u.Entry.IsSwap() && !j.m.facts.Words.On("systemd.swap", true):
		l.is(Waiting, "the command line turns swap off")
		return
	}
	n := j.g.node(nameOf(u))
	switch {
	case n.masked && n.loaded != nil:
		l.is(Unread, "%s is a mask: nothing starts it", n.loaded.Path)
		return
	case n.masked:
		l.is(Unread, "the command line masks %s", n.name)
		return
	case n.loaded != nil && !ofGenerator(n.loaded):
		l.is(Passed, "%s counts in its place", n.loaded.Path)
		return
	}
	main := n
	if u.Automount {
		main = j.g.node(unit.Name(u.Where, "automount"))
	}
	j.unit(l, n, main)
}

// same reports whether the line that counts for the place mounts the same device.
func (j *judge) same(u fstab.Unit) bool {
	return slices.ContainsFunc(j.m.lines, func(o fstab.Unit) bool { return o.None == "" && o.Where == u.Where && o.What == u.What })
}

// ofUnits is what becomes of the units that people keep, as far as a boot pulls them in.
func (j *judge) ofUnits() (out []Line) {
	for _, name := range j.g.names() {
		n := j.g.nodes[name]
		suffix := unit.Suffix(name)
		if n.loaded == nil || n.masked || n.loaded.Path == "" || !ownUnit(n.loaded) || suffix != ".mount" && suffix != ".swap" {
			continue
		}
		main := n
		if a, ok := j.g.nodes[strings.TrimSuffix(name, ".mount")+".automount"]; ok && suffix == ".mount" && a.loaded != nil && !a.masked {
			main = a
		}
		if len(n.loaded.By)+len(main.loaded.By) == 0 && !n.job && !main.job {
			continue // by hand alone
		}
		e := entryOf(n.loaded)
		u := fstab.Unit{Entry: e, What: n.loaded.What(), Where: n.loaded.Where(), Automount: main != n, Tie: main.loaded.Tie()}
		l := Line{
			File:    n.loaded.Path,
			Spec:    e.Spec,
			Dir:     e.Dir,
			Kind:    e.Type,
			NoFail:  u.Tie != fstab.Required,
			Options: strings.Join(e.Options, ","),
			Unit:    u,
		}
		if slices.Contains(n.loaded.All("Unit", "Requires"), "systemd-fsck@"+unit.Name(u.What, "service")) {
			l.Pass = 2
		}
		j.unit(&l, n, main)
		out = append(out, l)
	}
	return out
}

// unit is what becomes of a mount or an area of swap, with the unit that the boot pulls in for it.
func (j *judge) unit(l *Line, n, main *node) {
	l.Device = n.device
	switch {
	case main.masked:
		l.is(Unread, "%s is masked: nothing starts it", main.name)
	case main.absent != "":
		l.is(Unread, "%s", main.absent)
	case !main.job:
		j.idle(l, main)
	case main.chance != "":
		l.is(Unknown, "whether it is mounted is chance: %s, and systemd goes no further then", j.reason(main.stopped))
	case main != n && !n.job: // with a job of its own, something in the boot waits for the mount itself
		j.accessed(l, n, main)
	case n.state == done:
		l.is(Fine, "%s", joined(n.device, n.remark))
		if l.Unit.Tie == fstab.Untied {
			l.Reason = joined(l.Reason, "noauto, and something else needs it")
		}
	case n.state == failed:
		j.lost(l, n)
	case l.Unit.Entry.Network() && n.device == "" && !fstab.IsNode(l.Unit.What):
		l.is(Remote, "the boot does not depend on it")
	default:
		l.is(Unknown, "%s", j.why(n))
	}
}

// idle is a unit that this boot does not start: nobody asks for it, or whoever does is not started
// either. A target that goes without what it wants drops all of it, which is no noauto.
func (j *judge) idle(l *Line, main *node) {
	l.is(Waiting, "noauto: mounted only when asked for")
	for _, by := range main.loaded.By {
		t := j.g.node(by.Target)
		if t.job && t.cannot != "" || t.none() {
			l.is(Unread, "%s goes without what it wants: %s", t.name, j.reason(t))
			return
		}
		l.is(Waiting, "%s, which asks for it, is not started by this boot", t.name)
	}
}

// reason says why a unit cannot be started as it should, down to what it comes of.
func (j *judge) reason(n *node) string { return j.reasonAt(n, 0) }

// reasonAt ends in a circle too: no way without one is longer than there are units.
func (j *judge) reasonAt(n *node, depth int) string {
	if n.none() {
		return n.cannot
	}
	for _, r := range n.requires {
		switch at := ""; {
		case r.cannot == "" || depth > len(j.g.nodes):
			continue
		case r.none():
			if r.line > 0 {
				at = fmt.Sprintf(" (line %d)", r.line)
			}
			return n.name + " requires " + r.name + at + ": " + strings.TrimPrefix(r.cannot, r.name+" ")
		default:
			return j.reasonAt(r, depth+1)
		}
	}
	return n.cannot
}

// accessed is a mount behind an automount: the boot goes on whatever becomes of it.
func (j *judge) accessed(l *Line, n, main *node) {
	switch {
	case main.state == failed:
		j.lost(l, main)
	case n.state == done:
		l.is(Fine, "%s, at the first access", joined(n.device, n.remark))
	case n.state == unsure:
		l.is(Unknown, "%s", j.why(n))
	case n.end > 0:
		l.is(Left, "%s; the boot goes on, the first access %s and fails", j.why(n), waits(n))
	default:
		l.is(Left, "%s; the boot goes on, the first access fails", j.why(n))
	}
}

// waits is for how long a unit is waited for, in words.
func waits(n *node) string { return "waits " + Seconds(n.end) }

// lost is a unit that fails. What comes of that is not said by the unit: those that are to blame for
// an emergency shell, and those that hold the boot up, were found by the walk.
func (j *judge) lost(l *Line, n *node) {
	l.Wait = n.end
	why := j.why(n)
	needed := l.Unit.Tie == fstab.Required && !l.Unit.Entry.IsSwap() // swap.target goes on without an area
	switch {
	case j.blamed[n] && n.end > 0 && j.leaf(n):
		l.is(Emergency, "%s; the boot %s", why, waits(n))
	case j.blamed[n] && l.NoFail:
		l.is(Emergency, "%s; nofail does not help: %s needs it", why, j.needer(n))
	case j.blamed[n]:
		l.is(Emergency, "%s", why)
	case j.holding[n] && n.end > 0 && l.Unit.Entry.IsSwap() && l.NoFail:
		l.is(Delay, "%s; the boot %s, for swap with nofail too", why, waits(n))
	case j.holding[n] && n.end > 0:
		l.is(Delay, "%s; the boot %s", why, waits(n))
	case needed:
		l.is(Left, "%s; the boot goes on without it", why)
	default:
		l.is(Left, "%s", why)
	}
}

// chain is the unit and those by which it fails, down to the first; in a circle each stands once.
func (n *node) chain() (out []*node) {
	for ; n != nil && !slices.Contains(out, n); n = n.from {
		out = append(out, n)
	}
	return out
}

// leaf reports whether the unit fails by itself or by its device, and not by another mount.
func (j *judge) leaf(n *node) bool {
	return !slices.ContainsFunc(n.chain()[1:], func(o *node) bool { return unit.Suffix(o.name) == ".mount" })
}

// needer is what requires a failed unit, and has to come.
func (j *judge) needer(n *node) string {
	for _, name := range j.g.names() {
		o := j.g.nodes[name]
		if j.blamed[o] && o != n && slices.Contains(o.requires, n) {
			return j.place(o)
		}
	}
	return "another unit"
}

// why says in words by what a unit fails, or is not known.
func (j *judge) why(n *node) string {
	chain := n.chain()
	for i, at := range chain {
		if at.why != "" || i+1 == len(chain) {
			return at.why
		}
		from := chain[i+1]
		if unit.Suffix(from.name) != ".mount" || at.loaded == nil || from.loaded == nil {
			continue
		}
		word := "it needs "
		if strings.HasPrefix(at.loaded.Where(), strings.TrimSuffix(from.loaded.Where(), "/")+"/") {
			word = "it is below "
		}
		if from.state == unsure {
			return word + from.loaded.Where() + ": " + chain[len(chain)-1].why
		}
		return word + j.place(from) + ", which is not mounted"
	}
	return ""
}

// place is a unit as people know it: its mount point with the line or file.
func (j *judge) place(n *node) string {
	where := n.name
	if n.loaded != nil && n.loaded.Where() != "" {
		where = n.loaded.Where()
	}
	switch {
	case n.line > 0:
		return fmt.Sprintf("%s (line %d)", where, n.line)
	case n.loaded != nil && n.loaded.Path != "" && ownUnit(n.loaded):
		return fmt.Sprintf("%s (%s)", where, n.loaded.Path)
	}
	return where
}
