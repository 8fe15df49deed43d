package cli

import (
	"cmp"
	"fmt"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/internal/machine/live"
	"fundus/internal/view"
)

// NewRoot builds the command tree anew.
func NewRoot(e *Env) *cobra.Command {
	release := false
	root := &cobra.Command{
		Use:   "fundus",
		Short: "Prepare disks: tables, file systems, fstab; nothing is written before it was shown",
		Long: `Fundus looks at disks, makes partition tables and file systems, mounts them and
makes them permanent. Every change is first worked out on a copy and shown as a
draft; what was committed can be taken back with fundus undo.

The same commands work on this machine, on image files (fundus survey card.img),
and on a bench, a simulated machine to try things on (fundus bench new).`,
		Example:       "  fundus demo\n  fundus bench new fernhill --host fernhill",
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if release {
				return showVersion(e)
			}
			return e.unknownWord(cmd, args)
		},
	}
	root.Flags().BoolVar(&release, "version", false, "say which release this is")
	root.SetOut(e.Out)
	root.SetErr(e.Err)
	root.SetIn(e.In)
	root.SetFlagErrorFunc(e.badOption)
	root.SetGlobalNormalizationFunc(func(_ *pflag.FlagSet, name string) pflag.NormalizedName {
		if name == "color" { // the other spelling of the word
			name = "colour"
		}
		return pflag.NormalizedName(name)
	})
	e.addCommon(root)
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		return cmp.Or(e.configure(cmd), e.checkCommon())
	}
	for _, g := range [][2]string{{"look", "Look:"}, {"disk", "Partition tables and partitions:"}, {"content", "File systems:"}, {"use", "Mounting and fstab:"}, {"history", "Drafts and deeds:"}, {"trying", "Trying things out:"}} {
		root.AddGroup(&cobra.Group{ID: g[0], Title: g[1]})
	}
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("look", newSurvey(e), newInspect(e), newVerify(e), newRehearse(e), newReferences(e), newTypes(e), newSettings(e))
	add("disk", newTable(e), newPartition(e), newResize(e), newRescan(e))
	add("content", newFormat(e), newLabel(e))
	add("use", newMount(e), newUnmount(e), newFstab(e))
	add("history", newCommit(e), newDraft(e), newDeed(e), newUndo(e), newRecover(e))
	add("trying", newBench(e), newDemo(e))
	root.AddCommand(newVersion(e))
	return root
}

// group makes a noun: a command that only has commands below it.
func (e *Env) group(use, short, example string, below ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: short + ".", Example: example, Args: cobra.ArbitraryArgs,
		RunE: e.unknownWord}
	cmd.AddCommand(below...)
	return cmd
}

// forDevice is the note of a noun that a device was named behind: with which command one
// looks at it.
const forDevice = "for a device"

// about notes with which command one looks at a device that is named behind the noun.
func about(list string, noun *cobra.Command) *cobra.Command {
	noun.Annotations = map[string]string{forDevice: list}
	return noun
}

// deviceLike reports whether the word looks like a device, or an image.
func deviceLike(word string) bool {
	return strings.HasPrefix(word, "/dev/") || strings.HasSuffix(word, ".img") || strings.ContainsAny(word, "0123456789=:") || live.Knows(word) || len(word) == 3 && (strings.HasPrefix(word, "sd") || strings.HasPrefix(word, "vd"))
}

// completeDevices offers the devices of the machine at hand for the first word.
func (e *Env) completeDevices(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	m, err := e.open(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	v, err := m.Inventory(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var out []string
	for _, n := range v.Nodes {
		out = append(out, fmt.Sprintf("%s\t%s %v", n.Name, n.Holds(), n.Size))
	}
	return out, cobra.ShellCompDirectiveDefault
}

// Version is what this release is called.
const Version = "0.1.0"

func newVersion(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Say which release this is", Example: "  fundus version\n  fundus version --json", Args: words(0, 0, "no words"),
		RunE: func(*cobra.Command, []string) error { return showVersion(e) },
	}
}

func showVersion(e *Env) error {
	text := "fundus " + Version
	if info, ok := debug.ReadBuildInfo(); ok {
		text += " (" + info.GoVersion + ")"
	}
	return e.printer().Show(view.Message{Kind: "version", Text: text})
}
