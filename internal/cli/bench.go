package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/block"
	"fundus/core/finding"
	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/look"
	"fundus/internal/machine/bench"
	"fundus/internal/view"
)

func newBench(e *Env) *cobra.Command {
	disk := e.group("disk", "Plug disks into a bench, pull them out, plant faults",
		"  fundus bench disk add sdb --size 64GiB\n  fundus bench disk fault sdb --cut-at-write=3",
		newBenchDiskAdd(e), newBenchDiskRemove(e), newBenchDiskResize(e), newBenchDiskFault(e))
	return e.group("bench", "Make and run a simulated machine",
		"  fundus bench new fernhill --host fernhill\n  fundus bench boot", newBenchNew(e), disk, newBenchBoot(e))
}

func newBenchNew(e *Env) *cobra.Command {
	host, layout := "", bench.Layout{}
	cmd := &cobra.Command{
		Use: "new DIR", Short: "Create a simulated machine with a system disk",
		Long: `Create a simulated machine in a directory: a system disk that it boots from, its
text files, and a kernel that refuses what a real one refuses.`,
		Example: "  fundus bench new fernhill --host fernhill\n  fundus bench new /tmp/seedbank", Args: words(1, 1, "one directory"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if host == "" {
				host = filepath.Base(args[0])
			}
			if _, err := bench.New(cmd.Context(), args[0], host, layout, e.Now, e.fresh); err != nil {
				return err
			}
			dir := args[0]
			if !filepath.IsAbs(dir) {
				dir = "$PWD/" + dir
			}
			return e.printer().Show(view.Message{Text: fmt.Sprintf("bench %s is up; to work on it: export FUNDUS_BENCH=%s", host, dir)})
		},
	}
	cmd.Flags().StringVar(&host, "host", "", "host `NAME` (default: name of the directory)")
	cmd.Flags().BoolVar(&layout.RootLast, "root-last", false, "put the root last on the system disk, where it can grow")
	return cmd
}

func (e *Env) openBench() (*bench.Bench, error) {
	if e.o.bench == "" {
		return nil, usageWay(way.BenchNew("DIR").Asking("DIR"), "which bench? say --bench DIR, or set FUNDUS_BENCH")
	}
	return bench.Open(e.o.bench, nil, e.Now)
}

func newBenchDiskAdd(e *Env) *cobra.Command {
	d := bench.Disk{}
	var logical, physical string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Plug a disk into the bench",
		Long:    `Plug a disk into the bench. Its image is created, sparse, unless it exists.`,
		Example: "  fundus bench disk add sdb --size 64GiB --bus sata --serial LS-20417\n  fundus bench disk add sdc --size 32GB --removable --bus usb",
		Args:    words(1, 1, "the disk's name, such as sdb"),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := e.openBench()
			if err != nil {
				return err
			}
			if d.Size == "" {
				return usagef("how large? --size=SIZE, such as --size=64GiB")
			}
			d.Name = args[0]
			for _, s := range []struct {
				word string
				into *int64
			}{{logical, &d.Sectors.Logical}, {physical, &d.Sectors.Physical}} {
				size, err := quantity.Parse(s.word)
				if err != nil {
					return usageError{err}
				}
				n, err := size.Resolve(512, 0)
				if err != nil {
					return usageError{err}
				}
				*s.into = int64(n)
			}
			if err := b.AddDisk(d); err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: fmt.Sprintf("%s (%s) is plugged in; fundus survey shows it", d.Name, d.Size)})
		},
	}
	f := cmd.Flags()
	f.StringVar(&d.Size, "size", "", "`SIZE` such as 64GiB")
	f.StringVar(&d.Bus, "bus", "sata", "how it is connected: "+strings.Join(bench.Buses(), ", "))
	f.StringVar(&d.Model, "model", "", "its `MODEL`")
	f.StringVar(&d.Serial, "serial", "", "its `SERIAL` number")
	f.StringVar(&logical, "sector", "512B", "its logical sector")
	f.StringVar(&physical, "physical-sector", "4096B", "its physical sector")
	f.Int64Var(&d.Sectors.OptIO, "optimal-io", 0, "its optimal I/O size in `BYTES`")
	f.BoolVar(&d.Rotational, "rotational", false, "it has spinning platters")
	f.BoolVar(&d.Removable, "removable", false, "it can be taken out")
	f.Int64Var(&d.Discard, "discard", 0, "it can discard, in steps of `BYTES`")
	f.BoolVar(&d.ReadOnly, "read-only", false, "read-only")
	return cmd
}

