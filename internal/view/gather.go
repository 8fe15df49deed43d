package view

import (
	"fmt"
	"slices"
	"strconv"

	"fundus/core/way"
	"fundus/internal/act"
)

// Gathered is which files lie in more pieces than they need, or what became of them.
type Gathered struct {
	*act.Gathered
	Draft bool // nothing was done
}

// GatheredDoc is the document of kind gathered.
type GatheredDoc struct {
	Head
	Place      string            `json:"place"`
	Device     string            `json:"device"`
	All        GatheredSum       `json:"all"`
	Worth      GatheredSum       `json:"worth"`
	Worthwhile bool              `json:"worthwhile"`
	Done       GatheredSum       `json:"done"`
	Became     int               `json:"became_pieces"`
	Ended      string            `json:"ended_early,omitempty"`
	Files      []GatheredFileDoc `json:"files"`
}

// GatheredSum counts files, the pieces in which they lie, and the fewest in which they could.
type GatheredSum struct {
	Files  int `json:"files"`
	Pieces int `json:"pieces"`
	Least  int `json:"least_pieces"`
}

// GatheredFileDoc is one file.
type GatheredFileDoc struct {
	Path   string `json:"path"`
	Size   int64  `json:"size_bytes"`
	Pieces int    `json:"pieces"`
	Least  int    `json:"least_pieces"`
	After  int    `json:"after_pieces,omitempty"`
	Why    string `json:"left_why,omitempty"`
}

// Document implements Report.
func (r Gathered) Document() any {
	w := r.Worst
	d := GatheredDoc{
		head("gathered"), r.Place, r.Node, GatheredSum(w.All), GatheredSum(w.Worth), w.Worthwhile(),
		GatheredSum(r.Done), r.Became, r.Ended, []GatheredFileDoc{},
	}
	for _, f := range r.Rows {
		d.Files = append(d.Files, GatheredFileDoc{f.Path, int64(f.Size), f.Pieces, f.Least, f.After, f.Why})
	}
	return d
}

// mostRows is how many files are shown; all are in the document.
const mostRows = 12

// Words implements Report: in the first line whether it was worth it, or would be.
func (r Gathered) Words(p *Printer) {
	w := r.Worst
	p.wrap(0, "", p.paint(Strong, r.title()))
	if !r.Moves && w.Worth.Files > 0 {
		p.wrap(2, "note: ", fmt.Sprintf("%s has no parts that move: it reads short pieces nearly as fast as long ones", visible(r.Node)))
	}
	if r.Ended != "" {
		p.wrap(2, "note: ", fmt.Sprintf("%s; %s were not tried", r.Ended, count(len(w.List())-len(r.Rows), "file")))
	}
	if len(r.Rows) == 0 {
		return
	}
	p.printf("\n")
	heading := []string{">pieces", ">least", ">size", "file"}
	if !r.Draft {
		heading = []string{">pieces", ">now", ">size", "file"}
	}
	var rows [][]string
	for _, f := range r.Rows[:min(mostRows, len(r.Rows))] {
		second := strconv.Itoa(f.Least)
		if !r.Draft {
			if second = strconv.Itoa(f.After); f.After == 0 {
				second = "as it was"
			}
		}
		rows = append(rows, []string{strconv.Itoa(f.Pieces), second, f.Size.String(), visible(f.Path)})
	}
	p.columns(2, heading, rows)
	if more := len(r.Rows) - mostRows; more > 0 {
		p.printf("  and %d more; --json lists them all\n", more)
	}
	r.left(p)
	if r.Draft {
		p.printf("\nto put them together:\n")
		p.Next(way.Gather(r.Place))
	}
}

func (r Gathered) title() string {
	w := r.Worst
	found := fmt.Sprintf("%d of %s at %s are in %s and could be in %d", w.Worth.Files, count(w.All.Files, "file"),
		visible(r.Place), count(w.Worth.Pieces, "piece"), w.Worth.Least)
	switch {
	case w.Worth.Files == 0:
		return fmt.Sprintf("nothing to do: %s at %s are in %s, none of them worth joining",
			count(w.All.Files, "file"), visible(r.Place), count(w.All.Pieces, "piece"))
	case r.Draft && !w.Worthwhile():
		return "hardly worth doing: " + found
	case r.Draft:
		return found
	case r.Done.Files == 0:
		return fmt.Sprintf("nothing was joined at %s: %s are as they were", visible(r.Place), count(w.Worth.Files, "file"))
	}
	return fmt.Sprintf("put %s together at %s: %s became %d", count(r.Done.Files, "file"), visible(r.Place),
		count(r.Done.Pieces, "piece"), r.Became)
}

// left says why files are as they were, a line for each reason.
func (r Gathered) left(p *Printer) {
	files := map[string]int{}
	var order []string
	for _, f := range r.Rows {
		if f.Why == "" {
			continue
		}
		if files[f.Why]++; files[f.Why] == 1 {
			order = append(order, f.Why)
		}
	}
	slices.SortStableFunc(order, func(a, b string) int { return files[b] - files[a] })
	for _, why := range order {
		p.wrap(2, fmt.Sprintf("%s left: ", count(files[why], "file")), visible(why))
	}
	if r.Busy > 0 {
		p.printf("once those are not written any more:\n")
		p.Next(way.Gather(r.Place))
	}
}
