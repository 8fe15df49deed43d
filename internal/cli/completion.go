package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/propose"
	"fundus/core/table"
	"fundus/core/verify"
	"fundus/internal/deed"
)

// newCompletion prints what a shell reads to complete the words of Fundus.
func newCompletion(e *Env, root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "completion SHELL", Short: "Print completions for bash, zsh or fish",
		Long: `Print the script that lets a shell complete commands, devices and options. For
bash it needs no helper package, so it works on a rescue system too: source
<(fundus completion bash).`,
		Example:   "  fundus completion bash\n  fundus completion zsh",
		Args:      words(1, 1, "one shell: bash, zsh or fish"),
		ValidArgs: []string{"bash", "zsh", "fish"},
		RunE: func(_ *cobra.Command, args []string) error {
			var script bytes.Buffer
			var err error
			first, helper := "", ""
			switch args[0] {
			case "bash":
				helper, err = bashHelper, root.GenBashCompletionV2(&script, true)
			case "zsh":
				first, err = "#compdef fundus\n", root.GenZshCompletion(&script) // by which zsh knows what it is for
			case "fish":
				err = root.GenFishCompletion(&script, true)
			default:
				return usagef("%q: the shells are bash, zsh and fish", args[0])
			}
			if err == nil {
				_, err = fmt.Fprintf(e.Out, "%s# Lets %s complete commands, devices and options of fundus. It asks the program itself,\n# which reads the machine and changes nothing.\n\n%s%s",
					first, args[0], helper, withoutHead(script.String()))
			}
			return err
		},
	}
}

// withoutHead is a script without the comments that it begins with.
func withoutHead(script string) string {
	for strings.HasPrefix(script, "#") || strings.HasPrefix(script, "\n") {
		_, script, _ = strings.Cut(script, "\n")
	}
	return script
}

// unquoted takes the marks off that stand around the names of values in what options say: help needs
// them, and a shell would show them.
func unquoted(cmd *cobra.Command) {
	plain := func(f *pflag.Flag) { f.Usage = strings.ReplaceAll(f.Usage, "`", "") }
	cmd.LocalFlags().VisitAll(plain)
	cmd.PersistentFlags().VisitAll(plain)
	for _, c := range cmd.Commands() {
		unquoted(c)
	}
}

// bashHelper stands in for what the shell's package of helpers has and a bare shell has not:
// the words of the line, not broken at "=" and ":" as the shell breaks them.
const bashHelper = `if ! declare -F _get_comp_words_by_ref > /dev/null; then
_get_comp_words_by_ref() {
	local line=${COMP_LINE:0:COMP_POINT}
	read -ra words <<< "$line"
	[[ $line == *[[:space:]] ]] && words+=("")
	cword=$((${#words[@]} - 1))
	cur=${words[cword]}
	prev=${words[cword > 0 ? cword - 1 : 0]}
}
fi
`

const noFiles = cobra.ShellCompDirectiveNoFileComp

// list offers the same words everywhere.
func list(words ...string) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) { return words, noFiles }
}

// addCompletion gives every option a list whose values have one.
func (e *Env) addCompletion(root *cobra.Command) {
	attributes := list(table.AttributeNames(table.GPT, table.Named(table.GPT))...)
	values := map[string]cobra.CompletionFunc{
		"scheme": list("gpt", "mbr"), "by": list(propose.Words()...), "references": list("follow", "drop", "disable", "keep"),
		"record": list("fstab", "unit"), "as": list(kind.Words()...), "content": list("keep", "erase"), "severity": list("note", "warning", "error"), "direction": list("back", "forward"),
		"sizes": list("iec", "si", "sectors", "bytes"), "colour": list("auto", "always", "never"),
		"set": attributes, "clear": attributes,
		"absent": e.completeDevices, "despite": findingCodes, "lose": e.completeNames, "kind": e.completeKinds,
	}
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		for name, fn := range values {
			if name == "by" && cmd.Name() == "resize" { // an amount
				continue
			}
			if cmd.LocalFlags().Lookup(name) != nil {
				_ = cmd.RegisterFlagCompletionFunc(name, fn) // fails where it is there already: a parent's
			}
		}
		if cmd.LocalFlags().Lookup("type") != nil && cmd.Parent().Name() == "partition" {
			_ = cmd.RegisterFlagCompletionFunc("type", typeWords)
		}
		for _, c := range cmd.Commands() {
			walk(c)
		}
	}
	walk(root)
}

