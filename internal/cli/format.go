package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/core/way"
	"fundus/internal/task/content"
)

func newFormat(e *Env) *cobra.Command {
	r := &content.Format{}
	cmd := &cobra.Command{
		Use: "format TARGET KIND [KEY=VALUE…]", Short: "Create a file system on a partition, a disk or an image",
		Long: `Create a file system on a partition, a whole disk or an image, and remove every
other signature from it. Old contents must be named with --lose; fundus undo
restores them until the new file system is mounted read-write. Each KEY=VALUE is
a setting of the kind: fundus settings KIND lists them, and size=SIZE leaves
space after it. Settings you omit come from the configuration or are chosen to
suit the device; the draft shows each value and its origin.`,
		Example:           "  fundus format sdb1 ext4 --label herbarium reserved=1%\n  fundus format card.img:1 ext4 --lose=FIELDCARD --commit",
		Args:              words(2, 64, "a device and a kind, such as ext4, and settings as KEY=VALUE"),
		ValidArgsFunction: e.completeFormat,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			_, errFirst := kind.FindMaker(strings.ToLower(args[0]))
			if _, errSecond := kind.FindMaker(strings.ToLower(args[1])); errFirst == nil && errSecond != nil {
				right := append([]string{"format", args[1], args[0]}, args[2:]...)
				return usageWay(harmless(cmd.Root(), nil, right), "the device stands before the kind")
			}
			r.Target, r.Kind = args[0], strings.ToLower(args[1])
			if r.Asked, err = settingsOf(args[2:]); err != nil {
				return err
			}
			if bits, is := strings.CutPrefix(r.Kind, "fat"); is && bits != "" { // FAT32 and the like, as it is shown
				if r.Kind = "fat"; r.Asked["bits"] == "" {
					r.Asked["bits"] = bits
				}
			}
			if m, err := kind.FindMaker(r.Kind); err == nil {
				r.Kind = m.Word
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.Label, "label", "", "`LABEL` of the file system")
	f.StringVar(&r.References, "references", "", "lines with the old ID: follow, drop, disable or keep")
	f.StringVar(&r.Type, "type", "", "`fit` sets a partition type that fits")
	f.BoolVar(&r.Discard, "discard", false, "discard unused blocks at the end; cannot be undone")
	f.BoolVar(&r.Unless, "unless-there", false, "do nothing if it has this kind and label already")
	f.StringVar(&r.UUID, "uuid", content.NewID,
		"the file system's identifier: an `ID`, new for a random one, or keep for that of what is there")
	return e.addChange(cmd)
}

// settingsOf reads words of the form KEY=VALUE.
func settingsOf(words []string) (map[string]string, error) {
	asked := map[string]string{}
	for _, w := range words {
		key, value, ok := strings.Cut(w, "=")
		if _, twice := asked[key]; twice {
			return nil, usagef("%s is said twice", key)
		}
		if !ok || key == "" || value == "" {
			return nil, usageWay(way.Settings(), "%q: a setting is written KEY=VALUE", w)
		}
		asked[key] = value
	}
	return asked, nil
}

// completeFormat offers devices, then kinds, then the settings of the kind with their
// values where these are few.
func (e *Env) completeFormat(cmd *cobra.Command, args []string, begun string) (out []string, _ cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return e.complete(unusedDevice)(cmd, args, begun)
	case 1:
		return kind.Words(), cobra.ShellCompDirectiveNoFileComp
	}
	m, err := kind.FindMaker(args[1])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, s := range m.Settings() {
		for _, value := range s.Words() {
			out = append(out, s.Key+"="+value)
		}
		if len(s.Only) == 0 {
			out = append(out, s.Key+"=\t"+s.Takes())
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// settingHint answers an option that is a setting.
func settingHint(option string) string {
	for _, m := range kind.Makers() {
		for _, s := range m.Settings() {
			if s.Key == strings.TrimSuffix(option, "-size") {
				return s.Key + " is a setting: after the kind write " + s.Key + "=VALUE, which takes " + s.Takes()
			}
		}
	}
	return ""
}

func newLabel(e *Env) *cobra.Command {
	none := false
	cmd := &cobra.Command{
		Use: "label TARGET NAME", Short: "Set the label of a file system",
		Long:              `Set the label of a file system, or remove it with --none.`,
		Example:           "  fundus label sdb1 herbarium\n  fundus label card.img:1 --none",
		Args:              words(1, 2, "a device and a label, or a device and --none"),
		ValidArgsFunction: e.complete(labelled),
		RunE: func(cmd *cobra.Command, args []string) error {
			if none == (len(args) == 2) {
				return usageWay(way.Help("label"), "say either the label or --none")
			}
			if len(args) == 2 && deviceLike(args[1]) && !deviceLike(args[0]) {
				return usageWay(way.Label(args[1], args[0]), "the device stands before the label")
			}
			r := &content.Label{Target: args[0]}
			if !none {
				r.Label = args[1]
			}
			return e.change(cmd, r)
		},
	}
	cmd.Flags().BoolVar(&none, "none", false, "remove the label")
	return e.addChange(cmd)
}
