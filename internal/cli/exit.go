package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/view"
)

// Exit codes. This is the one place that decides them.
const (
	exitDone     = 0
	exitRefused  = 1 // nothing changed
	exitWords    = 2
	exitWaiting  = 3 // a draft waits for commit
	exitFindings = 4
	exitMidway   = 5 // recover
	exitLater    = 6 // done; the running system takes it up at the next boot
)

// Run executes the words and gives the exit code.
func Run(ctx context.Context, e *Env, words []string) int {
	e.words = words
	root := NewRoot(e)
	if len(words) > 0 && strings.HasPrefix(words[0], cobra.ShellCompRequestCmd) {
		unquoted(root)
	}
	root.SetArgs(words)
	err := root.ExecuteContext(ctx)
	if err == nil && e.helped {
		err = usageWay(way.Help("documents"), "help is a text to be read: leave --json out")
	}
	code := exitCode(err)
	switch {
	case err == nil, errors.Is(err, errWaiting), errors.Is(err, errFindings), errors.Is(err, errLater), errors.Is(err, errFailed):
		return code
	}
	if cmd, _, found := root.Find(words); found == nil && cmd != root {
		e.looks = cmd.Runnable() && !cmd.HasSubCommands() && cmd.Flags().Lookup("draft") == nil
	}
	e.o.json = e.o.json || slices.Contains(words, "--json") // words that make no sense were not read to their end
	e.report(code, err)
	return code
}

func exitCode(err error) int {
	var usage usageError
	var midway *deed.MidwayError
	var stale *staleError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &usage):
		return exitWords
	case errors.Is(err, errWaiting), errors.As(err, &stale):
		return exitWaiting
	case errors.Is(err, errFindings):
		return exitFindings
	case errors.Is(err, errLater):
		return exitLater
	case errors.As(err, &midway):
		return exitMidway
	}
	return exitRefused
}

// plain is the text of an error, with what the system says of a file in words of ours.
func plain(err error) string {
	text := strings.TrimSpace(err.Error())
	var file *fs.PathError
	if !errors.As(err, &file) {
		return text
	}
	words := file.Err.Error()
	switch {
	case errors.Is(file.Err, fs.ErrNotExist):
		words = "there is no such file"
	case errors.Is(file.Err, fs.ErrPermission):
		words = "this user may not open or change it"
	case errors.Is(file.Err, fs.ErrExist):
		words = "it is there already"
	}
	return strings.ReplaceAll(text, file.Error(), file.Path+": "+words)
}

// renamed is the line that was typed with the device named, where one alone was meant. What
// destroys is not handed out to be pasted, and nothing is committed by it.
func (e *Env) renamed(err error) way.Step {
	var loose *target.LooseError
	if !errors.As(err, &loose) || !loose.Only || slices.ContainsFunc(e.words, destroys) { // wherever options stand
		return way.None()
	}
	words := slices.DeleteFunc(slices.Clone(e.words), func(w string) bool { return w == "--commit" })
	for i, w := range words {
		if w == loose.Word {
			words[i] = loose.Node
		}
	}
	return way.Typed(words...)
}

// report prints the error with the state that things are in.
func (e *Env) report(code int, err error) {
	p, r := e.printer(), view.Problem(e.problemOf(code, err))
	if e.o.json {
		if p.Show(r) != nil {
			fmt.Fprintln(e.Err, err)
		}
		return
	}
	p.Out = e.Err
	r.Words(p)
}
