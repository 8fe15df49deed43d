package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/kind"
	"fundus/core/table/gpt"
	"fundus/core/verify"
	"fundus/internal/config"
	"fundus/internal/look"
)

// walk calls the function for every command that can be run.
func walk(cmd *cobra.Command, fn func(*cobra.Command)) {
	for _, c := range cmd.Commands() {
		if c.Name() == "help" {
			continue
		}
		fn(c)
		walk(c, fn)
	}
}

func bareEnv() *Env { return &Env{Getenv: func(string) string { return "" }} }

// parses reports whether the words are a command of the tree with known options
// and a number of words that it takes.
func parses(root *cobra.Command, words []string) error {
	cmd, rest, err := root.Find(words)
	if err != nil {
		return err
	}
	if cmd.HasSubCommands() || cmd == root {
		return fmt.Errorf("%q is no command", strings.Join(words, " "))
	}
	if err := cmd.ParseFlags(rest); err != nil {
		return err
	}
	return cmd.ValidateArgs(cmd.Flags().Args())
}

// TestHelp: every command begins with its intention and ends with two examples
// that parse, and every option says what it does.
func TestHelp(t *testing.T) {
	count := 0
	walk(NewRoot(bareEnv()), func(c *cobra.Command) {
		count++
		examples := strings.Split(c.Example, "\n")
		if c.Short == "" || strings.HasSuffix(c.Short, ".") || len(examples) != 2 {
			t.Errorf("%s: %q, %d examples", c.CommandPath(), c.Short, len(examples))
		}
		for _, line := range examples {
			words, ok := strings.CutPrefix(line, "  fundus ")
			if !ok {
				t.Errorf("%s: example %q", c.CommandPath(), line)
			} else if err := parses(NewRoot(bareEnv()), splitWords(words)); err != nil {
				t.Errorf("%s: example %q: %v", c.CommandPath(), line, err)
			}
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Usage == "" {
				t.Errorf("%s: --%s has no description", c.CommandPath(), f.Name)
			}
		})
	})
	if count < 25 {
		t.Errorf("only %d commands", count)
	}
}

// TestNearMissesPointToCommands: the right command of each near miss exists, and none of
// them leads to one that destroys.
func TestNearMissesPointToCommands(t *testing.T) {
	for _, m := range nearMisses() {
		next := strings.TrimPrefix(m.next().Line(), "fundus ")
		if err := parses(NewRoot(bareEnv()), strings.Fields(next)); err != nil && !strings.HasPrefix(next, "help") {
			t.Errorf("%v: %s: %v", m.words, next, err)
		}
		if destroys(next) && !strings.HasPrefix(next, "help ") {
			t.Errorf("%v leads to %s", m.words, next)
		}
		for _, w := range m.words {
			if err := parses(NewRoot(bareEnv()), strings.Fields(w)); err == nil {
				t.Errorf("%q is a command itself", w)
			}
		}
	}
}

// TestReference holds docs/commands.md against the command tree, by task and in the layout of the help;
// -update writes it. Every command stands in it once.
func TestReference(t *testing.T) {
	var b bytes.Buffer
	e := bareEnv()
	e.Out = &b
	root, seen := NewRoot(e), map[string]bool{}
	b.WriteString("# Commands\n\nBy task. `fundus help COMMAND` prints the same; this page is written from the command tree by\n" +
		"`go test ./internal/cli -run TestReference -update`.\n\n## Options of all commands\n\n```\n")
	e.commonHelp(root)
	b.WriteString("```\n")
	var one func(cmd *cobra.Command)
	one = func(cmd *cobra.Command) {
		seen[cmd.CommandPath()] = true
		if cmd.HasSubCommands() {
			for _, c := range cmd.Commands() {
				one(c)
			}
			return
		}
		fmt.Fprintf(&b, "\n### %s\n\n```\n", strings.TrimPrefix(cmd.CommandPath(), "fundus "))
		commandHelp(&b, cmd)
		b.WriteString("```\n")
	}
	for _, w := range append(wishes(), wish{"the program itself", "version, completion, manual"}) {
		fmt.Fprintf(&b, "\n## %s\n", strings.ToUpper(w.want[:1])+w.want[1:])
		for name := range strings.SplitSeq(w.commands, ", ") {
			if cmd, _, err := root.Find(strings.Fields(name)); err != nil {
				t.Errorf("%s: %v", name, err)
			} else if !seen[cmd.CommandPath()] {
				one(cmd)
			}
		}
	}
	walk(root, func(c *cobra.Command) {
		if !c.HasSubCommands() && !seen[c.CommandPath()] {
			t.Errorf("%s stands under no task", c.CommandPath())
		}
	})
	holdFile(t, filepath.Join("..", "..", "docs", "commands.md"), b.Bytes())
}

