package view

import (
	"fmt"
	"strings"
	"time"

	"fundus/core/inventory"
	"fundus/internal/machine"
)

// EventDoc is the document of a disk that came, changed or went; one a line.
type EventDoc struct {
	Head
	Time  time.Time   `json:"time"`
	Event string      `json:"event" of:"event"` // missed: some announcements were lost, look anew
	Name  string      `json:"name"`
	Nodes []DeviceDoc `json:"devices"`
}

// Watching says that it has begun, where somebody waits for something to be seen.
func (p *Printer) Watching(disks int) {
	if p.Terminal && !p.JSON && !p.Quiet {
		p.printf("%s\n", p.paint(Free, "watching "+count(disks, "disk")+"; Ctrl-C ends it"))
	}
}

// Event prints one line of what happened to a disk.
func (p *Printer) Event(at time.Time, e machine.Event) {
	code, word, state := "removed", "taken out", Free
	switch {
	case e.Lost:
		code, word, state = "missed", "some announcements were missed: run fundus survey", Changed
	case e.Came:
		code, word, state = "added", "plugged in", InUse
	case e.Changed:
		code, word, state = "changed", "changed", Changed
	}
	if p.JSON {
		v := &inventory.Inventory{Nodes: e.Nodes}
		_ = p.line(EventDoc{head("event"), at, code, e.Name, devices(v, e.Nodes, nil)}) // nobody reads any more: the next line ends it
		return
	}
	text := fmt.Sprintf("%s  %-5s  %s", at.Local().Format("15:04:05"), visible(e.Name), p.paint(state, word))
	if len(e.Nodes) > 0 {
		d := e.Nodes[0]
		text += fmt.Sprintf("  %s  %s  %s", p.size(d.Size, d.Geometry.Logical), strings.Join(hardware(d), " · "), holdings(e.Nodes))
	}
	p.printf("%s\n", text)
}

// holdings says in a few words what is on a disk.
func holdings(nodes []inventory.Node) string {
	d := nodes[0]
	switch {
	case d.Problem != "":
		return "unreadable: " + visible(d.Problem)
	case d.Table == nil:
		return summary(d)
	}
	var words []string
	for _, n := range nodes[1:] {
		words = append(words, visible(n.Name)+" "+summary(n))
	}
	return strings.TrimSpace(scheme(d) + " " + strings.Join(words, ", "))
}
