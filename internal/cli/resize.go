package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/act"
	"fundus/internal/task/space"
)

func newResize(e *Env) *cobra.Command {
	r := &space.Resize{}
	cmd := &cobra.Command{
		Use: "resize TARGET [SIZE]", Short: "Give a partition another size, with what is in it",
		Long: `Give a partition another size; where it begins stays, and so do its number and its
identifiers. It grows into the gap right behind it, and what is in it grows along:
ext3, ext4 and XFS while they are mounted, ext2, ext3 and ext4 while they are not. A
swap area grows and shrinks; one that is on is given up for that long. What has no
way to another size keeps its own, and no partition is made smaller than that.

A partition that is named gets the size itself. A mount point, or UUID= and LABEL=,
mean what is in it, and the partition goes along. max is all that there is, min what
is needed. The disk is asked for its size first, but with --draft: one that has grown
needs no rescan.`,
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
	cmd.Flags().StringVar(&r.By, "by", "", "by how much: `±SIZE` such as +4GiB or -10%")
	return e.addChange(cmd)
}
