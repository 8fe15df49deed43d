package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/core/table"
	"fundus/core/way"
)

// unknownWord answers a word that is no command with the right one: whole, as it would have
// been typed, where what follows fits that command too.
func (e *Env) unknownWord(cmd *cobra.Command, args []string) error {
	noun := strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "fundus"), " ")
	names := commandsOf(cmd)
	if len(args) == 0 {
		if cmd.Parent() == nil {
			return cmd.Help()
		}
		return usageWay(way.Help(noun), "%s what? there is %s", noun, strings.Join(names, ", "))
	}
	phrase := strings.TrimSpace(noun + " " + args[0])
	if list, ok := cmd.Annotations[forDevice]; ok && deviceLike(args[0]) {
		return usageWay(way.Typed(append(strings.Fields(list), args[0])...), "%s what? there is %s", noun, strings.Join(names, ", "))
	}
	if right := e.turned(cmd, args); len(right) > 0 {
		return usageWay(harmless(cmd.Root(), e.before(cmd, args[0]), right), "there is no command %q; did you mean this?", phrase)
	}
	if len(args) > 1 {
		if m, ok := missOf(phrase + " " + args[1]); ok {
			return m.answer(cmd, phrase+" "+args[1], e.before(cmd, args[0]), e.behind(args[1]))
		}
	}
	if m, ok := missOf(phrase); ok {
		return m.answer(cmd, phrase, e.before(cmd, args[0]), e.behind(args[0]))
	}
	cmd.SuggestionsMinimumDistance = 2
	for _, near := range cmd.SuggestionsFor(args[0]) {
		right := strings.TrimSpace(noun + " " + near)
		if !destroys(right) {
			return usageWay(harmless(cmd.Root(), e.before(cmd, args[0]), append(strings.Fields(right), e.behind(args[0])...)),
				"there is no command %q; did you mean this?", phrase)
		}
	}
	return usageWay(way.Help(noun), "there is no command %q", phrase)
}

// turned finds the command whose words were typed in another order: the verb before the noun, the device
// before the verb, or a kind or a scheme as the verb. Nil where there is none.
func (e *Env) turned(cmd *cobra.Command, args []string) []string {
	root := cmd.Root()
	named := func(word string) *cobra.Command {
		for _, name := range []string{word, strings.TrimSuffix(word, "s")} {
			if c, rest, err := root.Find([]string{name}); err == nil && c != root && len(rest) == 0 {
				return c
			}
		}
		return nil
	}
	if cmd != root {
		return nil
	}
	if len(args) == 1 { // a thing alone: what there is to know of it
		if _, err := kind.FindMaker(args[0]); err == nil {
			return []string{"settings", args[0]}
		}
		if deviceLike(args[0]) {
			return []string{"survey", args[0]}
		}
		return nil
	}
	rest := e.behind(args[1])
	if _, err := kind.FindMaker(args[0]); err == nil {
		return append([]string{"format", args[1], args[0]}, rest...)
	}
	if s := strings.ToLower(args[0]); s == string(table.GPT) || s == string(table.MBR) {
		return append([]string{"table", "new", args[1], "--scheme", s}, rest...)
	}
	noun := named(args[1])
	if noun != nil && noun.HasSubCommands() {
		verb := args[0]
		if m, ok := missOf(noun.Name() + " " + verb); ok && strings.HasPrefix(m.right, noun.Name()+" ") {
			verb = strings.TrimPrefix(m.right, noun.Name()+" ")
		}
		if c, _, err := root.Find([]string{noun.Name(), verb}); err == nil && c != noun {
			return append([]string{noun.Name(), verb}, rest...)
		}
	}
	if noun != nil && deviceLike(args[0]) {
		return append([]string{noun.Name(), args[0]}, rest...)
	}
	return nil
}

// harmless is the line to be pasted: whole where it is one that the command takes, and then as a draft
// where it would destroy; else what the command is for.
func harmless(root *cobra.Command, first, words []string) way.Step {
	cmd, _, err := root.Find(words)
	if err != nil || cmd == root {
		return way.Help()
	}
	name := strings.Fields(cmd.CommandPath())[1:]
	words = slices.DeleteFunc(slices.Clone(words), func(w string) bool { return w == "--commit" || strings.HasPrefix(w, "--lose") })
	risky := destroys(strings.Join(name, " "))
	switch {
	case cmd.HasSubCommands(), !fits(root, words) && risky:
		return way.Help(name...)
	case !fits(root, words):
		return way.Typed(name...)
	case risky && cmd.Flags().Lookup("draft") == nil:
		return way.Help(name...)
	case risky && !slices.Contains(words, "--draft"):
		words = append(words, "--draft")
	}
	return way.Typed(slices.Concat(first, words)...)
}

