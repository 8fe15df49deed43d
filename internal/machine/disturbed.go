package machine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"fundus/core/fs"
	"fundus/core/inventory"
)

// How often, and how far apart, a disk is looked at again while somebody else is
// changing it. A table is changed within a fraction of that.
const (
	Again      = 200
	AgainAfter = 50 * time.Millisecond
)

// Undisturbed looks at a disk, and looks again where what it sees may be half of
// somebody's change: a damaged table, or a fence, while another process has the disk
// locked. It believes those only of a look that began when nobody had; after a while it
// says who has.
func Undisturbed(ctx context.Context, look func() []inventory.Node, locked func() string) []inventory.Node {
	nodes := look()
	for range Again {
		if !doubtful(nodes) {
			return nodes
		}
		who := locked()
		if nodes = look(); who == "" || ctx.Err() != nil {
			return nodes
		}
		select {
		case <-ctx.Done():
		case <-time.After(AgainAfter):
		}
	}
	who := locked()
	for i := range nodes {
		n := &nodes[i]
		if n.Parent == "" || slices.ContainsFunc(n.Contents, isFence) {
			n.Problem = fmt.Sprintf("%s is changing it now; look again when that has ended", who)
			n.TableBad, n.Contents = nil, slices.DeleteFunc(slices.Clone(n.Contents), isFence)
		}
	}
	return nodes
}

func isFence(c fs.Content) bool { return c.Class == fs.Fence }

func doubtful(nodes []inventory.Node) bool {
	return slices.ContainsFunc(nodes, func(n inventory.Node) bool {
		return len(n.TableBad) > 0 || slices.ContainsFunc(n.Contents, isFence)
	})
}
