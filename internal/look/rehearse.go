package look

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"fundus/core/advice"
	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/target"
	"fundus/core/text/bootcfg"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/verify"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
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
	Next    way.Step // what mends it
	NoFail  bool
	Options string
	Dump    int
	Pass    int
	Raw     string        // as it stands
	Wait    time.Duration // for which the boot is held up
	First   bool          // the verdict comes of it
	Rank    int           // of the outcome: a worse one has a higher one
	Mounted string        // where it is mounted now, and how that differs from the line
	Off     bool          // a comment that holds a line
	Swap    bool
}

// Rehearsal is the result of the next boot.
type Rehearsal struct {
	Machine    string
	Asked      bool     // for one line alone
	Supposed   []string // what was supposed, in words: a disk that is gone, another table
	Verdict    string
	Sentence   string // the verdict in words, with numbers
	Why        string
	Delay      time.Duration
	Root       string // in words
	RootOn     string // the device
	Lines      []RehearsedLine
	Units      []RehearsedLine   // that people keep beside the lines
	Disabled   []RehearsedLine   // comments that hold a line
	Notes      []string          // what goes along with the boot
	Unforeseen []string          // generators of units that are not modelled
	Findings   []finding.Finding // of fstab alone
	Severity   finding.Severity
}

// Supposing is a boot under other circumstances than today's.
type Supposing struct {
	Fstab    []byte   // in place of the machine's; nil for that
	Named    string   // where it is from
	Entry    string   // of the boot menu
	NoInitrd bool     // without an initial file system
	Absent   []string // disks
	Shuffled bool     // the kernel finds the disks in another order
	Seed     uint64   // which
	Only     string   // the one line that is asked for
}

// Errors of what is supposed.
var (
	ErrNoFstab = errors.New("no " + fstab.Path + " that could be read")
	ErrNoEntry = errors.New("no such entry in a boot menu")
	ErrNoLine  = errors.New("no line of fstab and no unit is about it")
)

// Rehearse works through the next boot.
func Rehearse(ctx context.Context, r machine.Reader, s Supposing) (*Rehearsal, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	var supposed []string
	if s.Fstab != nil {
		v = boot.WithFstab(v, s.Fstab)
		if err := files.LookAtPlaces(v, r); err != nil {
			return nil, err
		}
		supposed = append(supposed, map[bool]string{true: "with the table from standard input", false: "with " + s.Named}[s.Named == "-"])
	} else if v.Files[fstab.Path].Missing { // a machine boots all the same
		supposed = append(supposed, "without a "+fstab.Path+", which is missing: fundus fstab restore knows former ones")
	} else if err := readable(v); err != nil {
		return nil, err
	}
	for _, word := range s.Absent {
		n, err := target.Look(v, word)
		if err != nil {
			return nil, err
		}
		v = boot.Absent(v, n.Disk())
		supposed = append(supposed, "without "+n.Disk())
	}
	start, err := s.start(v)
	if err != nil {
		return nil, err
	}
	if s.Entry != "" {
		supposed = append(supposed, start.From)
	}
	if s.NoInitrd {
		supposed = append(supposed, "without an initial file system")
	}
	report := boot.RehearseFrom(v, start)
	if s.Shuffled {
		other, names := boot.Shuffled(v, s.Seed)
		report = shuffled(v, report, boot.RehearseFrom(other, start), names)
		supposed = append(supposed, "with the names of disks shuffled"+renames(names))
	}
	whole := report.String()
	if err := s.only(v, &report); err != nil {
		return nil, err
	}
	out := rehearsal(v, report, verify.All(v))
	out.Sentence, out.Asked = whole, s.Only != ""
	if out.Supposed = supposed; s.Only != "" { // it is the line that is asked for
		out.Severity = severityOf("", report.Lines)
	}
	return out, nil
}

// start is how the boot starts that is supposed.
func (s Supposing) start(v *inventory.Inventory) (boot.Start, error) {
	start := boot.Next(v)
	if s.Entry != "" {
		list := boot.Entries(v)
		at := slices.IndexFunc(list, func(e bootcfg.Entry) bool { return e.ID() == s.Entry || e.Title == s.Entry })
		if at < 0 {
			return start, fmt.Errorf("%s: %w%s", s.Entry, ErrNoEntry, offered(list))
		}
		start = boot.ByEntry(list[at])
	}
	if s.NoInitrd {
		start.Initrd = boot.No
	}
	return start, nil
}

func offered(list []bootcfg.Entry) string {
	if len(list) == 0 {
		return ": none of the menus that are known was found"
	}
	var titles []string
	for _, e := range list {
		titles = append(titles, strconv.Quote(e.Title))
	}
	return "; there are " + strings.Join(titles, ", ")
}