// TestKeys holds docs/configuration.md against the keys of the configuration;
// -update writes it.
func TestKeys(t *testing.T) {
	var b strings.Builder
	fmt.Fprintf(&b, `# Configuration

Written from the keys; `+"`go test ./internal/cli -run TestKeys -update`"+` writes it anew.

Fundus reads %s, then $XDG_CONFIG_HOME/fundus/config.yaml (or
~/.config/fundus/config.yaml), whose keys win; options win over both. A key with
a dot stands below its group:

`+"```yaml"+`
sizes: si
fstab:
  options:
    ext4: [noatime]
`+"```"+`

A key that means nothing is said with its line: looks, undo and recover go on
without it, changes are refused until it is corrected. `+"`fundus inspect --configuration`"+`
shows what is in force, and from where.

| key | default | what it is for |
|---|---|---|
`, config.System)
	for _, s := range config.Default().Entries() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", s.Key, s.Value, s.Purpose)
	}
	holdFile(t, filepath.Join("..", "..", "docs", "configuration.md"), []byte(b.String()))
}

// TestSettings holds docs/settings.md against the settings of the kinds; -update writes
// it.
func TestSettings(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Settings\n\nWhat `fundus format TARGET KIND KEY=VALUE…` takes, written from the kinds; `go test ./internal/cli -run TestSettings\n-update` writes it anew. `format.KIND.KEY` in the configuration sets one for all that are made on a machine.\n`fundus settings` shows the same. `size=SIZE` says of every kind how much of the device it takes. Which parts of a kind\n`for=` leaves out stands below its settings; what is always there is refused then.\n")
	for _, m := range kind.Makers() {
		fmt.Fprintf(&b, "\n## %s\n\n| key | takes | default | can be set | what it is for |\n|---|---|---|---|---|\n", m.Word)
		for _, s := range m.Settings() {
			if s.Meaning == "" || s.Default == "" || s.When&fs.AtMaking == 0 {
				t.Errorf("%s %s: it lacks a meaning, a default, or a time when it can be set", m.Word, s.Key)
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", s.Key, s.Takes(), s.Default, s.When, s.Meaning)
		}
		writeTraits(&b, m.Traits())
	}
	holdFile(t, filepath.Join("..", "..", "docs", "settings.md"), []byte(b.String()))
}

func writeTraits(b *strings.Builder, traits []fs.Trait) {
	if len(traits) == 0 {
		return
	}
	b.WriteString("\n| made with | setting | Linux since | boot loaders |\n|---|---|---|---|\n")
	for _, t := range traits {
		key, boot := "always", "read it"
		if t.Key != "" {
			key = "`" + t.Key + "`"
		}
		if !t.Boot {
			boot = "not each"
		}
		fmt.Fprintf(b, "| %s | %s | %v | %s |\n", t.Name, key, t.Since, boot)
	}
}

// TestMountOptions holds docs/options.md against the rows; -update writes it.
func TestMountOptions(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Mount options\n\nWhat lines of fstab and `fundus mount --options` take, written from the table of options; `go test ./internal/cli -run\nTestMountOptions -update` writes it anew. `fundus options` and `fundus options KIND` show the same. A default is so\nwithout the option.\n")
	names := map[string]bool{}
	for _, typ := range append([]string{""}, kind.MountTypes()...) {
		list, known := look.MountOptionsOf(typ)
		if !known {
			t.Errorf("%s has no options", typ)
		}
		for _, g := range list.Groups {
			title := g.Title
			if typ != "" {
				title = typ
			}
			fmt.Fprintf(&b, "\n## %s\n\n| option | what it does | default | needs | since |\n|---|---|---|---|---|\n", title)
			for _, o := range g.Options {
				if o.Says == "" || names[typ+" "+o.Name] {
					t.Errorf("%s %s: it lacks a meaning, or stands twice", typ, o.Name)
				}
				names[typ+" "+o.Name] = true
				fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", strings.ReplaceAll(o.Takes, "|", "\\|"), o.Says, map[bool]string{true: "yes"}[o.Default], o.Needs, o.Since)
			}
		}
	}
	holdFile(t, filepath.Join("..", "..", "docs", "options.md"), []byte(b.String()))
}

// TestFindingCatalogue holds docs/findings.md against the catalogue; -update
// writes it.
func TestFindingCatalogue(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Findings\n\nWhat `fundus verify` finds, written from the catalogue; `go test ./internal/cli -run TestFindingCatalogue -update` writes\nit anew. Identifiers stay for ever; `--despite=IDENTIFIER` accepts one in a draft. The severity is the usual one.\n\n| identifier | severity | why it matters |\n|---|---|---|\n")
	for _, e := range look.Catalogue() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", e.ID, e.Severity, e.Why)
	}
	holdFile(t, filepath.Join("..", "..", "docs", "findings.md"), []byte(b.String()))
}

