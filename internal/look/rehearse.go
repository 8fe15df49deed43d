package look

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"fundus/core/advice"
	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// RehearsedLine is the result of one line of fstab.
type RehearsedLine struct {
	Number  int
	Spec    string
	Dir     string
	Kind    string
	Device  string
	Outcome string
	Reason  string
	Next    string // what mends it
	NoFail  bool
	Options string
	Pass    int
	Raw     string // as it stands
}

// Rehearsal is the result of the next boot.
type Rehearsal struct {
	Machine  string
	Verdict  string
	Lines    []RehearsedLine
	Findings []finding.Finding // of fstab alone
	Severity finding.Severity
}

// Rehearse works through the next boot.
func Rehearse(ctx context.Context, r machine.Reader) (*Rehearsal, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	if f := v.Files[fstab.Path]; f.Missing || f.Problem != "" {
		return nil, fmt.Errorf("%w: %s%s", ErrNoFstab, f.Problem, map[bool]string{true: "the file is missing"}[f.Missing])
	}
	return rehearsal(v, boot.Rehearse(v)), nil
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
		line := RehearsedLine{Number: l.Number, Spec: l.Spec, Dir: l.Dir, Kind: l.Kind, Device: l.Device, Outcome: string(l.Outcome), Reason: l.Reason, NoFail: l.NoFail, Options: l.Options, Pass: l.Pass, Raw: l.Raw}
		severity := finding.Severity("")
		switch l.Outcome {
		case boot.Emergency:
			severity = finding.Error
			if l.Device == "" {
				line.Next = advice.Absent(v, l.Dir, l.Dir).Next
			}
		case boot.Delay, boot.Left:
			severity = finding.Warning
		case boot.Unknown:
			if severity = finding.Note; !l.NoFail {
				severity = finding.Warning
			}
		}
		if severity.Rank() > out.Severity.Rank() || out.Severity == "" {
			out.Severity = severity
		}
		out.Lines = append(out.Lines, line)
	}
	for _, f := range verify.All(v) {
		if strings.HasPrefix(f.Thing, fstab.Path) {
			out.Findings = append(out.Findings, f)
		}
	}
	return out
}