func typeWords(*cobra.Command, []string, string) (out []string, _ cobra.ShellCompDirective) {
	for _, t := range table.Types() {
		out = append(out, t.Name+"\t"+t.Meaning)
	}
	return out, noFiles
}

func findingCodes(*cobra.Command, []string, string) (out []string, _ cobra.ShellCompDirective) {
	for _, c := range verify.Catalogue() {
		out = append(out, string(c.ID)+"\t"+c.Why)
	}
	return out, noFiles
}

// look reads the machine for a completion; nil where that fails, since nobody reads an error
// that stands in the middle of a line.
func (e *Env) look(cmd *cobra.Command) *inventory.Inventory {
	m, err := e.open(cmd.Context())
	if err != nil {
		return nil
	}
	v, err := m.Machine.Inventory(cmd.Context())
	if err != nil {
		return nil
	}
	return v
}

// described is a device with what tells it from others: what it holds, how large, whose it is,
// where it is used.
func described(v *inventory.Inventory, n inventory.Node) string {
	words := []string{advice.Words(n), n.Size.String()}
	if n.Parent == "" {
		words = append(words, n.Hardware.Model, n.Hardware.Serial)
	}
	for _, u := range v.UsesOf(n.Name) {
		words = append(words, u.Where)
	}
	words = slices.DeleteFunc(words, func(w string) bool { return w == "" })
	return n.Name + "\t" + strings.Join(words, " ")
}

// complete offers the devices that fit, for the first word alone; files too, as images are.
func (e *Env) complete(fits func(v *inventory.Inventory, n inventory.Node) bool) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, noFiles
		}
		if v := e.look(cmd); v != nil {
			out = devices(v, fits)
		}
		return out, cobra.ShellCompDirectiveDefault
	}
}

func devices(v *inventory.Inventory, fits func(v *inventory.Inventory, n inventory.Node) bool) (out []string) {
	for _, n := range v.Nodes {
		if fits(v, n) {
			out = append(out, described(v, n))
		}
	}
	return out
}

// labelled are those that can have a label.
func labelled(_ *inventory.Inventory, n inventory.Node) bool {
	c, ok := n.Content()
	return ok && (c.Class == fs.FileSystem || c.Class == fs.Swap)
}

func anyDevice(*inventory.Inventory, inventory.Node) bool { return true }

func wholeDisk(_ *inventory.Inventory, n inventory.Node) bool { return n.Parent == "" }

func partition(_ *inventory.Inventory, n inventory.Node) bool { return n.Parent != "" }

// unusedDevice leaves out what a change would be refused for: what is in use, or has
// partitions.
func unusedDevice(v *inventory.Inventory, n inventory.Node) bool {
	return len(v.UsesOf(n.Name)) == 0 && n.Table == nil
}

// mountable are those with a file system that is not mounted, and swap areas for fstab.
func mountable(v *inventory.Inventory, n inventory.Node) bool {
	c, ok := n.Content()
	return ok && (c.Class == fs.FileSystem || c.Class == fs.Swap) && len(v.UsesOf(n.Name)) == 0
}

// completeDevices offers the devices of the machine at hand for the first word.
func (e *Env) completeDevices(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return e.complete(anyDevice)(cmd, args, begun)
}

