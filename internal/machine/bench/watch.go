package bench

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fundus/internal/machine"
)

// watchStep is how often bench.yaml is looked at: a bench has no kernel that
// announces anything.
const watchStep = 100 * time.Millisecond

// Watch calls the function with each disk that is plugged into the bench, pulled
// out, or changed in bench.yaml since it was opened, until the context ends.
func (b *Bench) Watch(ctx context.Context, begun func(), report func(machine.Event)) error {
	begun()
	tick := time.NewTicker(watchStep)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		data, err := os.ReadFile(filepath.Join(b.dir, "bench.yaml"))
		if err != nil {
			return err
		}
		config, err := ParseConfig(data)
		if err != nil {
			return err
		}
		k, err := b.kernel()
		if err != nil {
			return err
		}
		before := b.config.Disks
		b.config = config
		for _, e := range b.changes(before) {
			if e.Came || e.Changed {
				e.Nodes = b.scan(ctx, &config.Disks[slices.IndexFunc(config.Disks, named(e.Name))], k)
			}
			report(e)
		}
	}
}

func named(name string) func(Disk) bool { return func(d Disk) bool { return d.Name == name } }

// changes are what distinguishes the disks from those before.
func (b *Bench) changes(before []Disk) (events []machine.Event) {
	for _, d := range before {
		if !slices.ContainsFunc(b.config.Disks, named(d.Name)) {
			events = append(events, machine.Event{Name: d.Name})
		}
	}
	for _, d := range b.config.Disks {
		switch i := slices.IndexFunc(before, named(d.Name)); {
		case i < 0:
			events = append(events, machine.Event{Name: d.Name, Came: true})
		case before[i].Size != d.Size || (before[i].Fault == nil) != (d.Fault == nil):
			events = append(events, machine.Event{Name: d.Name, Changed: true})
		}
	}
	return events
}
