package cli

import (
	"cmp"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/way"
	"fundus/internal/machine/live"
	"fundus/internal/view"
)

// NewRoot builds the command tree anew.
func NewRoot(e *Env) *cobra.Command {
	release := false
	root := &cobra.Command{
		Use:           "fundus",
		Short:         "Prepare disks: tables, file systems, fstab; nothing is written before it was shown",
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
		return cmp.Or(e.configure(cmd), e.checkCommon(), e.checkDocument(cmd))
	}
	root.AddCommand(newSurvey(e), newInspect(e), newVerify(e), newRehearse(e), newReferences(e), newTypes(e), newSettings(e), newOptions(e))
	root.AddCommand(newTable(e), newPartition(e), newResize(e), newRescan(e), newPrepare(e), newFormat(e), newLabel(e), newAdjust(e), newErase(e))
	root.AddCommand(newMount(e), newUnmount(e), newGather(e), newSwap(e), newFstab(e), newUnit(e))
	root.AddCommand(newCommit(e), newDraft(e), newDeed(e), newUndo(e), newRecover(e), newBench(e), newDemo(e))
	e.addHelp(root)
	root.AddCommand(newVersion(e), newCompletion(e, root), newManual(root))
	root.CompletionOptions.DisableDefaultCmd = true
	e.addCompletion(root)
	return root
}

// group makes a noun: a command that only has commands below it.
func (e *Env) group(use, short, example string, below ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: short + ".", Example: example, Args: cobra.ArbitraryArgs,
		RunE: e.unknownWord}
	cmd.AddCommand(below...)
	return cmd
}

// checkDocument refuses --json where what is asked for is a text for people, or for a shell.
func (e *Env) checkDocument(cmd *cobra.Command) error {
	if name := cmd.CommandPath(); e.o.json && (name == "fundus completion" || name == "fundus demo") {
		return usageWay(way.Help("documents"), "%s has no document: leave --json out", name)
	}
	return nil
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
	return strings.HasPrefix(word, "/dev/") || strings.HasSuffix(word, ".img") || strings.ContainsAny(word, "0123456789=:") ||
		live.Knows(word) ||
		len(word) == 3 && (strings.HasPrefix(word, "sd") || strings.HasPrefix(word, "vd"))
}

// Version is what this release is called, and Date the day of it. The linker sets both, from the tag or
// the commit, where the program is built for a package.
var (
	Version = "0.1.0"
	Date    = "2026-12-01"
)

func newVersion(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show the release", Example: "  fundus version\n  fundus version --json",
		Args: words(0, 0, "no words"),
		RunE: func(*cobra.Command, []string) error { return showVersion(e) },
	}
}

func showVersion(e *Env) error {
	v := view.Version{Release: Version}
	if info, ok := debug.ReadBuildInfo(); ok {
		v.Go = info.GoVersion
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				v.Commit = s.Value
			}
		}
	}
	return e.printer().Show(v)
}