func holdFile(t *testing.T, path string, got []byte) {
	t.Helper()
	if *update {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, got, 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil || !bytes.Equal(got, want) {
		t.Errorf("%s is not what the code says (%v); run the test with -update", path, err)
	}
}

// TestMendsParse: the command that each finding names exists, with its words.
func TestMendsParse(t *testing.T) {
	shown := shownMends(t)
	w := newWorld(t)
	transcript(w, mendStory)
	seen := map[finding.ID]bool{}
	for _, f := range findingsOf(t, w) {
		if f.Mend.Empty() {
			continue
		}
		seen[f.ID] = true
		if err := parses(NewRoot(bareEnv()), f.Mend.Words[1:]); err != nil {
			t.Errorf("%s: %v: %v", f.ID, f.Mend, err)
		}
	}
	for words, where := range shown {
		if err := parses(NewRoot(bareEnv()), strings.Fields(words)); err != nil {
			t.Errorf("%s: %q: %v", where, words, err)
		}
	}
	for _, id := range []finding.ID{gpt.TablePrimary.ID, verify.DuplicateLabel.ID, verify.FstabUnknown.ID, verify.FstabTwice.ID} {
		if !seen[id] {
			t.Errorf("%s was not provoked", id)
		}
	}
}

// TestStepsAreCommands: each function of package way makes a command that there is.
func TestStepsAreCommands(t *testing.T) {
	source, err := os.ReadFile(filepath.Join("..", "..", "core", "way", "verbs.go"))
	if err != nil {
		t.Fatal(err)
	}
	verbs := regexp.MustCompile(`step\("([a-z ]+)"`).FindAllStringSubmatch(string(source), -1)
	if len(verbs) < 30 {
		t.Errorf("only %d verbs", len(verbs))
	}
	for _, v := range verbs {
		words := strings.Fields(v[1])
		root := NewRoot(bareEnv())
		root.InitDefaultHelpCmd()
		cmd, rest, err := root.Find(words)
		if err != nil || len(rest) > 0 || cmd.CommandPath() != "fundus "+strings.Join(words, " ") {
			t.Errorf("fundus %s: there is no such command (%v)", v[1], err)
		}
	}
}

// shownMends are the commands that findings name in all transcripts, by their
// words, with the file.
func shownMends(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	paths, _ := filepath.Glob("testdata/script/*.txt")
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(string(data), "\n")
		for i, l := range lines {
			words, ok := strings.CutPrefix(l, "    do:  fundus ")
			for ; ok && i+1 < len(lines) && strings.HasPrefix(lines[i+1], "         "); i++ {
				words += " " + strings.TrimSpace(lines[i+1])
			}
			if ok {
				out[words] = path
			}
		}
	}
	if len(out) < 6 {
		t.Errorf("only %d commands are shown: %v", len(out), out)
	}
	return out
}

const mendStory = `
$ fundus bench new fernhill --host fernhill
$ fundus bench disk add sdb --size 1GiB --serial LS-20417
$ fundus bench disk add sdc --size 1GiB --serial TA-7731
$ fundus table new sdb --commit
$ fundus format sdc ext4 --label fernhill --commit --despite=duplicate-label
$ damage fernhill/disks/sdb.img 552
$ append fernhill/root/etc/fstab UUID=gone /srv/x ext4 defaults 0 2
$ append fernhill/root/etc/fstab LABEL=fernhill /srv/x ext4 defaults 0 2
`

func findingsOf(t *testing.T, w *world) []finding.Finding {
	t.Helper()
	var out bytes.Buffer
	e := *w.env
	e.Out, e.Err = &out, &out
	Run(context.Background(), &e, []string{"verify", "--json"})
	var doc struct{ Findings []finding.Finding }
	if err := json.Unmarshal(out.Bytes(), &doc); err != nil {
		t.Fatalf("%v: %s", err, out.String())
	}
	return doc.Findings
}

// TestHelpFits: the first page is 20 lines and leads to every command; no page is wider than
// a terminal, but for examples that are to be copied.
func TestHelpFits(t *testing.T) {
	page := func(words ...string) string {
		var b bytes.Buffer
		e := bareEnv()
		e.Out, e.Err = &b, &b
		if code := Run(context.Background(), e, words); code != 0 {
			t.Errorf("%v: exit %d:\n%s", words, code, b.String())
		}
		return b.String()
	}
	first := page("help")
	if n := strings.Count(first, "\n"); n > 20 {
		t.Errorf("the first page has %d lines", n)
	}
	pages := []string{first, page("help", "common")}
	walk(NewRoot(bareEnv()), func(c *cobra.Command) {
		if top := strings.Fields(c.CommandPath())[1]; top != "version" && top != "completion" && top != "manual" && !strings.Contains(first, top) {
			t.Errorf("the first page does not lead to %s", top)
		}
		p := page(append([]string{"help"}, strings.Fields(c.CommandPath())[1:]...)...)
		if !strings.Contains(p, c.Example) || strings.Contains(p, "Flags") || strings.Contains(p, "Usage:") {
			t.Errorf("%s:\n%s", c.CommandPath(), p)
		}
		pages = append(pages, p)
	})
	for _, p := range pages {
		for line := range strings.Lines(p) {
			if n := len([]rune(strings.TrimRight(line, "\n"))); n > 80 && !strings.HasPrefix(line, "  fundus ") {
				t.Errorf("%d columns: %s", n, line)
			}
		}
	}
}
