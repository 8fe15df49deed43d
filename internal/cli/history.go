package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/machine/live"
	"fundus/internal/oscall"
	"fundus/internal/task/past"
	"fundus/internal/view"
)

func newCommit(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "commit CODE", ValidArgsFunction: e.completeDrafts, Short: "Carry out a stored draft, exactly as reviewed",
		Long: `Carry out a stored draft, exactly as reviewed. If the machine has changed so that
the result would differ, nothing is written and the new draft is shown.`,
		Example: "  fundus commit 3fa9c210\n  fundus commit 3fa9c210 --lose=herbarium", Args: words(1, 1, "the code of a draft"),
		RunE: func(cmd *cobra.Command, args []string) error { return e.commitStored(cmd.Context(), args[0]) },
	})
}

func newDraft(e *Env) *cobra.Command {
	every := false
	list := &cobra.Command{
		Use: "list", Short: "List the drafts that wait for fundus commit", Example: "  fundus draft list\n  fundus draft list --json",
		Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			all, err := m.store.Drafts()
			if err != nil {
				return err
			}
			return e.printer().Show(view.Drafts{List: all})
		},
	}
	show := &cobra.Command{
		Use: "show CODE", ValidArgsFunction: e.completeDrafts, Short: "Show a stored draft again",
		Example: "  fundus draft show 3fa9c210\n  fundus draft show 3fa9c210 --json", Args: words(1, 1, "the code of a draft"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e.o.draft, e.o.steps = true, true
			return e.commitStored(cmd.Context(), args[0])
		},
	}
	remove := &cobra.Command{
		Use: "remove CODE", ValidArgsFunction: e.completeDrafts, Short: "Delete a stored draft, or all of them",
		Example: "  fundus draft remove 3fa9c210\n  fundus draft remove --all", Args: words(0, 1, "the code of a draft, or --all"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if every != (len(args) == 0) {
				return usageWay(way.DraftList(), "say either the code of a draft or --all")
			}
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			if every {
				return e.forgetDrafts(m.store)
			}
			if args[0] == "all" {
				return usageWay(way.DraftRemove("--all"), "draft remove takes the code of a draft, or --all")
			}
			if err := m.store.RemoveDraft(args[0]); err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: "draft " + args[0] + " is forgotten; nothing was written by it"})
		},
	}
	remove.Flags().BoolVar(&every, "all", false, "all drafts")
	return e.group("draft", "List, show and forget drafts that wait for fundus commit",
		"  fundus draft list\n  fundus draft show 3fa9c210", list, show, remove)
}

// forgetDrafts takes all drafts away.
func (e *Env) forgetDrafts(store *deed.Store) error {
	all, err := store.Drafts()
	if err != nil {
		return err
	}
	for _, d := range all {
		if err := store.RemoveDraft(d.Code); err != nil {
			return err
		}
	}
	return e.printer().Show(view.Message{Text: fmt.Sprintf("drafts forgotten: %d; nothing was written by them", len(all))})
}

// elsewhere is where root keeps its deeds, where somebody else looks at their own.
func (e *Env) elsewhere(m *onMachine) string {
	if e.o.bench != "" || e.o.state != "" || m.store.Dir == live.SystemState {
		return ""
	}
	if _, err := os.Stat(live.SystemState); err != nil {
		return ""
	}
	return live.SystemState
}

func newDeed(e *Env) *cobra.Command {
	whole := false
	list := &cobra.Command{
		Use: "list", Short: "List what was committed, newest first",
		Example: "  fundus deed list\n  fundus deed list --bench fernhill", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			all, err := m.store.List()
			if err != nil {
				return err
			}
			return e.printer().Show(view.Deeds{List: all, All: whole, Elsewhere: e.elsewhere(m)})
		},
	}
	list.Flags().BoolVar(&whole, "all", false, "all deeds, not only the newest twenty")
	show := &cobra.Command{
		Use: "show DEED", ValidArgsFunction: e.completeDeeds, Short: "Show one deed with its steps",
		Example: "  fundus deed show 7\n  fundus deed show 0007-3fa9c210", Args: words(1, 1, "the number of a deed"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			d, err := m.store.Find(args[0])
			if err != nil {
				return err
			}
			all, err := m.store.List()
			if err != nil {
				return err
			}
			return e.printer().Show(view.Deed{Deed: d, NoWay: deed.NoWay(all, d)})
		},
	}
	remove := &cobra.Command{
		Use: "remove DEED", ValidArgsFunction: e.completeDeeds, Short: "Delete a deed; it cannot be undone afterwards",
		Example: "  fundus deed remove 7\n  fundus deed remove 0007-3fa9c210", Args: words(1, 1, "the number of a deed"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			d, err := m.store.Remove(args[0])
			if err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: fmt.Sprintf("deed %s (%s) is forgotten; what it did stays", d.ID, d.Title)})
		},
	}
	return e.group("deed", "List, show and forget what was committed", "  fundus deed list\n  fundus deed show 7", list, show, remove)
}

