package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/core/way"
	"fundus/internal/task/content"
)

func newAdjust(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "adjust TARGET KEY=VALUE…", Short: "Change settings of a file system, or its identifier",
		Long: `Change settings of a file system without creating it again: those that fundus
settings TARGET shows as changeable, and uuid=ID or uuid=new, which every kind
has. Lines of text files that use the old identifier get the new one in the same
deed. Unmount it first; the UUID of an ext4 with checksum-seed=yes can be changed
while it is mounted.`,
		Example:           "  fundus adjust sdb1 reserved=1% on-error=read-only\n  fundus adjust card.img:1 uuid=new",
		Args:              words(2, 64, "a device, and settings as KEY=VALUE"),
		ValidArgsFunction: e.completeAdjust,
		RunE: func(cmd *cobra.Command, args []string) error {
			asked, err := settingsOf(args[1:])
			if err != nil {
				return err
			}
			if label, is := asked["label"]; is {
				return usageWay(way.Label(args[0], label), "a label is set by a command of its own")
			}
			return e.change(cmd, &content.Adjust{Target: args[0], Asked: asked})
		},
	})
}

// completeAdjust offers devices, and then the settings that what is on the device can be given
// later.
func (e *Env) completeAdjust(cmd *cobra.Command, args []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	if len(args) == 0 {
		return e.completeDevices(cmd, args, begun)
	}
	m, err := e.open(cmd.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	v, err := m.Machine.Inventory(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	n, _ := v.Node(args[0])
	c, ok := n.Content()
	k, known := kind.Of(c)
	if !ok || !known || k.SetID == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, s := range k.MakerLike(c.Kind).Settings() {
		switch {
		case k.Adjust == nil || !s.When.Later():
		case s.Later != "":
			out = append(out, s.Key+"="+s.Later)
		case len(s.Only) == 0:
			out = append(out, s.Key+"=\t"+s.Takes())
		default:
			for _, value := range s.Words() {
				out = append(out, s.Key+"="+value)
			}
		}
	}
	return append(out, content.IDKey+"=new"), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}
