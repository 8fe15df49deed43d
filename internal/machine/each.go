package machine

import (
	"context"
	"runtime"
	"sync"

	"fundus/core/inventory"
)

// Each calls the function for every number below n, several at a time, because
// disks wait for each other no longer than they must, and joins the results in
// the order of the numbers.
func Each(ctx context.Context, n int, look func(i int) []inventory.Node) ([]inventory.Node, error) {
	results := make([][]inventory.Node, n)
	next := make(chan int)
	var wait sync.WaitGroup
	for range min(n, 4*runtime.GOMAXPROCS(0)) {
		wait.Go(func() {
			for i := range next {
				results[i] = look(i)
			}
		})
	}
	for i := 0; i < n && ctx.Err() == nil; i++ {
		next <- i
	}
	close(next)
	wait.Wait()
	var all []inventory.Node
	for _, r := range results {
		all = append(all, r...)
	}
	return all, ctx.Err()
}
