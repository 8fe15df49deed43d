package main

import (
	"context"
	"fmt"
	"time"

	"fundus/core/quantity"
	"fundus/core/table"
	deeds "fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine/live"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
)

// road is the way from a blank disk to a mounted file system, as one request.
type road struct{ Disk, Label string }

func (road) Verb() string { return "road" }

func (r road) Plan(ctx context.Context, p *task.Planner) error {
	size, err := quantity.Parse("100MiB")
	if err != nil {
		return err
	}
	dir := "/srv/" + r.Label
	for _, q := range []task.Request{
		&disk.TableNew{Disk: r.Disk, Scheme: table.GPT}, &disk.PartitionAdd{Disk: r.Disk, Parts: []disk.NewPart{{Size: size}}},
		&content.Format{Target: r.Disk + "1", Kind: "ext4", Label: r.Label},
		&boot.FstabAdd{Target: r.Disk + "1", Dir: dir}, &mount.Mount{Target: dir},
	} {
		if err := p.Do(ctx, q); err != nil {
			return fmt.Errorf("%s: %w", q.Verb(), err)
		}
	}
	return nil
}

// chained plans the whole road as one draft and commits it as one deed.
func chained(words []string) string {
	ctx := context.Background()
	m, err := live.New(nil, "", 10*time.Second)
	if err != nil {
		return err.Error()
	}
	s := task.Conditions{Machine: m, Store: deeds.NewStore("/var/lib/fundus", time.Now), Clock: time.Now()}
	r := road{words[0], words[1]}
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return err.Error()
	}
	plan.Drop()
	c := deeds.Commit{
		Store:    s.Store,
		Machine:  m,
		Reviewed: &plan.Draft,
		Seen:     plan.Seen,
		Plan:     func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, r) },
	}
	d, err := c.Run(ctx)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("one deed of %d steps[%v]", len(d.Steps), err)
}
