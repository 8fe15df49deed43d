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
		Use: "format TARGET KIND [KEY=VALUE…]", Short: "Make a file system on a partition or a disk",
		Long: `Make a file system on a partition, a whole disk or an image. Every other
signature on it is removed. What was there must be named with --lose, and comes
back by fundus undo until the new file system is mounted for writing.

Each KEY=VALUE is a setting of the kind; fundus settings KIND lists them with what
they take; size=SIZE, of every kind, leaves room behind it. What is not said
comes from the configuration, or is chosen by the size of the device; the draft
shows every value and where it is from.`,
		Example:           "  fundus format sdb1 ext4 --label herbarium reserved=1%\n  fundus format card.img:1 ext4 --lose=FIELDCARD --commit",
		Args:              words(2, 64, "a device and a kind, such as ext4, and settings as KEY=VALUE"),
		ValidArgsFunction: e.completeFormat,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			_, errFirst := kind.FindMaker(strings.ToLower(args[0]))
			if _, errSecond := kind.FindMaker(strings.ToLower(args[1])); errFirst == nil && errSecond != nil {
				return usageWay(way.Help("format"), "the device stands before the kind: %s %s", args[1], args[0])
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
	f.StringVar(&r.Label, "label", "", "the file system's `LABEL`")
	f.StringVar(&r.References, "references", "", "what becomes of lines that say an identifier of before: follow, drop, disable or keep")
	f.StringVar(&r.Type, "type", "", "fit: the partition's type becomes one that fits, in the same deed (`WORD`)")
	f.BoolVar(&r.Discard, "discard", false, "tell the device at the end that the rest is not needed: from then on there is no way back")
	f.BoolVar(&r.Unless, "unless-there", false, "do nothing where it is there already, of that kind and label")
	f.StringVar(&r.UUID, "uuid", content.NewID, "the file system's identifier: an `ID`, new for a random one, or keep for that of what is there")
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
				return s.Key + " is a setting: behind the kind write " + s.Key + "=VALUE, which takes " + s.Takes()
			}
		}
	}
	return ""
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
				return usageWay(way.Help("label"), "say either the label or --none")
			}
			r := &content.Label{Target: args[0]}
			if !none {
				r.Label = args[1]
			}
			return e.change(cmd, r)
		},
	}
	cmd.Flags().BoolVar(&none, "none", false, "take the label away")
	return e.addChange(cmd)
}
