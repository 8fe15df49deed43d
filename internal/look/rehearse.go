package look

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fundus/core/advice"
	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/text/fstab"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// RehearsedLine is the result of one line of fstab.
type RehearsedLine struct {
	Number  int
	File    string // of a unit, in place of the number
	Spec    string
	Dir     string
	Kind    string
	Device  string
	Outcome string
	Reason  string
	Next    string // what mends it
	NoFail  bool
	Options string
	Dump    int
	Pass    int
	Raw     string // as it stands
	Mounted string // where it is mounted now, and how that differs from the line
	Off     bool   // a comment that holds a line
}

// Rehearsal is the result of the next boot.
type Rehearsal struct {
	Machine  string
	Verdict  string
	Lines    []RehearsedLine
	Units    []RehearsedLine   // that people keep beside the lines
	Disabled []RehearsedLine   // comments that hold a line
	Findings []finding.Finding // of fstab alone
	Severity finding.Severity
}

// Rehearse works through the next boot.
func Rehearse(ctx context.Context, r machine.Reader) (*Rehearsal, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return RehearseAt(v, Seen{})
}

// Seen is a text file as it was seen before; none where Data is empty.
type Seen struct {
	At   time.Time
	Data []byte
}

// RehearseAt does so with a look that was taken, and with what was seen of the table before.
func RehearseAt(v *inventory.Inventory, seen Seen) (*Rehearsal, error) {
	f := v.Files[fstab.Path]
	if f.Missing || f.Problem != "" {
		err := fmt.Errorf("%w: %s%s", ErrNoFstab, f.Problem, map[bool]string{true: "the file is missing"}[f.Missing])
		if f.Missing && len(seen.Data) > 0 {
			return nil, advice.Way(err, "fundus fstab restore")
		}
		return nil, err
	}
	out := rehearsal(v, boot.Rehearse(v))
	if lost, is := fstab.Emptied(f.Data, seen.Data); is {
		now := len(v.Fstab().Entries())
		found := FstabEmptied.New(fstab.Path, "%d lines are left of %d that were seen on %s", now, now+lost, seen.At.UTC().Format("2006-01-02 15:04 MST")).WithMend("fundus fstab restore")
		out.Findings = slices.Insert(out.Findings, 0, found)
	}
	return out, nil
}

// ErrNoFstab says that there is nothing to rehearse.
var ErrNoFstab = errors.New("no " + fstab.Path + " that could be read")

// Rehearsed turns a report of a boot into what is shown.
func Rehearsed(ctx context.Context, r machine.Reader, report boot.Report) (*Rehearsal, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return rehearsal(v, report), nil
}

func rehearsal(v *inventory.Inventory, report boot.Report) *Rehearsal {
	out := &Rehearsal{Machine: v.Machine.String(), Verdict: string(report.Verdict)}
	for _, l := range report.Lines {
		line := RehearsedLine{Number: l.Number, File: l.File, Spec: l.Spec, Dir: l.Dir, Kind: l.Kind, Device: l.Device, Outcome: string(l.Outcome), Reason: l.Reason, NoFail: l.NoFail, Options: l.Options, Dump: l.Unit.Entry.Dump, Pass: l.Pass, Raw: l.Raw}
		severity := finding.Severity("")
		switch l.Outcome {
		case boot.Emergency:
			severity = finding.Error
			if l.Device == "" {
				line.Next = advice.Absent(v, l.Dir, l.Dir).Next
			}
		case boot.Unread:
			severity = finding.Error
		case boot.Delay, boot.Left:
			severity = finding.Warning
			if a := advice.Absent(v, l.Dir, l.Dir); l.Device == "" && strings.HasPrefix(a.Next, "fundus recover") {
				line.Next = a.Next
			}
		case boot.Unknown:
			if severity = finding.Note; !l.NoFail {
				severity = finding.Warning
			}
		}
		if severity.Rank() > out.Severity.Rank() || out.Severity == "" {
			out.Severity = severity
		}
		line.Mounted = mountedNow(v, l)
		if l.File != "" {
			line.Next = ""
			out.Units = append(out.Units, line)
			continue
		}
		out.Lines = append(out.Lines, line)
	}
	for _, l := range v.Fstab().Lines {
		if was, ok := l.Was(kind.IsMounted); ok {
			e := was.Entry
			out.Disabled = append(out.Disabled, RehearsedLine{Number: l.Number, Spec: e.Spec, Dir: e.Dir, Kind: e.Type, Options: strings.Join(e.Options, ","), Dump: e.Dump, Pass: e.Pass, Raw: l.Raw, Off: true})
		}
	}
	for _, f := range verify.All(v) {
		if strings.HasPrefix(f.Thing, fstab.Path) {
			out.Findings = append(out.Findings, f)
		}
	}
	return out
}

// mountedNow says whether what the line says is so now.
func mountedNow(v *inventory.Inventory, l boot.Line) string {
	e := l.Unit.Entry
	if l.Unit.None != "" {
		return ""
	}
	if e.IsSwap() {
		on := slices.ContainsFunc(v.UsesOf(l.Device), func(u inventory.Use) bool { return u.How == inventory.SwapOn })
		return map[bool]string{true: "in use"}[on]
	}
	u, ok := v.MountedAt(l.Unit.Where)
	switch {
	case !ok:
		return ""
	case l.Device != "" && u.Node != l.Device:
		return u.Node + " instead"
	}
	if differ := kind.Options(u.Kind).Differ(e.Options, u.Options, u.Super); len(differ) > 0 {
		return strings.Join(differ, ", ")
	}
	return "yes"
}
