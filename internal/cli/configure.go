package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"fundus/internal/config"
)

// configuration is what is in force, read once.
func (e *Env) configuration() *config.Config {
	if e.c == nil {
		e.c = config.Load(e.Configured, config.User(e.Getenv))
	}
	return e.c
}

// configure gives the options their weight over the files, and says what of the
// files means nothing: a look goes on without it, and so do undo and recover,
// which must never wait for a text file; a change is refused.
func (e *Env) configure(cmd *cobra.Command) error {
	e.c = nil
	c := e.configuration()
	for _, o := range [][2]string{{"sizes", e.o.sizes}, {"colour", e.o.colour}} {
		if o[1] != "" {
			if err := c.Prefer(o[0], o[1], "--"+o[0]); err != nil {
				return usagef("--%s=%w", o[0], err)
			}
		}
	}
	if len(c.Faults) > 0 && changes(cmd) {
		return fmt.Errorf("%w: %w", errConfiguration, c.Faults[0])
	}
	if e.o.json || slices.Contains(e.words, "--json") { // the document of the configuration says it
		return nil
	}
	p := e.printer()
	p.Out = e.Err
	for _, f := range c.Faults {
		p.Failure("warning: " + f.Error() + "; it is left out")
	}
	return nil
}

var errConfiguration = errors.New("the configuration has a line that means nothing; nothing is changed until it is corrected")

// changes reports whether the command may change something, other than back.
func changes(cmd *cobra.Command) bool {
	switch cmd.Name() {
	case "undo", "recover":
		return false
	case "commit", "mount", "unmount":
		return true
	}
	return cmd.Flags().Lookup("commit") != nil
}
