package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/table"
	"fundus/internal/task"
)

func newTable(e *Env) *cobra.Command {
	return group("table", "Make or repair a partition table as a whole", "  fundus table new sdb --scheme gpt\n  fundus table repair sdb", newTableNew(e), newTableRepair(e))
}

// change runs a request on the machine that its words are about.
func (e *Env) change(cmd *cobra.Command, r task.Request, words ...string) error {
	m, err := e.open(cmd.Context(), words...)
	if err != nil {
		return err
	}
	return e.settle(cmd.Context(), m, r)
}

func newTableNew(e *Env) *cobra.Command {
	scheme, entries := "gpt", 0
	cmd := &cobra.Command{
		Use: "new DISK", Short: "Give a disk a new partition table",
		Long: `Give a disk a new, empty partition table. What was on the disk is lost from view
and must be named. A GPT is what every machine of these days wants; an MBR has four
entries and reaches 2 TiB, and is for cards and for firmware that knows no other.`,
		Example:           "  fundus table new sdb --scheme gpt\n  fundus table new card.img --commit --lose=FIELDCARD",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &task.TableNew{Disk: args[0], Scheme: table.Scheme(scheme), Entries: entries}, args...)
		},
	}
	cmd.Flags().StringVar(&scheme, "scheme", scheme, "how the table is written: gpt or mbr")
	cmd.Flags().IntVar(&entries, "entries", 0, "how many partitions a GPT has room for: `NUMBER` from 128 (default 128)")
	return e.addChange(cmd)
}

func newTableRepair(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "repair DISK", Short: "Write both copies of a GPT anew from the good one",
		Long:              "Write both copies of a GPT, and its protective record, anew from the copy that is good.",
		Example:           "  fundus table repair sdb\n  fundus table repair card.img --draft",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &task.TableRepair{Disk: args[0]}, args...)
		},
	})
}
