package cli

import (
	"fmt"
	"github.com/spf13/cobra"

	"fundus/core/quantity"
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
	scheme := "gpt"
	cmd := &cobra.Command{
		Use: "new DISK", Short: "Give a disk a new partition table",
		Long:              "Give a disk a new, empty partition table. What was on the disk is lost from view and must be named.",
		Example:           "  fundus table new sdb --scheme gpt\n  fundus table new card.img --commit --lose=FIELDCARD",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &task.TableNew{Disk: args[0], Scheme: table.Scheme(scheme)}, args...)
		},
	}
	cmd.Flags().StringVar(&scheme, "scheme", scheme, "how the table is written: gpt")
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

func newPartition(e *Env) *cobra.Command {
	return group("partition", "List, add and remove partitions", "  fundus partition list sdb\n  fundus partition add sdb --size 20GiB", newPartitionList(e), newPartitionAdd(e), newPartitionRemove(e))
}

func newPartitionList(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "list DISK", Short: "See the partitions of a disk with their sectors",
		Long:              "See the partitions of a disk with their first and last sectors, names and identifiers.",
		Example:           "  fundus partition list sdb\n  fundus partition list card.img --sizes=bytes",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := e.survey(cmd.Context(), args, task.SurveyFilter{})
			if err != nil {
				return err
			}
			if d := s.Disks[0]; d.Table == nil && d.Problem != "" {
				return fmt.Errorf("%s: %s", d.Name, d.Problem)
			}
			return e.printer().Partitions(s)
		},
	}
}

func newPartitionAdd(e *Env) *cobra.Command {
	r := &task.PartitionAdd{}
	var size string
	cmd := &cobra.Command{
		Use: "add DISK", Short: "Add a partition in the first gap that takes it",
		Long: `Add a partition in the first gap that takes it, or over the whole largest gap if
no size is given. It starts on the alignment step, and its size is rounded up to
it. Old content in that space must be kept or erased on purpose: --content.`,
		Example:           "  fundus partition add sdb --size 20GiB --name herbarium\n  fundus partition add card.img --type linux --content=erase",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if size != "" {
				var err error
				if r.Size, err = quantity.Parse(size); err != nil {
					return usagef("--size=%w", err)
				}
			}
			r.Disk = args[0]
			return e.change(cmd, r, args...)
		},
	}
	f := cmd.Flags()
	f.StringVar(&size, "size", "", "how large: `SIZE` such as 20GiB, 50% or max")
	f.StringVar(&r.Name, "name", "", "the partition's `NAME` in the table")
	f.StringVar(&r.Type, "type", "linux", "what it is for: linux, root, home, srv, swap, efi, or a GUID")
	f.StringVar(&r.Content, "content", "", "what becomes of old content in that space: keep or erase")
	return e.addChange(cmd)
}

func newPartitionRemove(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "remove TARGET", Short: "Take a partition out of the table",
		Long:              "Take a partition out of the table. It must not be in use, and what is on it must be named.",
		Example:           "  fundus partition remove sdb2\n  fundus partition remove card.img:1 --commit --lose=FIELDCARD",
		Args:              words(1, 1, "one partition"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd, &task.PartitionRemove{Target: args[0]}, args...)
		},
	})
}
