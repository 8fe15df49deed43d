package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Jobs are several things that were done each by itself.
type Jobs struct {
	What  string // "mount"
	Draft bool   // nothing was done
	List  []Job
}

// Job is what became of one of them.
type Job struct {
	Line   int // of fstab, 0 for none
	Thing  string
	Result string // done, was so, otherwise, left out, failed or systemd's
	Reason string
}

// JobsDoc is the document of kind jobs.
type JobsDoc struct {
	Head
	What string   `json:"what"`
	Jobs []JobDoc `json:"jobs"`
}

// JobDoc is one of them.
type JobDoc struct {
	Line   int    `json:"line,omitempty"`
	Thing  string `json:"thing"`
	Result string `json:"result" of:"result"`
	Reason string `json:"reason,omitempty"`
}

// Document implements Report.
func (r Jobs) Document() any {
	d := JobsDoc{head("jobs"), r.What, []JobDoc{}}
	for _, j := range r.List {
		d.Jobs = append(d.Jobs, JobDoc{j.Line, j.Thing, jobResults()[j.Result], j.Reason})
	}
	return d
}

// Words implements Report: in the first line how many there are of each result.
func (r Jobs) Words(p *Printer) {
	if len(r.List) == 0 {
		p.printf("nothing to do: there is nothing to %s\n", r.What)
		return
	}
	said := r.results()
	var sums []string
	for _, result := range []string{"failed", "otherwise", "done", "was so", "left out", "systemd's"} {
		n := 0
		for _, j := range r.List {
			if j.Result == result {
				n++
			}
		}
		if n > 0 {
			sums = append(sums, fmt.Sprintf("%d %s", n, cmp.Or(said[result], result)))
		}
	}
	title := count(len(r.List), "place") + ": " + strings.Join(sums, ", ")
	if r.What == "swap on" || r.What == "swap off" {
		title = count(len(r.List), "area") + ": " + strings.Join(sums, ", ")
	}
	p.printf("%s\n", p.paint(Strong, title+map[bool]string{true: "; a draft, nothing was done"}[r.Draft]))
	wide := 0
	for _, j := range r.List {
		wide = max(wide, text.StringWidth(visible(j.Thing)))
	}
	for _, j := range r.List {
		line := ""
		if j.Line > 0 {
			line = fmt.Sprintf("line %d", j.Line)
		}
		state := map[string]State{"failed": Lost, "otherwise": Changed, "done": InUse}[j.Result]
		head := text.Pad(visible(j.Thing), wide+2, ' ')
		if slices.ContainsFunc(r.List, func(o Job) bool { return o.Line > 0 }) {
			head = fmt.Sprintf("%-9s", line) + head
		}
		words := p.paint(cmp.Or(state, Plain), cmp.Or(said[j.Result], j.Result))
		if j.Reason != "" {
			words += ": " + visible(j.Reason)
		}
		p.wrap(2, head, words)
	}
}

// results are the words for what became of each, of this verb.
func (r Jobs) results() map[string]string {
	done := map[string]string{"mount": "mounted", "unmount": "unmounted", "swap on": "turned on", "swap off": "turned off"}[r.What]
	was := map[string]string{"mount": "mounted already", "unmount": "not mounted", "swap on": "on already", "swap off": "off already"}[r.What]
	if r.Draft && done != "" {
		done = "would be " + done
	}
	return map[string]string{"done": done, "was so": was, "otherwise": "mounted differently", "systemd's": "left to systemd"}
}
