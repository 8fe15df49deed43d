package cli

import (
	"github.com/spf13/cobra"

	"fundus/internal/task/content"
)

func newErase(e *Env) *cobra.Command {
	r := &content.Erase{}
	cmd := &cobra.Command{
		Use: "erase TARGET", Short: "Take off what a device is known by",
		Long: `Take the signatures off a device, so that nothing takes it for what it held: all of
them, or with --only one that is left from before and contradicts another. Contents
stay where they are, copies of superblocks further in too; a partition table goes
with fundus table new.`,
		Example:           "  fundus erase sdb1\n  fundus erase sdc --only ext4@1080 --draft",
		Args:              words(1, 1, "one device"),
		ValidArgsFunction: e.complete(unusedDevice),
		RunE:              func(cmd *cobra.Command, args []string) error { r.Target = args[0]; return e.change(cmd, r) },
	}
	f := cmd.Flags()
	f.StringArrayVar(&r.Only, "only", nil, "this signature alone: a `KIND`, or KIND@BYTE where it begins (repeatable)")
	f.StringVar(&r.References, "references", "", "what becomes of lines that name what goes: drop, disable or keep")
	return e.addChange(cmd)
}