// renames says which disk is called how.
func renames(names map[string]string) string {
	if len(names) == 0 {
		return ": there are no two of one kind"
	}
	var words []string
	for _, from := range slices.SortedFunc(maps.Keys(names), inventory.Natural) {
		words = append(words, from+" is "+names[from])
	}
	return ": " + strings.Join(words, ", ")
}

// shuffled marks the lines that mean another device than before. Devices are called as they are
// today, with what they are called then.
func shuffled(v *inventory.Inventory, was, is boot.Report, names map[string]string) boot.Report {
	today := map[string]string{}
	for _, d := range v.Disks() {
		for _, n := range v.Family(d.Name) {
			if to, changed := names[n.Disk()]; changed {
				today[to+strings.TrimPrefix(n.Name, n.Disk())] = n.Name
			}
		}
	}
	for i := range is.Lines {
		l, old := &is.Lines[i], was.Lines[min(i, len(was.Lines)-1)]
		now, called := today[l.Device]
		if !called {
			continue
		}
		if rest, is := strings.CutPrefix(l.Reason, l.Device); is {
			l.Reason = fmt.Sprintf("%s, called %s then%s", now, l.Device, rest)
		}
		if l.Device = now; now != old.Device && old.Device != "" {
			l.Reason += fmt.Sprintf("; %s means %s today", l.Spec, old.Device)
			l.Outcome = worse(l.Outcome, boot.Unknown)
		}
	}
	if is.Verdict == boot.ComesUp && slices.ContainsFunc(is.Lines, func(l boot.Line) bool { return l.Outcome == boot.Unknown }) {
		is.Verdict, is.Why = boot.Untold, "lines mean other devices than today"
	}
	return is
}

// worse is the worse of two outcomes.
func worse(a, b boot.Outcome) boot.Outcome {
	if b.Rank() > a.Rank() {
		return b
	}
	return a
}

// only keeps the lines that the word means.
func (s Supposing) only(v *inventory.Inventory, r *boot.Report) error {
	if s.Only == "" {
		return nil
	}
	n, errNode := target.Look(v, s.Only)
	r.Lines = slices.DeleteFunc(r.Lines, func(l boot.Line) bool {
		place := s.Only
		if strings.HasPrefix(place, "/") {
			place = fstab.FromRoot(place)
		}
		name := l.File[strings.LastIndexByte(l.File, '/')+1:]
		means := l.Dir == place || l.Spec == s.Only || s.Only == fmt.Sprint(l.Number) && l.File == "" || name == s.Only ||
			l.File == "" && unit.Name(l.Dir, "mount") == s.Only
		return !means && (errNode != nil || l.Device != n.Name)
	})
	if len(r.Lines) == 0 {
		return way.To(fmt.Errorf("%s: %w", s.Only, ErrNoLine), way.Rehearse())
	}
	return nil
}

// Seen is a text file as it was seen before; none where Data is empty.
type Seen struct {
	At   time.Time
	Data []byte
}

func readable(v *inventory.Inventory) error {
	f := v.Files[fstab.Path]
	if f.Missing || f.Problem != "" {
		return fmt.Errorf("%w: %s%s", ErrNoFstab, f.Problem, map[bool]string{true: "the file is missing"}[f.Missing])
	}
	return nil
}

// RehearseAt does so with a look that was taken, and with what was seen of the table before.
func RehearseAt(v *inventory.Inventory, seen Seen) (*Rehearsal, error) {
	f := v.Files[fstab.Path]
	if err := readable(v); err != nil && f.Missing && len(seen.Data) > 0 {
		return nil, way.To(err, way.FstabRestore())
	} else if err != nil && !f.Missing { // without one a machine boots all the same
		return nil, err
	}
	all, report := verify.Judge(v)
	out := rehearsal(v, report, all)
	if lost, is := fstab.Emptied(f.Data, seen.Data); is {
		now := len(v.Fstab().Entries())
		found := FstabEmptied.New(fstab.Path,
			"%d lines are left of %d that were seen on %s; where that was meant, fundus fstab check --accept", now,
			now+lost, seen.At.UTC().Format("2006-01-02 15:04 MST")).WithMend(way.FstabRestore())
		out.Findings = slices.Insert(out.Findings, 0, found)
	}
	return out, nil
}

// Rehearsed turns a report of a boot into what is shown.
func Rehearsed(ctx context.Context, r machine.Reader, report boot.Report) (*Rehearsal, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return rehearsal(v, report, verify.All(v)), nil
}

