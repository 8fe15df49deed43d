package main

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// tests runs what needs Go alone.
func tests(p *place, t *tally, o options) error {
	fmt.Println("compiling the tests")
	list, err := p.compile("tests", nil, "./...")
	if err != nil {
		return err
	}
	t.compiled = spent()
	// What takes longest goes first.
	long := []string{"fundus/test/cuts", "fundus/internal/cli", "fundus/test/program", "fundus/test/structure"}
	slices.SortStableFunc(list, func(a, b compiled) int { return rank(long, a.pkg) - rank(long, b.pkg) })
	work, done := make(chan compiled), 0
	var workers sync.WaitGroup
	for range runtime.NumCPU() {
		workers.Go(func() {
			for c := range work {
				e, err := p.run(job{name: c.pkg, compiled: c}, t.take)
				t.Lock()
				done++
				t.show("[%d of %d] %s: %.1f s, %.1f s of a processor", done, len(list),
					strings.TrimPrefix(c.pkg, "fundus/"), e.took.Seconds(), e.processor().Seconds())
				t.Unlock()
				switch {
				case err != nil:
					t.fail("%s: %v", c.pkg, err)
				case e.still != "":
					t.fail("%s stood still and was ended: %s", c.pkg, e.still)
				}
			}
		})
	}
	for _, c := range list {
		if o.only == "" || strings.Contains(c.pkg, o.only) {
			work <- c
		}
	}
	close(work)
	workers.Wait()
	return t.close(p, "units, scripts, structure, corpora",
		"Only make proof shows it to a Linux kernel, to systemd, to the boot loader's reader, to shells, as root, and to the race detector.")
}

// rank is where in the list it stands, or behind it.
func rank(list []string, name string) int {
	if at := slices.Index(list, name); at >= 0 {
		return at
	}
	return len(list)
}
