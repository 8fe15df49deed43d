// Package cli turns words into requests and results into exit codes. It
// computes nothing: a command parses its words, calls package task or deed, and
// hands the result to package view. One file a command.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/way"
	"fundus/internal/config"
	"fundus/internal/deed"
	"fundus/internal/machine"
	"fundus/internal/machine/bench"
	"fundus/internal/machine/image"
	"fundus/internal/machine/live"
	"fundus/internal/oscall"
	"fundus/internal/view"
)

// Env is the world that a command tree runs in.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
	Now      func() time.Time
	Random   io.Reader
	Getenv   func(string) string
	Ask      bool // somebody is there to answer: input and output are a terminal
	Terminal bool // the output is a terminal
	Width    int  // its columns, 0 where unknown
	Height   int  // its rows, 0 where unknown
	// Configured is the machine's configuration file; empty for none.
	Configured string
	// Shield keeps a lost terminal from stopping a commit; it is called before
	// one begins, and what it gives after.
	Shield func() (release func())

	o      options
	words  []string             // as they were typed
	notes  []string             // that belong to the draft which comes
	helped bool                 // help was asked for as a document
	looks  bool                 // the command never changes anything
	seen   *inventory.Inventory // the machine as it was when the command began; nil: nobody looked
	c      *config.Config
}

// options are those that every command has.
type options struct {
	bench, root, state string
	json, quiet        bool
	events             bool
	sizes, colour      string
	commit, draft      bool
	steps              bool
	lose, despite      []string
	withoutUndo        bool
	wait               int
	inPlace            bool
}

func (e *Env) addCommon(cmd *cobra.Command) {
	f := cmd.PersistentFlags()
	f.StringVar(&e.o.bench, "bench", e.Getenv("FUNDUS_BENCH"), "use the simulated machine in `DIR` (or FUNDUS_BENCH)")
	f.StringVar(&e.o.root, "root", "", "use the text files of the system below `DIR`")
	f.StringVar(&e.o.state, "state", "", "keep deeds and drafts in `DIR`")
	f.BoolVar(&e.o.json, "json", false, "print one JSON document")
	f.BoolVar(&e.o.events, "events", false, "with --json: progress documents on standard error")
	f.StringVar(&e.o.sizes, "sizes", "", "sizes as iec, si, sectors or bytes (default iec)")
	f.StringVar(&e.o.colour, "colour", "", "colours: auto, always or never (default auto)")
	f.BoolVar(&e.o.quiet, "quiet", false, "print the answer alone: no notes, no progress")
}

// addChange adds the options of commands that change something.
func (e *Env) addChange(cmd *cobra.Command) *cobra.Command {
	f := cmd.Flags()
	f.BoolVar(&e.o.commit, "commit", false, "go ahead without asking")
	f.BoolVar(&e.o.draft, "draft", false, "show what would be done, and store nothing")
	f.BoolVar(&e.o.steps, "steps", false, "show each step, reasons and all figures")
	f.StringArrayVar(&e.o.lose, "lose", nil, "what is lost: `NAME` is its label, UUID or serial")
	f.StringArrayVar(&e.o.despite, "despite", nil, "accept this new error: `FINDING` (repeatable)")
	f.BoolVar(&e.o.withoutUndo, "without-undo", false, "save no old contents: no undo, only completion")
	f.BoolVar(&e.o.inPlace, "in-place", false, "write in place what cannot be replaced; not crash-safe")
	f.IntVar(&e.o.wait, "wait", 0, "wait up to `SECONDS` for a commit, or a busy mount")
	return cmd
}

// usageError is words that make no sense: exit code 2.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }
func (e usageError) Unwrap() error { return e.err }

func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// usageWay is such words with the command that leads on.
func usageWay(next way.Step, format string, args ...any) error {
	return usageError{way.To(fmt.Errorf(format, args...), next)}
}

// checkCommon refuses options that make no sense, before anything is looked at.
func (e *Env) checkCommon() error {
	if e.o.commit && e.o.draft {
		return usagef("--commit and --draft contradict each other: the one goes ahead, the other only shows")
	}
	if e.o.root != "" && e.o.bench != "" {
		return usagef("--root and --bench contradict each other: a bench has text files of its own, below its root")
	}
	if e.o.events && !e.o.json {
		return usagef("--events prints documents: say --json too")
	}
	if e.o.wait < 0 {
		return usagef("--wait=%d: a number of seconds from 0", e.o.wait)
	}
	return nil
}

