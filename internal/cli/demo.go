package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/way"
	"fundus/internal/view"
)

func newDemo(e *Env) *cobra.Command {
	keep, fast, list := "", false, false
	cmd := &cobra.Command{
		Use: "demo [CHAPTER|all]", Short: "Show six steps on a simulated machine, or a chapter",
		Long: `Show on a simulated machine, the seed bank of Fernhill, what Fundus does: look,
format, a refusal, an undo, a power cut, a boot that is predicted. CHAPTER shows
one part in full, all every one; --list names them. Each line is the real command
with its real output; the demo stops with an error if one does anything else.`,
		Example: "  fundus demo\n  fundus demo boots", Args: words(0, 1, "a chapter, or all"),
		ValidArgs: append(chapterNames(), everyChapter),
		RunE: func(cmd *cobra.Command, args []string) error {
			if list {
				for _, c := range chapters() {
					view.Hang(e.Out, "  "+c.name, c.about, 14)
				}
				return nil
			}
			before, shown, err := playlist(args)
			if err != nil {
				return err
			}
			return e.demo(cmd.Context(), keep, fast, before, shown)
		},
	}
	cmd.Flags().BoolVar(&fast, "fast", false, "do not pause after each step")
	cmd.Flags().BoolVar(&list, "list", false, "list the chapters")
	cmd.Flags().StringVar(&keep, "keep", "", "keep the bench in `DIR`")
	return cmd
}

// chapter is a part of the demo; each goes on where the one before it ended.
type chapter struct {
	name, about string
	script      []scene
}

const everyChapter = "all"

func chapters() []chapter {
	return []chapter{
		{"herbarium", "a new disk comes into use, and what may go wrong with it", herbarium()},
		{"media", "cards, swap, a disk that grows, a table that is lost", media()},
		{"boots", "four mistakes that show up only at the next boot", boots()},
	}
}

func chapterNames() (names []string) {
	for _, c := range chapters() {
		names = append(names, c.name)
	}
	return names
}

// playlist gives what is shown, and what has to be done before it.
func playlist(args []string) (before, shown []scene, err error) {
	switch {
	case len(args) == 0:
		return nil, short(), nil
	case args[0] == everyChapter:
		for _, c := range chapters() {
			shown = append(shown, c.script...)
		}
		return nil, shown, nil
	}
	for _, c := range chapters() {
		if c.name == args[0] {
			return before, c.script, nil
		}
		before = append(before, c.script...)
	}
	return nil, nil, usageWay(way.Typed("demo", "--list"), "%q: there is no such chapter; there is %s, and all", args[0], strings.Join(chapterNames(), ", "))
}

// scene is one step of the demo: prose, a command with what it must do, or an
// edit of a file by hand.
type scene struct {
	say    string
	words  string // of the command, split at blanks; quotes group
	exit   int
	shows  string // must stand in the output
	hidden bool   // done, and not shown
	below  bool   // right below its prose
	hand   func(dir string) error
	edit   string // what is done by hand, in words
	mend   string // words of a command that names another one, which is run then
}

func (e *Env) demo(ctx context.Context, keep string, fast bool, before, shown []scene) error {
	dir := keep
	if dir == "" {
		temp, err := os.MkdirTemp("", "fundus-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temp)
		dir = filepath.Join(temp, "fernhill")
	}
	silent := *e
	silent.Out, silent.Err = io.Discard, io.Discard
	for _, a := range before {
		if err := silent.play(ctx, dir, a); err != nil {
			return err
		}
	}
	lines := (<-chan answer)(nil)
	if e.Ask && !fast {
		lines = typed(e.In)
	}
	begun := false
	for i, a := range shown {
		a.below = i > 0 && shown[i-1].say != ""
		if lines != nil && a.say != "" && begun {
			fmt.Fprint(e.Out, "\n(Enter continues, q ends) ")
			select {
			case <-ctx.Done():
				return errStopped
			case l := <-lines:
				if l.err != nil || strings.TrimSpace(l.text) == "q" {
					return nil
				}
			}
		}
		of := e
		if begun = begun || !a.hidden; a.hidden {
			of = &silent
		}
		if err := of.play(ctx, dir, a); err != nil {
			return err
		}
	}
	if keep != "" {
		e.printer().Prose("The bench is kept; to go on with it: export FUNDUS_BENCH=" + keep)
	}
	return nil
}

// play does one scene.
func (e *Env) play(ctx context.Context, dir string, a scene) error {
	switch {
	case a.say != "":
		e.printer().Prose(a.say)
		return nil
	case a.hand != nil:
		e.printer().Aside("By hand: " + a.edit)
		return a.hand(dir)
	case a.mend != "":
		return e.follow(ctx, dir, a)
	}
	return e.perform(ctx, dir, a)
}

// perform runs one command in the same program and holds it to what it must do.
func (e *Env) perform(ctx context.Context, dir string, a scene) error {
	e.printer().Command("fundus "+strings.ReplaceAll(a.words, "DIR", "fernhill"), a.below)
	text, code := e.quietly(ctx, dir, a.words)
	if _, err := e.Out.Write([]byte(text)); err != nil {
		return err
	}
	if code != a.exit || !strings.Contains(text, a.shows) {
		return fmt.Errorf("the demo went wrong: fundus %s: exit code %d, expected %d, and %q in the output", a.words, code, a.exit, a.shows)
	}
	if code != 0 {
		e.printer().Aside(fmt.Sprintf("(exit code %d)", code))
	}
	return nil
}

// quietly runs one command on the demo's bench, and gives what it says.
func (e *Env) quietly(ctx context.Context, dir, line string) (text string, code int) {
	var said bytes.Buffer
	inner := *e
	inner.o = options{}
	inner.Out, inner.Err, inner.Ask = &said, &said, false
	inner.Getenv = func(name string) string {
		if name == "FUNDUS_BENCH" {
			return dir
		}
		return e.Getenv(name)
	}
	code = Run(ctx, &inner, splitWords(strings.ReplaceAll(line, "DIR", dir)))
	return strings.ReplaceAll(said.String(), dir, "fernhill"), code
}

// follow runs the command that another one names as what mends.
func (e *Env) follow(ctx context.Context, dir string, a scene) error {
	text, _ := e.quietly(ctx, dir, a.mend)
	for line := range strings.Lines(text) {
		next, is := strings.CutPrefix(strings.TrimSpace(line), "fundus ")
		if !is || !strings.HasPrefix(line, "      ") {
			continue
		}
		if !strings.HasPrefix(next, "mount ") {
			next += " --commit"
		}
		return e.perform(ctx, dir, scene{words: next, shows: a.shows})
	}
	return fmt.Errorf("the demo went wrong: fundus %s names no command that helps", a.mend)
}

// splitWords splits at blanks, but not inside double quotes.
func splitWords(line string) []string {
	var out []string
	for i, part := range strings.Split(line, `"`) {
		if i%2 == 1 {
			out = append(out, part)
			continue
		}
		out = append(out, strings.Fields(part)...)
	}
	return out
}