func commandsOf(cmd *cobra.Command) (names []string) {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	return names
}

// behind are the words that were typed behind the word.
func (e *Env) behind(word string) []string {
	if at := slices.Index(e.words, word); at >= 0 {
		return e.words[at+1:]
	}
	return nil
}

// before are the words that were typed before those of the command: options, of which one
// may say which machine is meant.
func (e *Env) before(cmd *cobra.Command, word string) []string {
	if cmd.HasParent() {
		word = strings.Fields(cmd.CommandPath())[1]
	}
	return e.words[:max(slices.Index(e.words, word), 0)]
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

// miss is a group of words that people try, and what they want.
type miss struct {
	words       []string
	right, args string // a command, and what it takes
	note        string // what there is to say beside it
}

// next is the line that leads on where what was typed does not fit: never a command that destroys, but
// the help of that.
func (m miss) next() way.Step {
	if destroys(m.right) {
		return way.Help(m.right)
	}
	s := way.Typed(strings.Fields(m.right + " " + m.args)...)
	for _, w := range strings.Fields(m.args) {
		if _, value, _ := strings.Cut(w, "="); strings.ToUpper(w) == w || value != "" {
			s = s.Asking(w)
		}
	}
	return s
}

// filled is the line that leads on with what was typed in the place of the first words that it takes.
func (m miss) filled(typed []string) way.Step {
	takes := strings.Fields(m.args)
	for i := range takes {
		if i < len(typed) && strings.ToUpper(takes[i]) == takes[i] && !strings.HasPrefix(typed[i], "-") {
			takes[i] = typed[i]
		}
	}
	m.args = strings.Join(takes, " ")
	return m.next()
}

// answer rebuilds the line with the right command, if what was typed fits it.
func (m miss) answer(cmd *cobra.Command, phrase string, first, rest []string) error {
	next := m.filled(rest)
	typed := slices.IndexFunc(rest, func(w string) bool { return strings.HasPrefix(w, "-") })
	if typed < 0 {
		typed = len(rest)
	}
	whole := !strings.HasPrefix(m.right, "help") && typed >= len(strings.Fields(m.args))
	if words := append(strings.Fields(m.right), rest...); whole && len(rest) > 0 && fits(cmd.Root(), words) {
		next = harmless(cmd.Root(), first, words)
	}
	if m.note != "" {
		return usageWay(next, "there is no command %q: %s", phrase, m.note)
	}
	return usageWay(next, "there is no command %q", phrase)
}

// fits reports whether the words are a command with options that it has and as many words
// as it takes.
func fits(root *cobra.Command, words []string) bool {
	cmd, rest, err := root.Find(words)
	if err != nil || cmd.HasSubCommands() {
		return false
	}
	return cmd.ParseFlags(rest) == nil && cmd.ValidateArgs(cmd.Flags().Args()) == nil
}

func missOf(phrase string) (miss, bool) {
	for _, m := range nearMisses() {
		if slices.Contains(m.words, phrase) {
			return m, true
		}
	}
	return miss{}, false
}

// notYet is said of work that this release does not do.
const notYet = "this release cannot do that"

// nearMisses are words that people try by mistake, and words of what is not built.
func nearMisses() []miss {
	return []miss{
		{
			[]string{
				"list", "show", "disks", "devices", "status", "disk", "scan", "disk list", "bench list",
				"bench disk list", "bench disk show", "list disks",
			},
			"survey",
			"",
			"",
		},
		{[]string{"info", "details"}, "inspect", "TARGET", ""},
		{[]string{"validate", "doctor"}, "verify", "", ""},
		{
			[]string{"check"},
			"verify",
			"",
			"fundus verify looks at tables, identifiers and alignment; what is inside a file system it does not check",
		},
		{[]string{"partition new", "partition create", "create", "new", "add"}, "partition add", "DISK", ""},
		{[]string{"partition delete", "delete", "remove"}, "partition remove", "TARGET", ""},
		{[]string{"partition resize", "grow", "shrink", "extend"}, "resize", "TARGET SIZE", ""},
		{[]string{"partition change", "partition set", "partition rename"}, "partition edit", "TARGET", ""},
		{[]string{"partition type"}, "partition edit", "TARGET --type TYPE", ""},
		{[]string{"partition show", "partition print"}, "partition list", "DISK", ""},
		{[]string{"reread", "refresh", "reload"}, "rescan", "DISK", ""},
		{[]string{"partition format", "table format", "make"}, "format", "TARGET KIND", ""},
		{[]string{"partition label", "rename"}, "label", "TARGET NAME", ""},
		{[]string{"table add", "table create"}, "table new", "DISK", ""},
		{[]string{"table list", "table show", "table print"}, "partition list", "DISK", ""},
		{[]string{"table backup"}, "table save", "DISK FILE", ""},
		{[]string{"fstab new", "fstab append"}, "fstab add", "TARGET DIRECTORY", ""},
		{[]string{"fstab delete"}, "fstab remove", "TARGET", ""},
		{[]string{"fstab change", "fstab set"}, "fstab edit", "LINE", ""},
		{[]string{"fstab verify", "fstab test"}, "fstab check", "", ""},
		{[]string{"boot", "reboot", "simulate"}, "rehearse", "", ""},
		{[]string{"history", "log"}, "deed list", "", ""},
		{[]string{"revert", "rollback", "deed undo"}, "undo", "DEED", ""},
		{[]string{"redo"}, "deed list", "", "an undo is a deed too, and is undone by its number: fundus undo N"},
		{[]string{"deed recover", "repair"}, "recover", "", ""},
		{[]string{"unmounted", "eject"}, "unmount", "TARGET", ""},
		{[]string{"remount"}, "mount", "TARGET --remount --options=LIST", "what is mounted gets other options by fundus mount --remount"},
		{[]string{"apply", "write", "draft commit"}, "commit", "CODE", ""},
		{
			[]string{"uuid"},
			"inspect",
			"TARGET",
			"fundus inspect shows identifiers; fundus adjust TARGET uuid=new changes that of a file system, fundus partition edit --uuid that of a partition",
		},
		{
			[]string{"wipe", "clone", "copy", "move", "encrypt", "volume", "array"},
			"help",
			"",
			notYet,
		},
	}
}

// words asks for a number of words between least and most, and says what they
// are when it is another.
func words(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) >= least && len(args) <= most {
			return nil
		}
		name := strings.TrimPrefix(cmd.CommandPath(), "fundus ")
		if next, why := misplaced(name, args); why != "" {
			return usageWay(next, "%s takes %s; %s", name, what, why)
		}
		return usageWay(way.Help(name), "%s takes %s", name, what)
	}
}