func (e *Env) printer() *view.Printer {
	locale := e.Getenv("LC_ALL")
	for _, name := range []string{"LC_CTYPE", "LANG"} {
		if locale == "" {
			locale = e.Getenv(name)
		}
	}
	locale = strings.ToLower(locale)
	utf8 := strings.Contains(locale, "utf-8") || strings.Contains(locale, "utf8")
	c := e.configuration()
	colour := c.Colour == "always" || c.Colour == "auto" && e.Terminal && e.Getenv("NO_COLOR") == "" && e.Getenv("TERM") != "dumb"
	width := 79
	if e.Width > 0 { // the last column is left free: some terminals break the line there
		width = max(e.Width-1, narrowest)
	}
	return &view.Printer{
		Out:      e.Out,
		Width:    width,
		Height:   e.Height,
		Terminal: e.Terminal,
		UTF8:     utf8,
		Colour:   colour,
		JSON:     e.o.json,
		Quiet:    e.o.quiet,
		Sizes:    c.Sizes,
	}
}

// narrowest is the width below which nothing is folded any more.
const narrowest = 40

// onMachine is a machine with the store of its deeds. The machine is not embedded: what only
// some machines can is asked of the machine itself, and would be hidden.
type onMachine struct {
	Machine machine.Machine
	store   *deed.Store
}

// open gives the machine that the words are about. Words that are image files
// make those images disks of it.
func (e *Env) open(_ context.Context, words ...string) (*onMachine, error) {
	images, err := e.images(words)
	if err != nil {
		return nil, err
	}
	return e.openWith(images, e.o.root)
}

// openWith is so for images that are told already, with the text files below a root.
func (e *Env) openWith(images []string, root string) (*onMachine, error) {
	var m machine.Machine
	var err error
	if e.o.bench != "" {
		m, err = bench.Open(e.o.bench, images, e.Now)
	} else {
		m, err = live.New(images, root, e.configuration().Patience)
	}
	if err != nil {
		return nil, err
	}
	dir := e.o.state
	if dir == "" {
		dir = m.StateDir()
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	store, c := deed.NewStore(dir, e.Now), e.configuration()
	store.Limits = deed.Limits{Images: int64(c.Images), Deeds: c.Deeds, Drafts: c.Drafts, DraftAge: c.DraftAge}
	return &onMachine{m, store}, nil
}

// images chooses the words that are image files: a path, or a bare word that is
// no device of the machine.
func (e *Env) images(words []string) ([]string, error) {
	var out []string
	known, device := map[oscall.FileID]string{}, live.Knows
	if e.o.bench != "" {
		b, err := bench.Open(e.o.bench, nil, e.Now)
		if err != nil {
			return nil, err
		}
		device = b.Knows
	}
	for _, w := range words {
		path, _ := image.Split(w)
		if what := image.Other(path); what != "" && !device(w) {
			err := refused.As(refused.NoSuchDevice, fmt.Errorf("%s: it is %s, no disk and no image of one", w, what))
			if filepath.Base(w) == "fstab" {
				err = way.To(err, way.FstabCheck())
			}
			return nil, err
		}
		if w == "" || device(w) || tagged(w) || strings.HasPrefix(w, "/dev/") && !strings.HasPrefix(w, "/dev/shm/") || !image.Exists(path) {
			continue
		}
		id, ok := oscall.IDOf(path)
		switch other := known[id]; {
		case !ok || other == "":
			known[id] = path
			out = append(out, path)
		case other != path:
			return nil, usagef("%s and %s are two names of one file: name it once", other, path)
		}
	}
	return out, nil
}

// tagged reports whether the word is TAG=VALUE, and no path that has the sign in it.
func tagged(word string) bool {
	tag, _, ok := strings.Cut(word, "=")
	return ok && !strings.Contains(tag, "/")
}

// reopen opens the machine with the images that were worked on before, as far
// as they are still there.
func (e *Env) reopen(names []string, root string) (*onMachine, error) {
	var there []string
	for _, n := range names {
		if image.Exists(n) {
			there = append(there, n)
		}
	}
	return e.openWith(there, cmp.Or(root, e.o.root))
}

// spill is where drafts put what does not fit into memory.
func spill(store *deed.Store) block.Spill {
	return block.Spill{Ceiling: block.DefaultCeiling, Open: func() (block.SpillFile, error) { return oscall.Unnamed(store.Dir) }}
}

// fresh makes random identifiers outside of drafts. The system's source of them ends the
// program by itself where it has none (crypto/rand), and nothing stands in for it here.
func (e *Env) fresh() uuid.UUID {
	return uuid.Must(uuid.NewRandomFromReader(e.Random))
}

// Errors that only carry an exit code: what there is to say was said.
var (
	errWaiting  = errors.New("a draft waits")
	errFindings = errors.New("there are findings")
	errLater    = errors.New("the next boot takes it up")
)
