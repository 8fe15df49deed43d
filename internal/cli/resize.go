package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/act"
	"fundus/internal/task/space"
)

func newResize(e *Env) *cobra.Command {
	r := &space.Resize{}
	cmd := &cobra.Command{
		Use: "resize TARGET [SIZE]", Short: "Resize a partition and what is in it",
		Long: `Resize a partition; its start, number and identifiers stay. It grows into the gap
after it, and its contents grow along: ext3, ext4 and XFS while mounted, ext2,
ext3 and ext4 while not. A swap area grows and shrinks; an active one is turned
off meanwhile. Contents that cannot be resized keep their size; the partition
never becomes smaller than they are.

Name a partition and SIZE is its size; name a mount point, UUID= or LABEL= and
SIZE is the file system's, and the partition follows. max uses all available
space, min the smallest possible. The disk is asked for its size first, except
with --draft.`,
		Example:           "  fundus resize sdb1 40GiB\n  fundus resize /srv/herbarium --by=+4GiB",
		Args:              words(1, 2, "a partition or a mount point, and its size unless --by is given"),
		ValidArgsFunction: e.complete(partition),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 2) == (r.By != "") {
				return usagef("how large? either a size, such as 40GiB or max, or --by=+4GiB")
			}
			if len(args) == 2 {
				var err error
				if r.Size, err = quantity.Parse(args[1]); err != nil {
					if _, other := quantity.Parse(args[0]); other == nil {
						return usageWay(way.Resize(args[1], args[0], "--draft"), "the device stands before the size")
					}
					return usageError{err}
				}
			}
			r.Target, r.Unasked = args[0], e.o.draft
			m, err := e.open(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var look *inventory.Inventory
			if !e.o.draft { // which changes nothing, and so asks no disk
				seen, note, err := act.AskSize(cmd.Context(), m.Machine, r)
				if err != nil {
					note = err.Error()
				}
				if note != "" {
					e.notes = append(e.notes, note)
				}
				look = seen
			}
			return e.settleFrom(cmd.Context(), m, r, look)
		},
	}
	cmd.Flags().StringVar(&r.By, "by", "", "change by this much: `±SIZE` such as +4GiB or -10%")
	return e.addChange(cmd)
}
