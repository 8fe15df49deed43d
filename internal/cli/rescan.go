package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"fundus/internal/act"
	"fundus/internal/view"
)

func newRescan(e *Env) *cobra.Command {
	return e.addChange(&cobra.Command{
		Use: "rescan [DISK]", Short: "Have the kernel look at disks again",
		Long: `Have the kernel ask a disk for its size again, for instance after a virtual disk
was enlarged, and read its table: each partition that differs is updated by
itself, so that mounted ones are not disturbed. Without a disk it is every disk.
It acts at once; nothing on the disks is changed.`,
		Example:           "  fundus rescan sdb\n  fundus rescan --draft",
		Args:              words(0, 1, "at most one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context(), args...)
			if err != nil {
				return err
			}
			word := ""
			if len(args) > 0 {
				word = args[0]
			}
			list, err := act.Rescan(cmd.Context(), m.Machine, word, e.o.draft)
			if err != nil {
				return err
			}
			if err := e.printer().Show(view.Rescanned{List: list, Draft: e.o.draft}); err != nil {
				return err
			}
			return rescanResult(list)
		},
	})
}

// rescanResult is 6 where the next boot brings the rest about, else the first error.
func rescanResult(list []act.Rescanned) error {
	var failed []error
	for _, r := range list {
		if r.Later() {
			return errLater
		}
		for _, f := range r.Refused {
			failed = append(failed, f.Err)
		}
	}
	return errors.Join(failed...)
}
