package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/quantity"
	"fundus/internal/task/space"
)

func newResize(e *Env) *cobra.Command {
	r := &space.Resize{}
	cmd := &cobra.Command{
		Use: "resize TARGET [SIZE]", Short: "Give a partition another size",
		Long: `Give a partition another size in the table; where it begins stays. It grows into
the gap right behind it. What it holds is not resized: it keeps its size, and a
partition is never made smaller than that.`,
		Example:           "  fundus resize sdb1 40GiB\n  fundus resize sdb1 --by=+4GiB",
		Args:              words(1, 2, "a partition, and its size unless --by is given"),
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
			r.Target = args[0]
			return e.change(cmd, r, args[0])
		},
	}
	cmd.Flags().StringVar(&r.By, "by", "", "by how much: `±SIZE` such as +4GiB or -10%")
	return e.addChange(cmd)
}
