package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/way"
	"fundus/internal/view"
)

func newTypes(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "types [WORD…]", Short: "Find partition types by word, GUID or byte",
		Long: `Find partition types of both schemes: every word must match the name, the meaning,
the beginning of the GUID, or the type byte. partition add --type accepts the
names, any other GUID, and any byte.`,
		Example: "  fundus types efi\n  fundus types linux arm64",
		RunE: func(_ *cobra.Command, args []string) error {
			found := table.SearchTypes(strings.Fields(strings.Join(args, " "))) // several in one word too
			if len(found) == 0 {
				return way.To(refused.As(refused.NoSuchThing, fmt.Errorf("no type fits %s", strings.Join(args, " "))), way.Types())
			}
			return e.printer().Show(view.Types{List: found})
		},
	}
}
