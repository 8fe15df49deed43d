package draft

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/verify"
	"fundus/core/way"
)

// NeedID says what a need is about.
type NeedID string

// What drafts need.
const (
	NeedLoss       NeedID = "loss"       // what is destroyed is to be named
	NeedReferences NeedID = "references" // what becomes of lines that name it; the option has choices
	NeedFinding    NeedID = "finding"    // an error in the result is to be accepted
)

// NeedIDs lists them all.
func NeedIDs() []NeedID { return []NeedID{NeedLoss, NeedReferences, NeedFinding} }

// Need is an option that a draft cannot be committed without.
type Need struct {
	ID     NeedID
	Option string // "--lose=herbarium"
	Device string // that it is about
	Why    string // "destroys sdb1 (ext4 herbarium, 20.0 GiB)"
}

// Typed is the option as a shell takes it: a label may have blanks and worse.
func (n Need) Typed() string {
	name, value, ok := strings.Cut(n.Option, "=")
	if !ok || n.ID != NeedLoss { // choices stand for themselves
		return n.Option
	}
	return name + "=" + way.Quoted(value)
}

// Given is what was said on the command line.
type Given struct {
	Lose    []string // names of what may be destroyed
	Despite []string // findings that are accepted
}

// NeedError lists all that is needed at once.
type NeedError struct{ Needs []Need }

func (e *NeedError) Error() string {
	var whys, options []string
	for _, n := range e.Needs {
		if !slices.Contains(whys, n.Why) {
			whys = append(whys, n.Why)
		}
		if !slices.Contains(options, n.Typed()) {
			options = append(options, n.Typed())
		}
	}
	return strings.Join(whys, "; ") + "; needed to go ahead: " + strings.Join(options, " ")
}

// WrongError is a name that is none of what is lost.
type WrongError struct {
	Names  []string
	Losses []Loss
}

func (e *WrongError) Error() string {
	text := fmt.Sprintf("--lose=%s names nothing that is lost", strings.Join(e.Names, " --lose="))
	if len(e.Losses) == 0 {
		return text + ": nothing is"
	}
	var names []string
	for _, l := range e.Losses {
		names = append(names, l.Name)
	}
	return text + "; what is: " + strings.Join(names, ", ")
}

// HopelessError is a result that nobody can want.
type HopelessError struct{ Finding finding.Finding }

func (e *HopelessError) Error() string {
	return fmt.Sprintf("afterwards %s would have an error that nothing makes good: %s", e.Finding.Thing, e.Finding.Text)
}

// Open holds what was given against what the draft needs, and lists what is still open:
// losses, decisions, and new errors. Errors: WrongError for a name that is none of what is
// lost, HopelessError for a result that cannot be accepted.
func (d *Draft) Open(g Given) ([]Need, error) {
	needs, err := d.unnamed(g.Lose)
	if err != nil {
		return nil, err
	}
	needs = append(needs, d.Wants...)
	for _, f := range finding.AtLeast(d.Findings, finding.Error) {
		switch {
		case !acceptable(f):
			return nil, &HopelessError{f}
		case slices.Contains(d.Excused, f.Thing) || slices.Contains(d.Excused, f.Key()), slices.Contains(g.Despite, string(f.ID)):
			continue
		}
		needs = append(needs, Need{
			NeedFinding, "--despite=" + string(f.ID), f.Thing,
			fmt.Sprintf("afterwards %s would have an error: %s", f.Thing, f.Text),
		})
	}
	return needs, nil
}

// unnamed lists the losses that no name was given for: one name for each loss.
func (d *Draft) unnamed(names []string) (needs []Need, err error) {
	used := make([]bool, len(names))
	for _, loss := range d.Losses {
		i := slices.IndexFunc(names, func(n string) bool { return n == loss.Name || slices.Contains(loss.Accept, n) && n != "" })
		if i < 0 {
			needs = append(needs, Need{
				NeedLoss, "--lose=" + loss.Name, loss.Node, fmt.Sprintf("this destroys %s (%s)", loss.Node, loss.What),
			})
			continue
		}
		used[i] = true
	}
	var wrong []string
	for i, n := range names {
		if !used[i] {
			wrong = append(wrong, n)
		}
	}
	if len(wrong) > 0 {
		return nil, &WrongError{wrong, d.Losses}
	}
	return needs, nil
}

// acceptable reports whether a new error can be meant. A file system that reaches past
// its device never is: the kernel may be using what would be cut off.
func acceptable(f finding.Finding) bool { return f.ID != verify.ContentTooLarge.ID }