func rehearsal(v *inventory.Inventory, report boot.Report, all []finding.Finding) *Rehearsal {
	out := &Rehearsal{
		Machine:    v.Machine.String(),
		Verdict:    string(report.Verdict),
		Sentence:   report.String(),
		Why:        report.Why,
		Delay:      report.Delay,
		Root:       report.Root,
		RootOn:     report.RootOn,
		Notes:      report.Notes,
		Unforeseen: report.Unforeseen,
	}
	for _, f := range all {
		if strings.HasPrefix(f.Thing, fstab.Path) {
			out.Findings = append(out.Findings, f)
		}
	}
	out.Severity = severityOf(report.Verdict, report.Lines)
	for _, l := range report.Lines {
		line := RehearsedLine{Number: l.Number, File: l.File, Spec: l.Spec, Dir: l.Dir, Kind: l.Kind, Device: l.Device,
			Outcome: l.Outcome.Words(l.Unit.Entry.IsSwap()), Reason: l.Reason, NoFail: l.NoFail, Options: l.Options,
			Dump: l.Unit.Entry.Dump, Pass: l.Pass, Raw: l.Raw, Wait: l.Wait, First: l.First, Rank: l.Outcome.Rank(),
			Mounted: mountedNow(v, l), Swap: l.Unit.Entry.IsSwap(), Next: mend(v, l, out.Findings)}
		if l.File != "" {
			out.Units = append(out.Units, line)
			continue
		}
		out.Lines = append(out.Lines, line)
	}
	for _, l := range v.Fstab().Lines {
		if was, ok := l.Was(kind.IsMounted); ok {
			e := was.Entry
			out.Disabled = append(out.Disabled, RehearsedLine{
				Number:  l.Number,
				Spec:    e.Spec,
				Dir:     e.Dir,
				Kind:    e.Type,
				Options: strings.Join(e.Options, ","),
				Dump:    e.Dump,
				Pass:    e.Pass,
				Raw:     l.Raw,
				Off:     true,
			})
		}
	}
	return out
}

// severityOf is that of the worst of a verdict and of lines. What cannot be told is a note where
// the boot does not depend on it.
func severityOf(verdict boot.Verdict, lines []boot.Line) (worst finding.Severity) {
	add := func(s finding.Severity) {
		if worst == "" || s.Rank() > worst.Rank() {
			worst = s
		}
	}
	switch verdict {
	case boot.NoRoot, boot.Shell, boot.Hangs, boot.Without:
		add(finding.Error)
	case boot.WithDelays, boot.Untold:
		add(finding.Warning)
	}
	for _, l := range lines {
		switch l.Outcome {
		case boot.Emergency, boot.Unread:
			add(finding.Error)
		case boot.Delay, boot.Left:
			add(finding.Warning)
		case boot.Unknown:
			add(map[bool]finding.Severity{true: finding.Note, false: finding.Warning}[l.NoFail])
		}
	}
	return worst
}

// mend is the command that makes good what becomes of a line, none where none does without a doubt.
// What is missing may come back: its line is not taken out, the boot goes on without it.
func mend(v *inventory.Inventory, l boot.Line, found []finding.Finding) way.Step {
	if l.File != "" || l.Outcome.Rank() < boot.Left.Rank() {
		return way.None()
	}
	if a := advice.Absent(v, l.Dir, l.Dir); l.Device == "" && a.Next.Is("recover") {
		return a.Next
	}
	if l.Outcome == boot.Left && !l.Missing() && l.Device == "" {
		return way.None()
	}
	thing := fmt.Sprintf("%s:%d", fstab.Path, l.Number)
	for _, f := range finding.AtLeast(found, finding.Warning) {
		if f.Thing == thing && !f.Mend.Empty() && !f.Mend.Is("fstab disable") {
			return f.Mend
		}
	}
	switch where := l.Unit.Where; {
	case l.Outcome == boot.Unread:
		return way.None()
	case l.Unit.Entry.IsSwap():
		return way.FstabDisable(way.N(l.Number))
	case l.Device != "" && strings.Contains(l.Reason, "is missing, and the root is read-only"):
		if root, ok := v.MountedAt("/"); ok && root.ReadOnly { // nobody can make it today either
			return way.FstabEdit("/", "--drop=ro")
		}
		return way.Mount(where, "--make")
	case (l.Device == "" || l.Outcome == boot.Emergency) && !advice.Kept(l.Dir) && !l.NoFail:
		return way.FstabEdit(way.N(l.Number), "--add=nofail")
	}
	return way.None()
}

// mountedNow says whether what the line says is so now.
func mountedNow(v *inventory.Inventory, l boot.Line) string {
	e := l.Unit.Entry
	if l.Unit.None != "" {
		return ""
	}
	if e.IsSwap() {
		on := v.SwapsOn(l.Device)
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

// Forever is a wait without an end.
const Forever = fstab.Forever
