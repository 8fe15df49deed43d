package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/way"
	"fundus/internal/task/prepare"
)

func newPrepare(e *Env) *cobra.Command {
	r := &prepare.Prepare{}
	var size, scheme, record, options string
	cmd := &cobra.Command{
		Use: "prepare DISK --as KIND [KEY=VALUE…]", Short: "Prepare an empty disk, from its table to the mount at boot",
		Long: `Prepare an empty disk in one draft: partition table, partition, file system, line
for each boot, mount. Without --mount, the first three alone; swap is turned on.
Run again, it adds what is missing and refuses what differs.`,
		Example: `  fundus prepare sdb --as xfs --label herbarium --mount /srv/herbarium
  fundus prepare sdc --as fat --label FIELDCARD --scheme mbr`,
		Args:              words(1, 64, "one disk, and settings of the kind as KEY=VALUE"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if r.As = strings.ToLower(r.As); r.As == "" {
				return usageWay(way.Settings(), "as what? --as ext4, for one")
			}
			if _, err := kind.FindMaker(r.As); err != nil {
				return err
			}
			r.Disk, r.Scheme, r.Record, r.Line.Options = args[0], table.Scheme(scheme), prepare.Record(record), split(options)
			if size != "" {
				if r.Size, err = quantity.Parse(size); err != nil {
					return usageError{fmt.Errorf("--size=%w", err)}
				}
			}
			if r.Asked, err = settingsOf(args[1:]); err != nil {
				return err
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.As, "as", "", "the `KIND` of its contents: ext4, xfs, fat, swap, …")
	f.StringVar(&r.Label, "label", "", "`LABEL` (default: the last part of --mount)")
	f.StringVar(&r.Mount, "mount", "", "mount it at `DIRECTORY`, now and at each boot")
	f.StringVar(&size, "size", "", "`SIZE` of the partition (default: all)")
	f.StringVar(&scheme, "scheme", "", "gpt or mbr (default: of the table, or gpt)")
	f.BoolVar(&r.InRoom, "in-free-room", false, "use a gap next to its partitions")
	f.StringVar(&record, "record", "", "where the mount is kept: fstab or unit")
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas")
	f.BoolVar(&r.Line.Needed, "needed", false, "required: the boot stops if it is missing")
	f.BoolVar(&r.Line.Automount, "automount", false, "mount it at the first access")
	f.StringVar(&r.Line.Idle, "idle", "", "unmount it after this `TIME` without use")
	f.StringVar(&r.Home.Owner, "owner", "", "owner of its top directory: `USER[:GROUP]`")
	f.StringVar(&r.Home.Mode, "mode", "", "`MODE` of its top directory, octal")
	f.StringVar(&r.Home.Link, "link", "", "create a symbolic link to it at `PATH`")
	return e.addChange(cmd)
}
