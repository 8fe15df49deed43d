package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/finding"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/way"
	"fundus/internal/config"
	"fundus/internal/look"
	"fundus/internal/machine"
	"fundus/internal/view"
)

func newSurvey(e *Env) *cobra.Command {
	f, watch := &look.SurveyFilter{}, false
	cmd := &cobra.Command{
		Use: "survey [TARGET…]", Short: "Show all disks: contents, where they are used, free space",
		Long: `Show all disks of the machine, or those that you name: partitions and free gaps
in order, what each holds, where it is used, and how full it is. A mount point
in parentheses is in fstab but not mounted. --unused shows what can be formatted
without losing anything.`,
		Example:           "  fundus survey --unused\n  fundus survey card.img --sizes=sectors",
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if watch {
				return e.watch(cmd.Context(), args)
			}
			s, err := e.survey(cmd.Context(), args, *f)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Survey{Survey: s})
		},
	}
	flags := cmd.Flags()
	flags.StringArrayVar(&f.Kinds, "kind", nil, "only devices that hold this `KIND` (repeatable)")
	flags.BoolVar(&f.Unused, "unused", false, "only what can be formatted without losing anything")
	flags.BoolVar(&f.Removable, "removable", false, "only removable disks")
	flags.BoolVar(&f.All, "all", false, "loop devices, memory and optical drives too")
	flags.BoolVar(&watch, "watch", false, "report disks plugged in or removed, until Ctrl-C")
	return cmd
}

// watch prints a line for each disk that comes or goes.
func (e *Env) watch(ctx context.Context, words []string) error {
	if len(words) > 0 {
		return usagef("--watch watches all disks: leave %q out", words[0])
	}
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	w, ok := m.Machine.(machine.Watcher)
	if !ok {
		return usagef("--watch: nothing comes or goes on %s", m.Machine.Root())
	}
	p := e.printer()
	return w.Watch(ctx, func() {
		if v, err := m.Machine.Inventory(ctx); err == nil {
			p.Watching(len(v.Disks()))
		}
	}, func(event machine.Event) { p.Event(e.Now(), event) })
}

// survey looks at the disks that the words mean, at all without any.
func (e *Env) survey(ctx context.Context, words []string, f look.SurveyFilter) (*look.Survey, error) {
	if len(f.Kinds) > 0 && f.Unused {
		return nil, usagef("--kind and --unused contradict each other: what is unused holds nothing")
	}
	for _, word := range f.Kinds { // a word that is spelled like a kind, and is none, finds nothing
		if meant := kind.Misspelt(word); meant != "" {
			return nil, usageWay(way.Survey("--kind="+meant), "--kind=%s: there is no such kind", word)
		}
	}
	m, err := e.open(ctx, words...)
	if err != nil {
		return nil, err
	}
	return look.NewSurvey(ctx, m.Machine, words, f, e.configuration())
}

func newInspect(e *Env) *cobra.Command {
	configuration, depth, place := false, look.InspectDepth{}, ""
	cmd := &cobra.Command{
		Use: "inspect TARGET", Short: "Show all that is known about one device",
		Long: `Show all that is known about one device: its place, its identifiers, its contents,
the figures with their arithmetic, and who names it. --configuration shows the
configuration instead, with the file and line of each value. --fields adds every
field on the device with its bytes and meaning, --bytes a range of bytes; both
count from the first byte of the device that you name.`,
		Example:           "  fundus inspect sdb1\n  fundus inspect card.img:1 --fields",
		Args:              words(0, 1, "one device"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case configuration && len(args) > 0:
				return usagef("--configuration is about no device: leave %q out", args[0])
			case configuration:
				return e.printer().Show(view.Configuration{System: config.System, User: config.User(e.Getenv), Entries: e.configuration().Entries()})
			case len(args) == 0:
				return usageWay(way.Survey(), "inspect what? one device, or --configuration")
			}
			var err error
			if place != "" {
				if depth.At, depth.Length, err = parsePlace(place); err != nil {
					return usageError{err}
				}
			}
			m, err := e.open(cmd.Context(), args...)
			if err != nil {
				return err
			}
			i, err := look.Inspect(cmd.Context(), m.Machine, args[0], depth, e.configuration())
			if err != nil {
				return err
			}
			return e.printer().Show(view.Inspection{Inspection: i})
		},
	}
	cmd.Flags().BoolVar(&configuration, "configuration", false, "show the configuration, with each value's origin")
	cmd.Flags().BoolVar(&depth.Fields, "fields", false, "every field on the device, with bytes and meaning")
	cmd.Flags().StringVar(&place, "bytes", "", "a range: `OFFSET+LENGTH`, such as 0x438+2")
	return cmd
}

// parsePlace reads OFFSET+LENGTH: plain numbers are bytes.
func parsePlace(word string) (at, length int64, err error) {
	first, second, ok := strings.Cut(word, "+")
	if !ok {
		return 0, 0, fmt.Errorf("--bytes=%s: OFFSET+LENGTH, such as 1KiB+1KiB or 0x438+2", word)
	}
	for _, x := range []struct {
		word string
		into *int64
	}{{first, &at}, {second, &length}} {
		if n, err := strconv.ParseInt(x.word, 0, 64); err == nil {
			*x.into = n
			continue
		}
		s, err := quantity.Parse(x.word)
		if err != nil {
			return 0, 0, err
		}
		n, err := s.Resolve(512, 0)
		if err != nil || s.Form != quantity.Absolute {
			return 0, 0, fmt.Errorf("--bytes=%s: %q: a number of bytes, such as 512 or 1KiB", word, x.word)
		}
		*x.into = int64(n)
	}
	if at < 0 || length < 1 || length > look.MostBytes {
		return 0, 0, fmt.Errorf("--bytes=%s: 1 to %d bytes, from byte 0", word, look.MostBytes)
	}
	return at, length, nil
}

