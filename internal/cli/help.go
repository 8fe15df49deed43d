package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/way"
	"fundus/docs/schema"
	"fundus/internal/view"
)

// wish is a line of the first help: what somebody wants, and the commands for it.
type wish struct{ want, commands string }

func wishes() []wish {
	return []wish{
		{"see what is there", "survey, inspect, references"},
		{"see what is possible", "settings, types, options"},
		{"find what is wrong", "verify, rehearse, fstab check"},
		{"a whole, empty disk", "prepare"},
		{"tables, partitions", "table, partition, resize, rescan"},
		{"file systems", "format, label, adjust, erase"},
		{"mount, now and at boot", "mount, unmount, swap, fstab, unit, gather"},
		{"go ahead, take back", "commit, draft, undo, recover, deed"},
		{"try it out", "demo, bench"},
	}
}

// addHelp gives the tree its help: of the root by what is wanted, of a command what it is for, examples
// and its own options. What all commands take stands in one place of its own.
func (e *Env) addHelp(root *cobra.Command) {
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		switch {
		case !e.text():
		case cmd == root:
			rootHelp(e.Out)
		case cmd.HasSubCommands():
			nounHelp(e.Out, cmd)
		default:
			commandHelp(e.Out, cmd)
		}
	})
	root.SetHelpCommand(&cobra.Command{
		Use:     "help [COMMAND | common | terms | codes | documents | document KIND]",
		Short:   "Explain a command, a term or a document",
		Example: "  fundus help partition add\n  fundus help terms\n  fundus help document draft",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
			at, _, err := root.Find(args)
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			if at == root {
				out = append(out, "common\toptions of every command", "terms\twords that Fundus uses", "codes\texit codes",
					"documents\tkinds of JSON documents", "document\tthe schema of one kind")
			}
			for _, c := range at.Commands() {
				out = append(out, c.Name()+"\t"+c.Short)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) == 1 && args[0] == "common":
				if e.text() {
					e.commonHelp(root)
				}
				return nil
			case len(args) == 1 && (args[0] == "terms" || args[0] == "codes"):
				if e.text() {
					page(e.Out, args[0])
				}
				return nil
			case len(args) == 1 && args[0] == "documents":
				return e.printer().Show(view.Kinds(schema.Kinds()))
			case len(args) == 2 && args[0] == "document":
				return e.showSchema(args[1])
			}
			cmd, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				e.words = args
				return e.unknownWord(root, args)
			}
			return cmd.Help()
		},
	})
}

// text reports whether help may be printed: it is a text for people, and no document.
func (e *Env) text() bool {
	e.helped = e.o.json || slices.Contains(e.words, "--json")
	return !e.helped
}

// showSchema prints the schema of one kind of document.
func (e *Env) showSchema(kind string) error {
	text, err := schema.Of(kind)
	if err != nil {
		return usageWay(way.Help("documents"), "%q: there is no such kind of document", kind)
	}
	_, err = e.Out.Write(text)
	return err
}

func rootHelp(w io.Writer) {
	fmt.Fprint(w, `Fundus prepares disks: partition tables, file systems, mounts and fstab. Nothing
is written until you have seen it, and what was committed can be undone.

`)
	for _, t := range wishes() {
		fmt.Fprintf(w, "  %-24s%s\n", t.want, t.commands)
	}
	fmt.Fprint(w, `
A TARGET is a device, an identifier (UUID=…), a mount point, or an image file:
card.img, card.img:1. See also: version, completion, manual.

  fundus survey            what is on the disks of this machine
  fundus demo              six steps on a simulated machine
  fundus help COMMAND      what a command is for, examples, options
  fundus help common       options of all commands; also: terms, codes
`)
}

// page prints one of the pages that belong to no command.
func page(w io.Writer, name string) {
	title, rows := "Words that Fundus uses in a sense of its own", terms()
	if name == "codes" {
		title, rows = "Exit codes of every command", codes()
	}
	fmt.Fprintf(w, "%s\n\n", title)
	for _, r := range rows {
		view.Hang(w, "  "+r.want, r.commands, 10)
	}
}

