package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/internal/manual"
)

// pagesOf are all pages by the name of their file.
func pagesOf(t *testing.T) map[string][]byte {
	t.Helper()
	pages, err := manualPages(NewRoot(bareEnv()))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]byte{}
	for _, p := range pages {
		out[p.File()] = p.Bytes()
	}
	return out
}

// TestManual: every command of the tree stands in a page, with each option that it takes, and no line of
// a page is longer than mail takes it; what a later command says of itself is in its page as well.
func TestManual(t *testing.T) {
	pages, commands, options := pagesOf(t), 0, 0
	root := NewRoot(bareEnv())
	walk(root, func(c *cobra.Command) {
		if c.HasSubCommands() || !c.IsAvailableCommand() || c.Name() == "help" {
			return
		}
		commands++
		name := "fundus-" + strings.Fields(c.CommandPath())[1] + ".8"
		page := pages[name]
		if !bytes.Contains(page, []byte(".B "+quoted(c.CommandPath()))) && !bytes.Contains(page, []byte(".B "+quoted(useOf(c)))) {
			t.Errorf("%s does not say %q", name, c.CommandPath())
		}
		c.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if f.Name == "help" || f.Hidden {
				return
			}
			options++
			escaped := manual.Escape("--" + f.Name)
			if !bytes.Contains(page, []byte(".B "+escaped+"\n")) && !bytes.Contains(page, []byte(".BI "+escaped+"= ")) {
				t.Errorf("%s does not say --%s", name, f.Name)
			}
		})
	})
	for name, page := range pages {
		for line := range strings.Lines(string(page)) {
			if len(line) > 81 && !strings.HasPrefix(line, "fundus ") { // a command is not broken
				t.Errorf("%s: %d bytes: %s", name, len(line), line)
			}
		}
	}
	if commands < 50 || options < 300 || len(pages) < 30 {
		t.Errorf("%d commands with %d options in %d pages", commands, options, len(pages))
	}
	t.Logf("%d commands with %d options in %d pages", commands, options, len(pages))
}

// quoted is an argument of a request.
func quoted(text string) string {
	if text = manual.Escape(text); strings.Contains(text, " ") {
		return `"` + text + `"`
	}
	return text
}
