package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/propose"
	"fundus/core/refused"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/look"
	"fundus/internal/machine"
	"fundus/internal/oscall"
	"fundus/internal/task/boot"
	"fundus/internal/view"
)

func newFstab(e *Env) *cobra.Command {
	return e.group("fstab", "Look at fstab, add, change and check lines without losing a comment",
		"  fundus fstab list\n  fundus fstab add sdb1 /srv/herbarium",
		newFstabList(e), newFstabCheck(e), newFstabAdd(e), newFstabEdit(e), newFstabRemove(e), newFstabDisable(e),
		newFstabEnable(e), newFstabSort(e), newFstabRestore(e))
}

func newFstabList(e *Env) *cobra.Command {
	everything := false
	cmd := &cobra.Command{
		Use: "list", Short: "Show the lines, their devices, and whether they are mounted",
		Long: `Show the lines of fstab: which device each line names now, its options, whether it
is mounted as the line says, and what is wrong. --all shows disabled lines too.`,
		Example: "  fundus fstab list\n  fundus fstab list --all", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := e.lookFstab(cmd)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Fstab{Rehearsal: r, All: everything})
		},
	}
	cmd.Flags().BoolVar(&everything, "all", false, "disabled lines too")
	return cmd
}

// lookFstab goes through the lines, and holds the table against what was seen of it.
func (e *Env) lookFstab(cmd *cobra.Command) (*look.Rehearsal, error) {
	m, err := e.open(cmd.Context())
	if err != nil {
		return nil, err
	}
	v, err := m.Machine.Inventory(cmd.Context())
	if err != nil {
		return nil, err
	}
	kept, err := m.store.Kept(fstab.Path)
	if err != nil {
		return nil, err
	}
	var seen look.Seen
	if len(kept) > 0 {
		seen = look.Seen{At: kept[0].Seen, Data: kept[0].Data}
	}
	machine.AskAboutLines(v, m.Machine)
	return look.RehearseAt(v, seen)
}

func newFstabCheck(e *Env) *cobra.Command {
	explain, accept := false, false
	cmd := &cobra.Command{
		Use: "check", Short: "Find lines that do not do what they seem to do",
		Long: `Find fstab lines that systemd reads differently, or that match no device, two, or
the wrong one, and options that the kernel refuses. Exit code 4 means findings.
After somebody emptied the table on purpose, --accept keeps it so.`,
		Example: "  fundus fstab check\n  fundus fstab check --json", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if accept {
				if err := e.remember(cmd.Context(), boot.Accept); err != nil {
					return err
				}
			}
			r, err := e.lookFstab(cmd)
			if err != nil {
				return err
			}
			if err := e.remember(cmd.Context(), boot.Remember); err != nil && !oscall.Unwritable(err) { // whoever may not write there only looks
				return err
			}
			return errors.Join(e.printer().Show(view.FstabCheck{Rehearsal: r, Explain: explain}), found(r.Findings, finding.Warning))
		},
	}
	cmd.Flags().BoolVar(&explain, "explain", false, "why each one matters, and what to do")
	cmd.Flags().BoolVar(&accept, "accept", false, "the missing lines were removed on purpose")
	return cmd
}

// remember keeps the table as it is, for the day on which somebody empties it.
func (e *Env) remember(ctx context.Context, keep func(*deed.Store, *inventory.Inventory) error) error {
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	v, err := m.Machine.Inventory(ctx)
	if err == nil {
		err = keep(m.store, v)
	}
	return err
}

// checkBy refuses what is no way to name a device.
func checkBy(by string) error {
	if list := propose.Words(); by != "" && !slices.Contains(list, strings.ToLower(by)) {
		return usagef("--by=%s: it is one of %s", by, strings.Join(list, ", "))
	}
	return nil
}

func newFstabAdd(e *Env) *cobra.Command {
	r := &boot.FstabAdd{}
	var options, from string
	cmd := &cobra.Command{
		Use: "add [TARGET DIRECTORY|swap]", Short: "Add a line that mounts a device at each boot",
		Long: `Add a line that mounts a device at each boot. It names the device by its UUID, and
a missing mount point is created. Options are proposed with reasons: removable
and non-essential devices do not block the boot. --needed makes the line
required; --options replaces the options proposed for the kind. For a swap area,
or the path of a swap file, write swap in place of the directory.`,
		Example:           "  fundus fstab add sdb1 /srv/herbarium\n  fundus fstab add sdc1 /media/fieldcard --automount --idle=60s",
		Args:              words(0, 2, "a device and a directory, or swap; or --from-unit alone"),
		ValidArgsFunction: e.completePlaces,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case from != "" &&
				(len(args) > 0 || options != "" || r.Kind != "" || r.By != "" || r.Needed || r.Automount || r.Idle != "" ||
					r.DeviceWait != "" ||
					r.Comment):
				return usagef("--from-unit takes what the units say, and nothing else")
			case from != "":
				return e.change(cmd, &boot.FromUnit{Unit: from})
			case len(args) != 2:
				return usageWay(way.Help("fstab", "add"), "fundus fstab add takes a device and a directory, or swap; or --from-unit alone")
			}
			if strings.HasPrefix(args[0], "/") && !strings.HasPrefix(args[0], "/dev/") && !strings.HasPrefix(args[1], "/") &&
				args[1] != fstab.Swap {
				return usageWay(way.FstabAdd(args[1], args[0]), "the device stands before the directory")
			}
			if images, err := e.images(args[:1]); err != nil {
				return err
			} else if len(images) > 0 && args[1] != fstab.Swap {
				return way.To(refused.As(refused.NoSuchDevice, fmt.Errorf("%s: an image file is no device of this machine, and a line of fstab cannot name what is in it",
					args[0])), way.Mount(args[0], args[1]))
			}
			if err := checkBy(r.By); err != nil {
				return err
			}
			r.Target, r.Dir, r.Options = args[0], args[1], split(options)
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas, no others")
	f.StringVar(&r.Kind, "type", "", "file system `TYPE` (default: the device's)")
	f.StringVar(&from, "from-unit", "", "from this `UNIT`: a name or a mount point")
	lineFlags(f, r)
	return e.addChange(cmd)
}