func terms() []wish {
	return []wish{
		{"draft", "a change that is planned and shown, and not written yet. Its code is four bytes in hexadecimal; fundus commit CODE carries it out."},
		{"deed", "a change that was committed, with the old and the new bytes. Deeds have numbers; fundus undo takes one back."},
		{"fence", "what is written in place of a superblock while a deed is under way, so that nothing mounts what is half written. " +
			"After a power cut fundus recover replaces it."},
		{"bench", "a simulated machine in a directory: disks, mounts, fstab and a kernel that refuses what a real one refuses."},
		{"gap", "free space between partitions that can take one; numbered in fundus partition list."},
		{"kind", "what a file system is: ext4, xfs, fat …; also swap."},
	}
}

func codes() []wish {
	return []wish{
		{"0", "done, nothing to do, or a draft was shown"},
		{"1", "refused or failed, or answered with no; nothing was changed"},
		{"2", "wrong usage; no device was read or changed"},
		{"3", "a draft waits for fundus commit CODE"},
		{"4", "there are findings of --severity or worse"},
		{"5", "stopped midway; fundus recover completes it or rolls it back"},
		{"6", "done, takes effect at the next boot"},
	}
}

func nounHelp(w io.Writer, cmd *cobra.Command) {
	fmt.Fprintf(w, "%s\n\n", view.Paragraphs(cmd.Long))
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			view.Hang(w, "  "+strings.TrimPrefix(useOf(c), "fundus "), c.Short, 34)
		}
	}
	fmt.Fprintf(w, "\n%s\n", cmd.Example)
}

func commandHelp(w io.Writer, cmd *cobra.Command) {
	long := cmd.Long
	if long == "" {
		long = cmd.Short + "."
	}
	fmt.Fprintf(w, "%s\n%s\n\n%s\n", useOf(cmd), view.Paragraphs(long), cmd.Example)
	own, change := ownOptions(cmd)
	if len(own) > 0 {
		fmt.Fprintln(w)
	}
	optionList(w, own)
	if change {
		if len(own) == 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprint(w, "  Changes also take --draft, --commit, --lose … (fundus help common)\n")
	}
}

// useOf is the line that shows which words a command takes.
func useOf(cmd *cobra.Command) string { return strings.TrimSuffix(cmd.UseLine(), " [flags]") }

// ownOptions are those that only this command has, and whether it takes those of changes.
func ownOptions(cmd *cobra.Command) (own []*pflag.Flag, change bool) {
	common := changeOptions()
	cmd.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		switch {
		case f.Name == "help" || f.Hidden:
		case common.Lookup(f.Name) != nil && cmd.Flags().Lookup("lose") != nil:
			change = true
		default:
			own = append(own, f)
		}
	})
	return own, change
}

// changeOptions are the options of every command that changes something.
func changeOptions() *pflag.FlagSet { return (&Env{}).addChange(&cobra.Command{}).Flags() }

func (e *Env) commonHelp(root *cobra.Command) {
	fmt.Fprintln(e.Out, "Every command takes")
	optionList(e.Out, visible(root.PersistentFlags()))
	fmt.Fprintln(e.Out, "\nand every one that changes something")
	optionList(e.Out, visible(changeOptions()))
}

func optionList(w io.Writer, list []*pflag.Flag) {
	for _, f := range list {
		name := "  --" + f.Name
		value, usage := optionWords(f)
		if value != "" {
			name += "=" + value
		}
		view.Hang(w, name, usage, 26)
	}
}

// optionWords are what an option takes, in capitals, and what it is for.
func optionWords(f *pflag.Flag) (value, usage string) {
	switch value, usage = pflag.UnquoteUsage(f); value {
	case "string", "stringArray", "strings":
		return "WORD", usage
	}
	return strings.ToUpper(value), usage
}
