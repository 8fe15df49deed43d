package boot

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// walk says what is started, in which order, and how each ends.
func (g *graph) walk(goal *node) {
	g.startable(goal, map[*node]int{})
	g.job(goal)
	for _, name := range g.names() { // what may be pulled in is as if it were, and unsure
		if n := g.nodes[name]; n.chance != "" && !n.job {
			g.job(n)
		}
	}
	order := g.order()
	for range len(order) + 1 { // who requires without waiting learns of it in the next round
		if !g.round(order) {
			return
		}
	}
}

// startable finds out what cannot be started as it should: what is masked or not there, and all
// that requires it.
func (g *graph) startable(n *node, seen map[*node]int) bool {
	// Depth first, with the path kept: whoever is met again while still on the path closes a
	// circle, and all from there on are in it.
	const under, fine = 1, 2
	switch {
	case seen[n] > 0:
		return n.cannot == ""
	case n.masked:
		n.cannot = n.name + " is masked: nothing starts it"
	case n.absent != "":
		n.cannot = n.absent
	}
	seen[n] = under
	for _, r := range n.requires {
		if n.cannot == "" && !g.startable(r, seen) {
			n.cannot = "it requires " + r.name + ", which cannot be started"
		}
	}
	seen[n] = fine
	for _, w := range n.wants {
		g.startable(w, seen)
	}
	return n.cannot == ""
}

// none reports whether there is no such unit to start.
func (n *node) none() bool { return n.masked || n.absent != "" }

// job starts the unit and what it pulls in.
//
// Where something that it requires cannot be started, systemd goes no further when it comes to
// that: the unit itself is started all the same, what else it requires is pulled in if it comes
// before, which is chance, and what it wants is not. Seen in boots.
func (g *graph) job(n *node) {
	if n.job || n.none() {
		return
	}
	n.job = true
	if n.cannot == "" {
		for _, o := range slices.Concat(n.requires, n.wants) {
			g.job(o)
		}
		return
	}
	bad := 0
	for _, r := range n.requires {
		if r.cannot != "" {
			bad++
		}
	}
	for _, r := range n.requires {
		switch {
		case r.none(), r.name == rootUp: // which is there already
		case r.cannot != "" && bad == 1:
			g.job(r)
		case !r.job && r.chance == "":
			r.chance, r.stopped = "whether it is started is chance: "+n.name+" requires what cannot be started, and systemd goes no further then", n
		}
	}
}

// order is one in which everything comes behind what it waits for. Where units wait for each
// other in a circle, each circle is kept.
func (g *graph) order() (out []*node) {
	const under, fine = 1, 2
	at := map[*node]int{}
	var path []*node
	var visit func(n *node)
	visit = func(n *node) {
		switch {
		case at[n] == fine:
			return
		case at[n] == under:
			circle := slices.Clone(path[slices.Index(path, n):])
			for _, c := range circle {
				c.circle = circle
			}
			return
		}
		at[n] = under
		path = append(path, n)
		for _, a := range n.after {
			if a.job {
				visit(a)
			}
		}
		path = path[:len(path)-1]
		at[n] = fine
		out = append(out, n)
	}
	for _, name := range g.names() {
		if n := g.nodes[name]; n.job {
			visit(n)
		}
	}
	return out
}

// round ends each unit once, and reports whether any ended otherwise than before.
func (g *graph) round(order []*node) (changed bool) {
	for _, n := range order {
		was := n.run
		n.begin, n.state, n.why, n.from, n.remark, n.readOnly = 0, done, "", nil, "", false
		for _, a := range n.after {
			if a.job && a.end > n.begin {
				n.begin = a.end
			}
		}
		n.end = n.begin
		if !g.fails(n) {
			g.ends(n)
		}
		if n.chance != "" { // it may as well not be started
			// A unit that may as well not be started (its condition cannot be told) has two ends.
			// What happens if it is started is worked out, and doubt remembers whether that would
			// be worse.
			n.doubt = n.state != done
			n.unsure("%s", n.chance)
		}
		if n.state != was.state || n.end != was.end {
			changed = true
		}
	}
	return changed
}

// fails lets a unit fail with what it requires, at the moment when the first of those does, if
// it is not started by then; and be unsure with it.
func (g *graph) fails(n *node) bool {
	for _, r := range n.requires {
		// Requires without After starts both at once: the one is taken down with the other only
		// if it is not up by then.
		late := !slices.Contains(n.after, r) && r.end > n.begin
		switch {
		case r.state == failed && !late && (n.state != failed || r.end < n.end):
			n.state, n.end, n.from = failed, r.end, r
		case r.state == unsure && n.state == done && !late:
			n.state, n.from = unsure, r
		}
	}
	return n.state == failed
}

// ends is how a unit ends whose requirements are there.
func (g *graph) ends(n *node) {
	switch suffix := unit.Suffix(n.name); {
	case n.circle != nil:
		n.unsure("it waits in a circle, of which systemd drops one: %s", names(n.circle))
	case n.tests != "" && n.loaded.Kept() && suffix != ".service" && suffix != ".target":
		n.unsure("whether %s holds then cannot be told", n.tests)
	case suffix == ".device":
		g.m.appears(n)
	case n.state != done:
	case n.cannot != "" && suffix == ".mount":
		g.m.comes(n)
		if n.state == done {
			n.unsure("%s; it is started all the same, and may not wait for its device", n.cannot)
		}
	case n.asks != "":
		n.unsure("%s", n.asks)
	case suffix == ".mount" || suffix == ".swap":
		g.m.comes(n)
	case suffix == ".automount" && n.loaded != nil: // it needs the directory at once
		g.m.place(n, n.loaded.Where())
		n.remark = ""
	}
}

// names writes a circle from its first unit back to that.
func names(circle []*node) string {
	var words []string
	for _, n := range circle {
		words = append(words, n.name)
	}
	return strings.Join(append(words, circle[0].name), " after ")
}

// unsure and fail end a unit otherwise than well, with the reason; what it failed of before is
// forgotten, since the reason is its own.
func (n *node) unsure(format string, args ...any) {
	n.state, n.why, n.from = unsure, fmt.Sprintf(format, args...), nil
}

func (n *node) fail(format string, args ...any) {
	n.state, n.why, n.from = failed, fmt.Sprintf(format, args...), nil
}

// later adds up two spans, of which one may have no end.
func later(a, b time.Duration) time.Duration {
	// Forever is the largest span there is: a sum with it would turn negative.
	if a == fstab.Forever || b == fstab.Forever {
		return fstab.Forever
	}
	return a + b
}

// blame collects a failed unit, and those by which it has failed.
func (n *node) blame(into map[*node]bool) {
	if into[n] {
		return
	}
	into[n] = true
	for _, r := range n.requires {
		if r.state == failed && r.job {
			r.blame(into)
		}
	}
}

// holders collects the unit, and those for which it has to wait.
func (n *node) holders(into map[*node]bool) {
	if into[n] {
		return
	}
	into[n] = true
	for _, a := range n.after {
		if a.job && a.end > 0 {
			a.holders(into)
		}
	}
	for _, r := range n.requires {
		if r.job && r.state == failed {
			r.holders(into)
		}
	}
}