// completeMounted offers what is mounted, by its place and by its device.
func (e *Env) completeMounted(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	v := e.look(cmd)
	if v == nil || len(args) > 0 {
		return nil, noFiles
	}
	for _, u := range v.Uses {
		if u.How == inventory.Mounted {
			out = append(out, u.Where+"\t"+u.Node)
		}
	}
	return out, noFiles
}

// completePlaces offers devices and the places of fstab for the first word, and directories
// for the second.
func (e *Env) completePlaces(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveFilterDirs
	}
	if v := e.look(cmd); v != nil {
		fits := mountable
		if cmd.Name() == "mount" { // an area of swap is turned on, and not mounted
			fits = func(v *inventory.Inventory, n inventory.Node) bool {
				c, _ := n.Content()
				return mountable(v, n) && c.Class == fs.FileSystem
			}
		}
		out = append(devices(v, fits), fstabPlaces(v)...)
	}
	return out, cobra.ShellCompDirectiveDefault
}

func fstabPlaces(v *inventory.Inventory) (out []string) {
	for _, l := range v.Fstab().Entries() {
		if strings.HasPrefix(l.Entry.Dir, "/") {
			out = append(out, l.Entry.Dir+"\tline "+fmt.Sprint(l.Number)+" of fstab, "+l.Entry.Spec)
		}
	}
	return out
}

// completeDisabled offers the places of lines that are comments now.
func (e *Env) completeDisabled(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	v := e.look(cmd)
	if v == nil || len(args) > 0 {
		return nil, noFiles
	}
	for _, l := range v.Fstab().Lines {
		if was, ok := l.Was(kind.IsMounted); ok {
			out = append(out, was.Entry.Dir+"\tline "+fmt.Sprint(l.Number)+" of fstab, disabled, "+was.Entry.Spec)
		}
	}
	return out, noFiles
}

func (e *Env) completeFstab(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if v := e.look(cmd); v != nil && len(args) == 0 {
		return fstabPlaces(v), noFiles
	}
	return nil, noFiles
}

// completeUnits offers the units that lie in systemd's directories.
func (e *Env) completeUnits(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	v := e.look(cmd)
	if v == nil || len(args) > 0 {
		return nil, noFiles
	}
	for _, l := range v.Loaded() {
		out = append(out, l.Name+"\t"+cmp.Or(l.Where(), l.What()))
	}
	return out, noFiles
}

// completeNames offers what can be named as lost: labels and serial numbers.
func (e *Env) completeNames(cmd *cobra.Command, _ []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	v := e.look(cmd)
	if v == nil {
		return nil, noFiles
	}
	for _, n := range v.Nodes {
		if label := n.Identifiers()["LABEL"]; label != "" {
			out = append(out, label+"\t"+n.Name)
		}
		if n.Parent == "" && n.Hardware.Serial != "" {
			out = append(out, n.Hardware.Serial+"\t"+n.Name)
		}
	}
	return out, noFiles
}

func (e *Env) completeKinds(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	if v := e.look(cmd); v != nil {
		return v.Kinds(), noFiles
	}
	return nil, noFiles
}

// completeDrafts offers the codes of drafts that wait.
func (e *Env) completeDrafts(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	m, err := e.open(cmd.Context())
	if err != nil || len(args) > 0 {
		return nil, noFiles
	}
	all, _ := m.store.Drafts()
	for _, d := range all {
		out = append(out, d.Code+"\t"+d.Title)
	}
	return out, noFiles
}

// completeDeeds offers the numbers of deeds, the newest first.
func (e *Env) completeDeeds(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	m, err := e.open(cmd.Context())
	if err != nil || len(args) > 0 {
		return nil, noFiles
	}
	all, _ := m.store.List()
	for _, d := range all {
		if cmd.Name() != "undo" || deed.NoWay(all, d) == nil {
			out = append(out, fmt.Sprintf("%d\t%s", d.Number, d.Title))
		}
	}
	return out, noFiles | cobra.ShellCompDirectiveKeepOrder
}