// lineFlags are the options that say what a new line is like.
func lineFlags(f *pflag.FlagSet, r *boot.FstabAdd) {
	f.StringVar(&r.By, "by", "", "name it by uuid, label, partuuid, partlabel or path")
	f.BoolVar(&r.Needed, "needed", false, "required: the boot stops if it is missing")
	f.BoolVar(&r.Automount, "automount", false, "mount it at the first access")
	f.StringVar(&r.Idle, "idle", "", "unmount it after this `TIME` without use")
	f.StringVar(&r.DeviceWait, "device-wait", "", "`TIME` that the boot waits for the device")
	f.BoolVar(&r.Comment, "comment", false, "add a comment line that names the device")
}

func newFstabEdit(e *Env) *cobra.Command {
	r := &boot.FstabEdit{}
	var add, drop, options string
	cmd := &cobra.Command{
		Use: "edit LINE", Short: "Change one line: options, type, device name, order",
		Long: `Change one line of fstab and leave every other byte. LINE is a mount point, a
device, an identifier, or the number that fundus fstab list shows.`,
		Example:           "  fundus fstab edit /srv/herbarium --add=noatime --drop=nofail\n  fundus fstab edit 4 --by=uuid",
		Args:              words(1, 1, "one line: a mount point, a device, or its number"),
		ValidArgsFunction: e.completeFstab,
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Line, r.Add, r.Drop, r.Options = args[0], split(add), split(drop), split(options)
			if len(r.Add)+len(r.Drop)+len(r.Options) == 0 && r.Kind == "" && r.By == "" && r.Device == "" && r.Before == "" {
				return usageWay(way.Help("fstab", "edit"),
					"say what is to change: --add, --drop, --options, --type, --device, --by or --before")
			}
			if err := checkBy(r.By); err != nil {
				return err
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&add, "add", "", "set these `OPTIONS`; each replaces one of its name")
	f.StringVar(&drop, "drop", "", "remove these `OPTIONS`")
	f.StringVar(&options, "options", "", "replace all options of the line with these `OPTIONS`")
	f.StringVar(&r.Kind, "type", "", "file system `TYPE`")
	f.StringVar(&r.By, "by", "", "name it by uuid, label, partuuid, partlabel or path")
	f.StringVar(&r.Device, "device", "", "name this `DEVICE` instead")
	f.StringVar(&r.Before, "before", "", "move it before this other `LINE`")
	return e.addChange(cmd)
}

func newFstabRemove(e *Env) *cobra.Command {
	r := &boot.FstabRemove{}
	cmd := &cobra.Command{
		Use: "remove LINE", Short: "Remove a line from fstab",
		Long: `Remove a line from fstab: name its mount point, device, identifier or number. All
other lines stay to the byte.`,
		Example:           "  fundus fstab remove /srv/herbarium\n  fundus fstab remove sdb1 --draft",
		Args:              words(1, 1, "one line: a mount point, a device, or its number"),
		ValidArgsFunction: e.completeFstab,
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Target = args[0]
			return e.change(cmd, r)
		},
	}
	ifThere(cmd, &r.IfThere)
	return e.addChange(cmd)
}

func newFstabDisable(e *Env) *cobra.Command {
	r := &boot.FstabDisable{}
	cmd := &cobra.Command{
		Use: "disable LINE", Short: "Turn a line into a comment",
		Long: `Turn a line of fstab into a comment, so that no boot uses it. fundus fstab enable
restores it.`,
		Example:           "  fundus fstab disable /srv/herbarium\n  fundus fstab disable 4",
		Args:              words(1, 1, "one line: a mount point, a device, or its number"),
		ValidArgsFunction: e.completeFstab,
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Line = args[0]
			return e.change(cmd, r)
		},
	}
	ifThere(cmd, &r.IfThere)
	return e.addChange(cmd)
}

func newFstabEnable(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "enable LINE", Short: "Turn a comment back into a line",
		Long: `Turn a comment back into a line: one that fundus fstab disable made, or a line
with a # in front. fundus fstab list --all shows them.`,
		Example:           "  fundus fstab enable /srv/herbarium\n  fundus fstab enable 4",
		Args:              words(1, 1, "one line: its mount point, device, or number"),
		ValidArgsFunction: e.completeDisabled,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &boot.FstabEnable{Line: args[0]})
		},
	})
}

func newFstabSort(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "sort", Short: "Put parents before their children, and swap last",
		Long: `Put the lines in order: a mount point before those below it, swap last. A comment
moves with the line below it, and blocks separated by blank lines stay apart.`,
		Example: "  fundus fstab sort --draft\n  fundus fstab sort", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error { return e.change(cmd, &boot.FstabSort{}) },
	})
}

func newFstabRestore(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "restore", Short: "Restore an fstab that something else emptied",
		Long: `Restore fstab as Fundus last saw it, after another program changed it. If it was
never seen, a table is proposed from the units that systemd made when it last
read fstab, and from what is mounted now.`,
		Example: "  fundus fstab restore --draft\n  fundus fstab restore", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error { return e.change(cmd, &boot.FstabRestore{}) },
	})
}
