package progress_test

import (
	"fmt"

	"fundus/core/progress"
	"fundus/core/quantity"
)

// Whoever does long work says how far it is; without a listener nothing happens.
func Example() {
	work := func(sink progress.Sink) {
		sink.Send("block groups", 512*quantity.MiB, quantity.GiB)
	}
	work(nil)
	work(func(r progress.Report) { fmt.Println(r.Work, r.Done, "of", r.Total) })
	// Output: block groups 512.0 MiB of 1.0 GiB
}