// misplaced recognises words that belong elsewhere: a partition's number beside its disk,
// and what is said by an option.
//
// A line that would destroy is never made from words that did not say it whole.
func misplaced(name string, args []string) (next way.Step, why string) {
	help := way.Help(name)
	switch {
	case name == "format" && len(args) == 1:
		return help, "the kind follows the device: " + args[0] + " ext4"
	case name == "draft remove" && len(args) == 0:
		return way.DraftList(), "or --all"
	case name == "deed list" && len(args) == 1:
		return way.DeedShow(args[0]), "one deed is shown by its number"
	case len(args) != 2:
		return way.None(), ""
	case name == "table new":
		return help, "the scheme is an option: --scheme " + args[1]
	case name == "partition add":
		return way.PartitionAdd(args[0], "--size", args[1]), "how large is an option"
	case digits(args[1]) && deviceLike(args[0]):
		one := joined(args[0], args[1])
		if destroys(name) {
			return help, "a partition is named by one word: " + one
		}
		return way.Typed(append(strings.Fields(name), one)...), "a partition is named by one word"
	}
	return way.None(), ""
}

func digits(word string) bool { return word != "" && strings.Trim(word, "0123456789") == "" }

// joined is the name of a partition, as the kernel makes it.
func joined(disk, number string) string {
	switch {
	case strings.HasSuffix(disk, ".img"):
		return disk + ":" + number
	case digits(disk[len(disk)-1:]):
		return disk + "p" + number
	}
	return disk + number
}

// ifThere is an option of all that takes something away.
func ifThere(cmd *cobra.Command, to *bool) {
	cmd.Flags().BoolVar(to, "if-there", false, "do nothing if it does not exist")
}
