package cli

import (
	"cmp"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fundus/internal/machine/live"
	"fundus/internal/view"
)

// NewRoot builds the command tree anew.
func NewRoot(e *Env) *cobra.Command {
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
		RunE:          func(cmd *cobra.Command, args []string) error { return unknownWord(cmd, args) },
	}
	root.SetOut(e.Out)
	root.SetErr(e.Err)
	root.SetIn(e.In)
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		if hint := optionHint(cmd, err.Error()); hint != "" {
			return usagef("%w; %s", err, hint)
		}
		return usageWay(strings.TrimSpace("fundus help"+strings.TrimPrefix(cmd.CommandPath(), "fundus")), "%w", err)
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

// optionHint catches a leading minus where a change of size was meant, and an option of
// format that is a setting.
func optionHint(cmd *cobra.Command, words string) string {
	if strings.Contains(words, "unknown shorthand flag") && strings.ContainsAny(words, "0123456789") {
		return "a size never begins with a minus; a change of size is written --by=-4GiB"
	}
	if option, ok := strings.CutPrefix(words, "unknown flag: --"); ok && cmd.Name() == "format" {
		return settingHint(option)
	}
	return ""
}

// group makes a noun: a command that only has commands below it.
func group(use, short, example string, below ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: short + ".", Example: example, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error { return unknownWord(cmd, args) }}
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

// unknownWord answers a word that is no command with the right one.
func unknownWord(cmd *cobra.Command, args []string) error {
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	if len(args) == 0 {
		if cmd.Parent() == nil {
			return cmd.Help()
		}
		return usagef("%s what? there is %s", strings.TrimPrefix(cmd.CommandPath(), "fundus "), strings.Join(names, ", "))
	}
	phrase := strings.TrimPrefix(cmd.CommandPath()+" "+args[0], "fundus ")
	if list, ok := cmd.Annotations[forDevice]; ok && deviceLike(args[0]) {
		return usageWay("fundus "+list+" "+args[0], "%s what? there is %s", strings.TrimPrefix(cmd.CommandPath(), "fundus "), strings.Join(names, ", "))
	}
	for _, miss := range nearMisses() {
		if slices.Contains(miss.words, phrase) {
			return usageWay(miss.next(), "there is no command %q", phrase)
		}
	}
	cmd.SuggestionsMinimumDistance = 2
	for _, near := range cmd.SuggestionsFor(args[0]) {
		right := strings.TrimPrefix(cmd.CommandPath()+" "+near, "fundus ")
		if !destroys(right) {
			return usageWay("fundus "+right, "there is no command %q; did you mean this?", phrase)
		}
	}
	return usageWay(strings.TrimSpace("fundus help "+strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "fundus"), " ")), "there is no command %q", phrase)
}

// destroys reports whether a command can take something away that no other brings back by
// the same word: such a word is not guessed at from one that is spelled alike.
func destroys(command string) bool {
	for _, word := range []string{"format", "remove", "restore", "new", "erase"} {
		if command == word || strings.HasSuffix(command, " "+word) {
			return true
		}
	}
	return false
}

type miss struct {
	words       []string
	right, args string // a command, and what it takes
}

// next is the line that leads on: never a command that destroys, but the help of that.
func (m miss) next() string {
	if destroys(m.right) {
		return "fundus help " + m.right
	}
	return strings.TrimSpace("fundus " + m.right + " " + m.args)
}

// nearMisses are words that people try by mistake.
func nearMisses() []miss {
	return []miss{
		{[]string{"list", "show", "disks", "devices", "status", "ls", "disk", "scan", "disk list"}, "survey", ""},
		{[]string{"info", "details"}, "inspect", "TARGET"},
		{[]string{"validate", "check", "doctor"}, "verify", ""},
		{[]string{"partition new", "partition create", "create", "new", "add"}, "partition add", "DISK"},
		{[]string{"partition delete", "partition rm", "delete", "remove", "rm"}, "partition remove", "TARGET"},
		{[]string{"partition resize", "grow", "shrink", "extend"}, "resize", "TARGET SIZE"},
		{[]string{"partition change", "partition set", "partition rename", "partition type"}, "partition edit", "TARGET"},
		{[]string{"partition show", "partition print"}, "partition list", "DISK"},
		{[]string{"reread", "refresh", "reload"}, "rescan", "DISK"},
		{[]string{"partition format", "table format", "make"}, "format", "TARGET KIND"},
		{[]string{"partition label", "rename"}, "label", "TARGET NAME"},
		{[]string{"table add", "table create"}, "table new", "DISK"},
		{[]string{"table list", "table show", "table print"}, "partition list", "DISK"},
		{[]string{"table backup"}, "table save", "DISK FILE"},
		{[]string{"fstab new", "fstab append"}, "fstab add", "TARGET DIRECTORY"},
		{[]string{"fstab delete", "fstab rm"}, "fstab remove", "TARGET"},
		{[]string{"fstab verify", "fstab test"}, "fstab check", ""},
		{[]string{"boot", "reboot", "simulate"}, "rehearse", ""},
		{[]string{"history", "log"}, "deed list", ""},
		{[]string{"revert", "rollback", "deed undo", "redo"}, "undo", "DEED"},
		{[]string{"deed recover", "repair"}, "recover", ""},
		{[]string{"umount", "unmounted", "eject"}, "unmount", "TARGET"},
		{[]string{"apply", "write", "draft commit"}, "commit", "CODE"},
	}
}

// words asks for a number of words between least and most, and says what they
// are when it is another.
func words(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < least || len(args) > most {
			return usageWay("fundus help "+strings.TrimPrefix(cmd.CommandPath(), "fundus "), "%s takes %s", strings.TrimPrefix(cmd.CommandPath(), "fundus "), what)
		}
		return nil
	}
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
		RunE: func(*cobra.Command, []string) error {
			text := "fundus " + Version
			if info, ok := debug.ReadBuildInfo(); ok {
				text += " (" + info.GoVersion + ")"
			}
			return e.printer().Show(view.Message{Kind: "version", Text: text})
		},
	}
}
