package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/fs/ext"
	"fundus/core/quantity"
	"fundus/internal/task"
)

func newFormat(e *Env) *cobra.Command {
	r := &task.Format{Reserved: ext.DefaultReservedTenths}
	var blockSize, reserved string
	cmd := &cobra.Command{
		Use: "format TARGET KIND", Short: "Make a file system on a partition or a disk",
		Long: `Make a file system on a partition, a whole disk or an image. Every other
signature on it is removed. What was there must be named with --lose, and comes
back by fundus undo until the new file system is mounted for writing.`,
		Example:           "  fundus format sdb1 ext4 --label herbarium\n  fundus format card.img:1 ext4 --lose=FIELDCARD --commit",
		Args:              words(2, 2, "a device and a kind, such as ext4"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := parseFormat(r, blockSize, reserved); err != nil {
				return err
			}
			r.Target, r.Kind = args[0], strings.ToLower(args[1])
			return e.change(cmd, r, args[0])
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.Label, "label", "", "the file system's `LABEL`")
	f.StringVar(&r.UUID, "uuid", "", "the file system's `UUID` (default: a new random one)")
	f.StringVar(&blockSize, "block-size", "", "block size: 1024B, 2048B or 4096B (default: chosen by size)")
	f.StringVar(&reserved, "reserved", "5%", "share kept for root, such as 5% or 0.5%")
	return e.addChange(cmd)
}

// parseFormat reads the words that are numbers.
func parseFormat(r *task.Format, blockSize, reserved string) error {
	if blockSize != "" {
		size, err := quantity.Parse(blockSize)
		if n, errNumber := strconv.Atoi(blockSize); errNumber == nil {
			size, err = quantity.Parse(strconv.Itoa(n) + "B")
		}
		if err != nil {
			return usagef("--block-size=%w", err)
		}
		if r.BlockSize, err = size.Resolve(512, 0); err != nil {
			return usageError{err}
		}
	}
	share, err := strconv.ParseFloat(strings.TrimSuffix(reserved, "%"), 64)
	if err != nil || share < 0 || share > 50 {
		return usagef("--reserved=%s: a share from 0%% to 50%%", reserved)
	}
	r.Reserved = int(share*10 + 0.5)
	return nil
}

func newLabel(e *Env) *cobra.Command {
	none := false
	cmd := &cobra.Command{
		Use: "label TARGET NAME", Short: "Give a file system a label",
		Long:              "Give a file system a label, or take its label away with --none.",
		Example:           "  fundus label sdb1 herbarium\n  fundus label card.img:1 --none",
		Args:              words(1, 2, "a device and a label, or a device and --none"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if none == (len(args) == 2) {
				return usagef("say either the label or --none; see fundus help label")
			}
			r := &task.Label{Target: args[0]}
			if !none {
				r.Label = args[1]
			}
			return e.change(cmd, r, args[0])
		},
	}
	cmd.Flags().BoolVar(&none, "none", false, "take the label away")
	return e.addChange(cmd)
}