func newUndo(e *Env) *cobra.Command {
	r := &past.Undo{}
	cmd := &cobra.Command{
		Use: "undo [DEED]", ValidArgsFunction: e.completeDeeds, Short: "Undo a committed change",
		Long: `Undo a committed change, the newest if you name none: the old bytes and files come
back. It refuses if that area has been written since. An undo is a deed of its own
and can be undone too.`,
		Example: "  fundus undo\n  fundus undo 7 --commit", Args: words(0, 1, "at most one deed"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				r.Deed = args[0]
			} else if err := m.store.Midway(); err != nil {
				return err
			}
			d, err := m.store.Find(r.Deed)
			if err != nil {
				return err
			}
			if m, err = e.openOf(d, r.Image); err != nil {
				return err
			}
			r.Deed = d.ID
			return e.settle(cmd.Context(), m, r)
		},
	}
	cmd.Flags().StringVar(&r.Image, "image", "", "the deed's image `FILE`, if it was moved or copied")
	cmd.Flags().BoolVar(&r.Over, "over-later-writes", false, "restore over what was written since; that is lost")
	return e.addChange(cmd)
}

// openOf opens the machine with the image files that a deed worked on. One that has
// another name now is looked for beside its old one.
func (e *Env) openOf(d *deed.Deed, image string) (*onMachine, error) {
	if image != "" {
		return e.openWith([]string{image}, e.o.root)
	}
	var names []string
	for _, t := range d.Devices {
		if t.Image && t.Identity.Number == 0 {
			names = append(names, oscall.Renamed(t.Path, t.Identity.Disk))
		}
	}
	return e.reopen(names, "")
}

func newRecover(e *Env) *cobra.Command {
	direction, image, over, stay := "", "", false, false
	cmd := &cobra.Command{
		Use: "recover [DEED]", ValidArgsFunction: e.completeDeeds, Short: "Complete or roll back an interrupted commit",
		Long: `Complete or roll back a commit that a power cut or a crash interrupted, whichever
writes less; --direction chooses. Until then a fence keeps anything from mounting
what is unfinished. It refuses if the area was written since: --as-it-is keeps the
newer data, --over-later-writes replaces it.`,
		Example: "  fundus recover\n  fundus recover 7 --direction=back", Args: words(0, 1, "at most one deed"),
		RunE: func(cmd *cobra.Command, args []string) error {
			way, err := deed.ParseDirection(direction)
			if err != nil {
				return usageError{err}
			}
			if stay && (way != deed.Either || over || len(args) == 0) {
				return usagef("--as-it-is goes nowhere and needs the deed's name: leave --direction and --over-later-writes out")
			}
			if stay {
				way = deed.Stay
			}
			return e.recover(cmd, args, deed.Recover{Direction: way, Over: over, Image: image})
		},
	}
	cmd.Flags().StringVar(&direction, "direction", "", "back or forward")
	cmd.Flags().StringVar(&image, "image", "", "the deed's image `FILE`, if it was moved or copied")
	cmd.Flags().BoolVar(&over, "over-later-writes", false, "replace what was written since; that is lost")
	cmd.Flags().BoolVar(&stay, "as-it-is", false, "end the deed and keep what is there now")
	return cmd
}

func (e *Env) recover(cmd *cobra.Command, args []string, how deed.Recover) error {
	m, err := e.open(cmd.Context())
	if err != nil {
		return err
	}
	list, err := m.store.Unfinished()
	if err != nil {
		return err
	}
	if len(args) == 1 {
		d, err := m.store.Find(args[0])
		if err != nil {
			return err
		}
		list = []*deed.Deed{d}
	}
	if len(list) == 0 {
		return e.printer().Show(view.Message{Text: "nothing to recover: every deed is whole"})
	}
	for _, d := range list {
		if m, err = e.openOf(d, how.Image); err != nil {
			return err
		}
		bar := e.progress()
		r := how
		r.Store, r.Machine, r.Progress = m.store, m.Machine, bar.report
		release := e.Shield()
		out, err := r.Run(cmd.Context(), d)
		release()
		bar.finish()
		if err != nil {
			return err
		}
		if err := e.printer().Show(view.Recovered{Outcome: out}); err != nil {
			return err
		}
	}
	return nil
}
