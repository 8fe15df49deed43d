package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/internal/task/content"
)

func newAdjust(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "adjust TARGET KEY=VALUE…", Short: "Give a file system other settings, or another identifier",
		Long: `Give what is on a device other settings without making it anew: those that
fundus settings TARGET shows as changeable, and uuid=ID or uuid=new, which every
kind has. Every line of a text file that names it by its identifier says the new
one, in the same deed. What is mounted has to be unmounted first; the UUID of an
ext4 with checksum-seed=yes the kernel changes while it is mounted.`,
		Example:           "  fundus adjust sdb1 reserved=1% on-error=read-only\n  fundus adjust card.img:1 uuid=new",
		Args:              words(2, 64, "a device, and settings as KEY=VALUE"),
		ValidArgsFunction: e.completeAdjust,
		RunE: func(cmd *cobra.Command, args []string) error {
			asked, err := settingsOf(args[1:])
			if err != nil {
				return err
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