func newVerify(e *Env) *cobra.Command {
	severity, explain := "warning", false
	cmd := &cobra.Command{
		Use: "verify [TARGET…]", Short: "Check places, tables, identifiers and references",
		Long: `Check the alignment of partitions, both copies of each GPT, identifiers that two
devices carry, sizes, and fstab lines that match nothing. Exit code 4 means that
there are findings of --severity or worse.`,
		Example:           "  fundus verify\n  fundus verify sdb --severity=error",
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			bar, err := finding.ParseSeverity(severity)
			if err != nil {
				return usageError{err}
			}
			m, err := e.open(cmd.Context(), args...)
			if err != nil {
				return err
			}
			v, err := look.Verify(cmd.Context(), m.Machine, args)
			if err != nil {
				return err
			}
			return errors.Join(e.printer().Show(view.Verification{Verification: v, Explain: explain}), found(v.Findings, bar))
		},
	}
	cmd.Flags().BoolVar(&explain, "explain", false, "why each one matters, and what to do")
	cmd.Flags().StringVar(&severity, "severity", severity, "what counts for the exit code: note, warning or error")
	return cmd
}

// found is errFindings where there is something of the severity or worse.
func found(list []finding.Finding, bar finding.Severity) error {
	if len(finding.AtLeast(list, bar)) > 0 {
		return errFindings
	}
	return nil
}

func newRehearse(e *Env) *cobra.Command {
	severity, s, file, everything := "warning", &look.Supposing{}, "", false
	cmd := &cobra.Command{
		Use: "rehearse [LINE]", Short: "Predict whether the next boot comes up",
		Long: `Work through the next boot without booting: the root, each line of fstab, each
unit, what waits for what, and what happens if something is missing. LINE shows
one of them alone: a mount point, a device, or a number. Options suppose other
circumstances: a missing disk, other kernel names, another table. Exit code 4
means that the boot would be delayed, or not come up.`,
		Example: "  fundus rehearse\n  fundus rehearse --absent=sdb", Args: words(0, 1, "one line, or none"),
		ValidArgsFunction: e.completeFstab,
		RunE: func(cmd *cobra.Command, args []string) error {
			bar, err := finding.ParseSeverity(severity)
			if err != nil {
				return usageError{err}
			}
			if file != "" {
				if s.Fstab, err = readInput(e, file); err != nil {
					return err
				}
				s.Named = file
			}
			if len(args) > 0 {
				s.Only = args[0]
			}
			if cmd.Flags().Changed("entry") && s.Entry == "" {
				return usagef("--entry takes the name of an entry, or its title")
			}
			if cmd.Flags().Changed("seed") && !s.Shuffled {
				return usagef("--seed chooses an order: give --names-shuffled too")
			}
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			r, err := look.Rehearse(cmd.Context(), m.Machine, *s)
			if err != nil {
				return err
			}
			return errors.Join(e.printer().Show(view.Rehearsal{Rehearsal: r, All: everything || len(args) > 0}), rehearsed(r, bar))
		},
	}
	f := cmd.Flags()
	f.StringVar(&severity, "severity", severity, "what counts for the exit code: note, warning or error")
	f.StringArrayVar(&s.Absent, "absent", nil, "without this `DISK` and what it carries (repeatable)")
	f.BoolVar(&s.Shuffled, "names-shuffled", false, "the kernel finds the disks in another order")
	f.Uint64Var(&s.Seed, "seed", 1, "number of the other order")
	f.StringVar(&file, "fstab", "", "use this `FILE` as fstab (- is standard input)")
	f.StringVar(&s.Entry, "entry", "", "boot this entry of the boot menu: its `NAME`")
	f.BoolVar(&s.NoInitrd, "no-initrd", false, "without an initramfs")
	f.BoolVar(&everything, "all", false, "show every line, not only what is wrong")
	return cmd
}

func rehearsed(r *look.Rehearsal, bar finding.Severity) error {
	if r.Severity != "" && r.Severity.Rank() >= bar.Rank() {
		return errFindings
	}
	return nil
}

// mostInput is how many bytes of a file are read that stands in place of a table.
const mostInput = 4 << 20

// readInput reads the file that is named, or standard input.
func readInput(e *Env, name string) ([]byte, error) {
	if name == "-" {
		data, err := io.ReadAll(io.LimitReader(e.In, mostInput))
		return append([]byte{}, data...), err
	}
	state, err := machine.ReadFileState(name)
	switch info, errStat := os.Stat(name); {
	case err != nil:
		return nil, err
	case state.Missing:
		return nil, refused.As(refused.NoSuchThing, fmt.Errorf("%s: there is no such file", name))
	case state.Dir:
		return nil, fmt.Errorf("%s is a directory", name)
	case errStat != nil || !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is no file with text", name)
	}
	return append([]byte{}, state.Data...), nil
}