func newBenchDiskRemove(e *Env) *cobra.Command {
	inUse := false
	cmd := &cobra.Command{
		Use: "remove NAME", Short: "Pull a disk out of the bench; its image is kept",
		Example: "  fundus bench disk remove sdc\n  fundus bench disk remove sdb --bench fernhill",
		Args:    words(1, 1, "one disk"), ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := e.openBench()
			if err != nil {
				return err
			}
			if err := b.RemoveDisk(cmd.Context(), args[0], inUse); err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: args[0] + " is pulled out; its image stays in the bench"})
		},
	}
	cmd.Flags().BoolVar(&inUse, "even-if-mounted", false, "pull it although it is in use")
	return cmd
}

func newBenchDiskResize(e *Env) *cobra.Command {
	size := ""
	cmd := &cobra.Command{
		Use: "resize NAME", Short: "Make a disk of the bench larger or smaller",
		Long: `Make a disk of the bench larger or smaller, as the storage of a virtual machine
does. The bench's kernel learns of more space with fundus rescan, or at the next
fundus bench boot.`,
		Example: "  fundus bench disk resize sdb --size 96GiB\n  fundus bench disk resize sdb --size 48GiB",
		Args:    words(1, 1, "one disk"), ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := e.openBench()
			if err != nil {
				return err
			}
			if size == "" {
				return usagef("how large? --size SIZE, such as 96GiB")
			}
			v, err := b.Inventory(cmd.Context())
			if err != nil {
				return err
			}
			was, _ := v.Node(args[0])
			if err := b.ResizeDisk(args[0], size); err != nil {
				return err
			}
			words := fmt.Sprintf("%s has %s now; fundus rescan %s tells the bench's kernel", args[0], size, args[0])
			if after, err := b.Inventory(cmd.Context()); err == nil {
				if now, _ := after.Node(args[0]); now.Size < was.Size {
					words = fmt.Sprintf("%s has %s now; what was on the %v after that is lost", args[0], size, was.Size-now.Size)
				}
			}
			return e.printer().Show(view.Message{Text: words})
		},
	}
	cmd.Flags().StringVar(&size, "size", "", "the new `SIZE`")
	return cmd
}

func newBenchDiskFault(e *Env) *cobra.Command {
	f := bench.Fault{}
	readError, clear := int64(block.Never), false
	cmd := &cobra.Command{
		Use: "fault NAME", Short: "Make a disk of the bench fail",
		Long: `Make a disk of the bench fail: cut the power before write or sync number N of the
next command that writes, let one write fail, make one place unreadable, or let
the disk hang. After a power cut the bench is off until fundus bench boot.`,
		Example: "  fundus bench disk fault sdb --cut-at-write=3\n  fundus bench disk fault sdb --clear",
		Args:    words(1, 1, "one disk"), ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := e.openBench()
			if err != nil {
				return err
			}
			planted := &f
			if readError >= 0 {
				f.ReadErrorAt = &readError
			}
			if clear {
				planted = nil
			} else if f.CutAtWrite == 0 && f.FailAtWrite == 0 && f.ReadErrorAt == nil && !f.Hangs {
				if cmd.Flags().Changed("cut-at-write") || cmd.Flags().Changed("fail-at-write") {
					return usagef("writes are counted from 1")
				}
				return usagef("which fault? --cut-at-write=N, --fail-at-write=N, --read-error-at=BYTE, --hangs, or --clear")
			}
			if err := b.PlantFault(args[0], planted); err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: map[bool]string{
				true:  args[0] + " works again",
				false: "the fault is planted in " + args[0],
			}[clear]})
		},
	}
	flags := cmd.Flags()
	flags.IntVar(&f.CutAtWrite, "cut-at-write", 0, "cut the power before write or sync number `N`")
	flags.IntVar(&f.FailAtWrite, "fail-at-write", 0, "fail write or sync number `N`")
	flags.Int64Var(&readError, "read-error-at", block.Never, "fail reads of this `BYTE`")
	flags.BoolVar(&f.Hangs, "hangs", false, "never answer")
	flags.Uint64Var(&f.Seed, "seed", 0, "decides which unsynced writes survive")
	flags.BoolVar(&clear, "clear", false, "remove every fault")
	return cmd
}

func newBenchBoot(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "boot", Short: "Boot the bench and show the result of each mount",
		Long: `Shut the bench down if it is on, boot it, and show what becomes of each line of
fstab.`,
		Example: "  fundus bench boot\n  fundus bench boot --bench fernhill", Args: words(0, 0, "no words"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, err := e.openBench()
			if err != nil {
				return err
			}
			report, err := b.Boot(cmd.Context())
			if err != nil {
				return err
			}
			r, err := look.Rehearsed(cmd.Context(), b, report)
			if err != nil {
				return err
			}
			return errors.Join(e.printer().Show(view.Rehearsal{Rehearsal: r, Done: true}), rehearsed(r, finding.Warning))
		},
	}
}
