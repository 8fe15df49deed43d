package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/docs/schema"
	"fundus/internal/config"
	"fundus/internal/manual"
)

// administration is the section of the manual for what administrators run; format that of files, and
// convention that of what is agreed on.
const (
	administration = 8
	format         = 5
	convention     = 7
)

func newManual(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "manual DIRECTORY", Short: "Write the manual pages",
		Long: `Write the manual pages into a directory, one for each command, and those of the
configuration and the documents.`,
		Example: "  fundus manual /usr/local/share/man/man8\n  fundus manual pages",
		Args:    words(1, 1, "one directory"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
		RunE: func(_ *cobra.Command, args []string) error {
			pages, err := manualPages(root)
			if err != nil {
				return err
			}
			for _, p := range pages {
				if err := os.WriteFile(filepath.Join(args[0], p.File()), p.Bytes(), 0o644); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

// manualPages are all pages: what a new command or option says of itself stands in them without further
// work.
func manualPages(root *cobra.Command) ([]*manual.Page, error) {
	documents, err := documentsPage()
	if err != nil {
		return nil, err
	}
	pages := []*manual.Page{firstPage(root), configurationPage(), documents}
	for _, cmd := range root.Commands() {
		if cmd.IsAvailableCommand() && cmd.Name() != "help" {
			pages = append(pages, commandPage(cmd))
		}
	}
	return pages, nil
}

func newPage(name string, section int, short string) *manual.Page {
	return manual.New(name, section, Date, Version, short)
}

func firstPage(root *cobra.Command) *manual.Page {
	p := newPage("fundus", administration, "prepare disks: partition tables, file systems, mounts and fstab")
	p.Heading("Synopsis")
	p.Synopsis("fundus", "COMMAND [WORDS] [OPTIONS]")
	p.Heading("Description")
	p.Text("Fundus inspects block devices, creates partition tables and file systems, and keeps fstab, units and mounts. " +
		"Nothing is written until you have seen it: a change is a draft first, which is shown and then committed. " +
		"What was committed is a deed, which can be undone.")
	p.Text("A TARGET is a device (sdb1), an identifier (UUID=…), a mount point, or an image file (card.img, card.img:1).")
	p.Heading("Commands")
	for _, w := range wishes() {
		p.Sub(strings.ToUpper(w.want[:1]) + w.want[1:])
		for name := range strings.SplitSeq(w.commands, ", ") {
			if cmd, _, err := root.Find(strings.Fields(name)); err == nil {
				p.Word("fundus "+name, "", cmd.Short+".")
			}
		}
	}
	p.Heading("Options")
	p.Text("Every command takes:")
	manualOptions(p, visible(root.PersistentFlags()))
	p.Text("Every command that changes something takes:")
	manualOptions(p, visible(changeOptions()))
	p.Heading("Exit status")
	for _, c := range codes() {
		p.Word(c.want, "", c.commands+".")
	}
	p.Heading("Terms")
	for _, t := range terms() {
		p.Word(t.want, "", t.commands)
	}
	p.Heading("Environment")
	p.Word("FUNDUS_BENCH", "", "the simulated machine to work on, as with --bench.")
	p.Word("NO_COLOR", "", "no colours, unless they are asked for.")
	p.Word("XDG_CONFIG_HOME, XDG_STATE_HOME", "", "where the configuration of a user is, and the deeds of one who is not root.")
	p.Heading("Files")
	p.Word("/var/lib/fundus", "", "deeds and stored drafts. An undo needs them.")
	p.Word(config.System, "", "the configuration; see fundus.yaml(5).")
	p.Heading("See also")
	p.See([2]string{"fundus.yaml", "5"}, [2]string{"fstab", "5"}, [2]string{"fundus-documents", "7"}, [2]string{"fundus-survey", "8"})
	return p
}

// commandPage is that of a command of the first level, with those below it.
func commandPage(cmd *cobra.Command) *manual.Page {
	p := newPage("fundus-"+cmd.Name(), administration, lowered(cmd.Short))
	below := []*cobra.Command{cmd}
	if cmd.HasSubCommands() {
		below = available(cmd)
	}
	p.Heading("Synopsis")
	for i, c := range below {
		if i > 0 {
			p.Break()
		}
		typed, rest, _ := strings.Cut(useOf(c), " "+firstOperand(c))
		if firstOperand(c) == "" {
			typed, rest = useOf(c), ""
		} else {
			rest = firstOperand(c) + rest
		}
		p.Synopsis(typed, rest)
	}
	p.Heading("Description")
	changes := false
	for _, c := range below {
		if cmd.HasSubCommands() {
			p.Sub(strings.TrimPrefix(c.CommandPath(), "fundus "))
		}
		p.Text(longOf(c))
		own, change := ownOptions(c)
		manualOptions(p, own)
		changes = changes || change
	}
	if changes {
		p.Heading("Options of changes")
		manualOptions(p, visible(changeOptions()))
	}
	p.Heading("Examples")
	for _, c := range below {
		p.Lines(c.Example)
	}
	p.Heading("See also")
	p.See([2]string{"fundus", "8"})
	return p
}

// available are the commands below one, without those that are hidden.
func available(cmd *cobra.Command) (out []*cobra.Command) {
	for _, c := range cmd.Commands() {
		switch {
		case !c.IsAvailableCommand():
		case c.HasSubCommands():
			out = append(out, available(c)...)
		default:
			out = append(out, c)
		}
	}
	return out
}

// firstOperand is the first word of a use that stands for another one.
func firstOperand(c *cobra.Command) string {
	for w := range strings.FieldsSeq(strings.TrimPrefix(useOf(c), c.CommandPath())) {
		return w
	}
	return ""
}

func longOf(c *cobra.Command) string {
	if c.Long == "" {
		return c.Short + "."
	}
	return c.Long
}

// lowered is a title within a line.
func lowered(title string) string {
	if len(title) > 1 && title[1] >= 'a' && title[1] <= 'z' {
		return strings.ToLower(title[:1]) + title[1:]
	}
	return title
}

// visible are the options of a set, but for help.
func visible(set *pflag.FlagSet) (out []*pflag.Flag) {
	set.VisitAll(func(f *pflag.Flag) {
		if f.Name != "help" && !f.Hidden {
			out = append(out, f)
		}
	})
	return out
}

func manualOptions(p *manual.Page, list []*pflag.Flag) {
	for _, f := range list {
		value, usage := optionWords(f)
		name := "--" + f.Name
		if value != "" {
			name += "="
		}
		p.Word(name, value, usage+".")
	}
}

func configurationPage() *manual.Page {
	p := newPage("fundus.yaml", format, "configuration of fundus")
	p.Heading("Description")
	p.Text(fmt.Sprintf("Fundus reads %s, then $XDG_CONFIG_HOME/fundus/config.yaml (or ~/.config/fundus/config.yaml), whose keys win; "+
		"options win over both. A key with a dot stands below its group.", config.System))
	p.Text("A key that means nothing is said with its line: looks, undo and recover go on without it, changes are refused until it is corrected. " +
		"fundus inspect --configuration shows what is in force, and from where.")
	p.Heading("Keys")
	for _, s := range config.Default().Entries() {
		meaning := s.Purpose
		if s.Value != "" {
			meaning += "; without it: " + s.Value
		}
		p.Word(s.Key, "", meaning+".")
	}
	p.Heading("Files")
	p.Word(config.System, "", "of the machine.")
	p.Heading("Examples")
	p.Lines("sizes: si\nfstab.identifier: partuuid")
	p.Heading("See also")
	p.See([2]string{"fundus", "8"})
	return p
}

func documentsPage() (*manual.Page, error) {
	p := newPage("fundus-documents", convention, "what fundus prints with --json")
	p.Heading("Description")
	p.Text("With --json a command prints one document on standard output, also where it fails, and nothing on standard error. " +
		"Each has the fields fundus, the version of the documents, and kind. " +
		"Later releases may add fields, kinds and words of a closed list, and take none away. " +
		"With --events lines of JSON on standard error say how far a commit has come.")
	p.Text("fundus help document KIND prints the JSON Schema of one kind, with what each field means.")
	p.Heading("Kinds")
	for _, kind := range schema.Kinds() {
		fields, err := schema.Fields(kind)
		if err != nil {
			return nil, err
		}
		p.Word(kind, "", "Fields: "+strings.Join(fields, ", ")+".")
	}
	p.Heading("Exit status")
	for _, c := range codes() {
		p.Word(c.want, "", c.commands+".")
	}
	p.Heading("See also")
	p.See([2]string{"fundus", "8"})
	return p, nil
}
