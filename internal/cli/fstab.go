package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/advice"
	"fundus/core/finding"
	"fundus/internal/look"
	"fundus/internal/task/use"
	"fundus/internal/view"
)

func newFstab(e *Env) *cobra.Command {
	return e.group("fstab", "Look at fstab, add, remove and check lines without losing a comment", "  fundus fstab list\n  fundus fstab add sdb1 /srv/herbarium",
		newFstabList(e), newFstabAdd(e), newFstabRemove(e), newFstabCheck(e))
}

func newFstabList(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "See the lines of fstab and the devices that they name",
		Long:    "See the lines of fstab, each with the device that it names now.",
		Example: "  fundus fstab list\n  fundus fstab list --json", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := e.lookFstab(cmd)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Fstab{Rehearsal: r})
		},
	}
}

func (e *Env) lookFstab(cmd *cobra.Command) (*look.Rehearsal, error) {
	m, err := e.open(cmd.Context())
	if err != nil {
		return nil, err
	}
	return look.Rehearse(cmd.Context(), m)
}

func newFstabCheck(e *Env) *cobra.Command {
	explain := false
	cmd := &cobra.Command{
		Use: "check", Short: "Find lines of fstab that name nothing, or the wrong thing",
		Long:    "Find lines of fstab that cannot be read, or that name nothing, two devices, or the wrong kind. Exit code 4 says that there are findings.",
		Example: "  fundus fstab check\n  fundus fstab check --json", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := e.lookFstab(cmd)
			if err != nil {
				return err
			}
			return errors.Join(e.printer().Show(view.FstabCheck{Rehearsal: r, Explain: explain}), found(r.Findings, finding.Warning))
		},
	}
	cmd.Flags().BoolVar(&explain, "explain", false, "say of each why it matters, and what to do")
	return cmd
}

// identifiers are the words for what a line of fstab can name a device by.
func identifiers() []string { return []string{"uuid", "label", "partuuid", "partlabel"} }

func newFstabAdd(e *Env) *cobra.Command {
	r := &use.FstabAdd{}
	var options string
	cmd := &cobra.Command{
		Use: "add TARGET DIRECTORY", Short: "Add a line that mounts a device at each boot",
		Long: `Add a line that mounts a device at each boot. The line names the device by its
UUID, and a missing mount point is made. Removable devices get nofail and a short
timeout unless --options says otherwise.`,
		Example:           "  fundus fstab add sdb1 /srv/herbarium\n  fundus fstab add sdc1 /media/fieldcard --options=nofail,noatime --by=label",
		Args:              words(2, 2, "a device and a directory"),
		ValidArgsFunction: e.completePlaces,
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.HasPrefix(args[0], "/") && !strings.HasPrefix(args[0], "/dev/") && !strings.HasPrefix(args[1], "/") {
				return usageWay("fundus fstab add "+args[1]+" "+args[0], "the device stands before the directory")
			}
			if images, err := e.images(args[:1]); err != nil {
				return err
			} else if len(images) > 0 {
				return advice.Way(fmt.Errorf("%s: an image file is no device of this machine, and a line of fstab cannot name what is in it", args[0]), "fundus mount %s %s", args[0], args[1])
			}
			if by := identifiers(); r.By != "" && !slices.Contains(by, strings.ToLower(r.By)) {
				return usagef("--by=%s: it is one of %s", r.By, strings.Join(by, ", "))
			}
			r.Target, r.Dir, r.Options = args[0], args[1], split(options)
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas (default: defaults)")
	f.StringVar(&r.Kind, "type", "", "file system `TYPE` (default: what is on the device)")
	f.StringVar(&r.By, "by", "", "name the device by uuid, label, partuuid or partlabel")
	return e.addChange(cmd)
}

func newFstabRemove(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "remove TARGET", Short: "Take a line out of fstab",
		Long:              "Take a line out of fstab: the mount point, the device, or the identifier is named. All other lines stay to the byte.",
		Example:           "  fundus fstab remove /srv/herbarium\n  fundus fstab remove sdb1 --draft",
		Args:              words(1, 1, "one mount point, device or identifier"),
		ValidArgsFunction: e.completeFstab,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &use.FstabRemove{Target: args[0]})
		},
	})
}
