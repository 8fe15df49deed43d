package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/finding"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/look"
	"fundus/internal/task/boot"
	"fundus/internal/view"
)

func newUnit(e *Env) *cobra.Command {
	return e.group("unit", "Look at systemd's units for mounts and swap, add, remove and check them",
		"  fundus unit list\n  fundus unit add sdc1 /media/fieldcard --automount --idle=60s",
		newUnitList(e), newUnitAdd(e), newUnitRemove(e), newUnitCheck(e))
}

func newUnitList(e *Env) *cobra.Command {
	all := false
	cmd := &cobra.Command{
		Use: "list", Short: "List mount, automount and swap units, and their state",
		Long: `List the mount, automount and swap units in systemd's directories: which device
each means now, how the boot depends on it, and whether it is mounted. Units
generated from fstab are in fundus fstab list.`,
		Example: "  fundus unit list\n  fundus unit list --all", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			u, err := e.lookUnits(cmd, all)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Units{Units: u})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "units that came with the system too")
	return cmd
}

func (e *Env) lookUnits(cmd *cobra.Command, all bool) (*look.Units, error) {
	m, err := e.open(cmd.Context())
	if err != nil {
		return nil, err
	}
	return look.UnitsOf(cmd.Context(), m.Machine, all)
}

func newUnitCheck(e *Env) *cobra.Command {
	explain := false
	cmd := &cobra.Command{
		Use: "check", Short: "Find units that do not do what they seem to do",
		Long: `Find units that systemd refuses or does not start, that wait for no device, or
that an fstab line contradicts. Exit code 4 means findings.`,
		Example: "  fundus unit check\n  fundus unit check --explain", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			u, err := e.lookUnits(cmd, false)
			if err != nil {
				return err
			}
			return errors.Join(e.printer().Show(view.Units{Units: u, Check: true, Explain: explain}), found(u.Findings, finding.Warning))
		},
	}
	cmd.Flags().BoolVar(&explain, "explain", false, "why each one matters, and what to do")
	return cmd
}

func newUnitAdd(e *Env) *cobra.Command {
	r := &boot.UnitAdd{}
	var options string
	cmd := &cobra.Command{
		Use: "add [TARGET DIRECTORY|swap]", Short: "Add units that mount a device, at boot or on access",
		Long: `Add units that mount a device at each boot, from the same description as an fstab
line: a mount unit, with --automount an automount unit for it, or a swap unit.
Files and links are created, and a running systemd reads them and starts them.
--from-fstab takes what a line says and turns the line into a comment in the same
deed; what only a line can say is refused.`,
		Example:           "  fundus unit add sdc1 /media/fieldcard --automount --idle=60s\n  fundus unit add --from-fstab /srv/scans",
		Args:              words(0, 2, "a device and a directory, or swap; or --from-fstab alone"),
		ValidArgsFunction: e.completePlaces,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case (len(args) == 2) == (r.FromFstab != ""), len(args) == 1:
				return usageWay(way.Help("unit", "add"), "say a device and a directory, or swap; or --from-fstab=LINE alone")
			case r.FromFstab != "" &&
				(options != "" || r.Kind != "" || r.By != "" || r.Needed || r.Automount || r.Idle != "" || r.DeviceWait != ""):
				return usagef("--from-fstab takes what the line says, and nothing else")
			}
			if err := checkBy(r.By); err != nil {
				return err
			}
			if len(args) == 2 {
				if strings.HasPrefix(args[0], "/") && !strings.HasPrefix(args[0], "/dev/") && args[1] != fstab.Swap {
					return usageWay(way.UnitAdd(args[1], args[0]), "the device stands before the directory")
				}
				r.Target, r.Dir, r.Options = args[0], args[1], split(options)
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas, no others")
	f.StringVar(&r.Kind, "type", "", "file system `TYPE` (default: the device's)")
	f.StringVar(&r.FromFstab, "from-fstab", "", "from this `LINE`: mount point, device or number")
	f.StringVar(&r.By, "by", "", "name it by uuid, label, partuuid, partlabel or path")
	f.BoolVar(&r.Needed, "needed", false, "required: the boot stops if it is missing")
	f.BoolVar(&r.Automount, "automount", false, "mount it at the first access")
	f.StringVar(&r.Idle, "idle", "", "unmount it after this `TIME` without use")
	f.StringVar(&r.DeviceWait, "device-wait", "", "`TIME` that the boot waits for the device")
	return e.addChange(cmd)
}

func newUnitRemove(e *Env) *cobra.Command {
	r := &boot.UnitRemove{}
	cmd := &cobra.Command{
		Use: "remove UNIT", Short: "Remove units, with the links that enable them",
		Long: `Remove the unit of a mount or of swap, with its automount unit, the links that
enable them, and its device timeout. UNIT is a name or a mount point. What is
mounted stays mounted.`,
		Example:           "  fundus unit remove /media/fieldcard\n  fundus unit remove srv-scans.mount --draft",
		Args:              words(1, 1, "one unit: its name, or its mount point"),
		ValidArgsFunction: e.completeUnits,
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Unit = args[0]
			return e.change(cmd, r)
		},
	}
	ifThere(cmd, &r.IfThere)
	return e.addChange(cmd)
}
