package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"fundus/core/quantity"
	"fundus/core/target"
	"fundus/internal/look"
	"fundus/internal/task/disk"
	"fundus/internal/view"
)

func newPartition(e *Env) *cobra.Command {
	return about("partition list", e.group("partition", "List, add, edit and remove partitions",
		"  fundus partition list sdb\n  fundus partition add sdb --size 20GiB",
		newPartitionList(e), newPartitionAdd(e), newPartitionEdit(e), newPartitionRemove(e)))
}

func newPartitionList(e *Env) *cobra.Command {
	identifiers := false
	cmd := &cobra.Command{
		Use: "list DISK", Short: "Show the partitions and gaps of a disk, in sectors",
		Long: `Show the partitions of a disk: first and last sector, size, type, contents and
name, and between them the gaps that can take a partition, numbered for fundus
partition add --in.`,
		Example:           "  fundus partition list sdb\n  fundus partition list card.img --sizes=bytes",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := e.survey(cmd.Context(), args, look.SurveyFilter{})
			if err != nil {
				return err
			}
			if d := s.Disks[0]; d.Table == nil {
				return target.NoTable(s.Inventory, d)
			}
			return e.printer().Show(view.Partitions{Survey: s, Identifiers: identifiers})
		},
	}
	cmd.Flags().BoolVar(&identifiers, "identifiers", false, "show PARTUUIDs and attributes too")
	return cmd
}

// addWords are the options of partition add as typed; each stands once, or once for
// each partition.
type addWords struct {
	sizes, types, names, numbers, ids []string
	at, to                            string
	in                                int
	boot, unless                      bool
}

func newPartitionAdd(e *Env) *cobra.Command {
	w, content := addWords{}, ""
	cmd := &cobra.Command{
		Use: "add DISK", Short: "Add partitions in the first gaps that fit",
		Long: `Add a partition in the first gap that fits, or in the whole largest gap if you
give no size; --in and --at choose the gap or the place. Start and size are
aligned. Several sizes make several partitions, with types and names in the same
order. On an MBR, partitions inside the extended one are logical. Old contents in
the space must be kept or erased on purpose: --content.`,
		Example: `  fundus partition add sdb --size 20GiB --name herbarium
  fundus partition add card.img --size 1GiB --type efi --size max --type linux`,
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			if w.unless && len(w.numbers) == 0 {
				return usagef("--unless-there looks whether a number is there: say --number")
			}
			parts, err := w.parts()
			if err != nil {
				return usageError{err}
			}
			return e.change(cmd, &disk.PartitionAdd{Disk: args[0], Parts: parts, Content: content})
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&w.sizes, "size", nil, "`SIZE` such as 20GiB, 50% or max (repeatable)")
	f.StringVar(&w.at, "at", "", "where it begins: `PLACE` such as 20GiB")
	f.StringVar(&w.to, "to", "", "where it ends, instead of a size: `PLACE` like 40GiB")
	f.IntVar(&w.in, "in", 0, "the gap: its `NUMBER` in fundus partition list")
	f.StringArrayVar(&w.names, "name", nil, "`NAME` in the table (repeatable)")
	f.StringArrayVar(&w.types, "type", nil,
		"what it is for: a `TYPE` of fundus types, a GUID or a byte (repeatable; default linux)")
	f.StringArrayVar(&w.numbers, "number", nil, "its `NUMBER` (repeatable; default the lowest free)")
	f.StringArrayVar(&w.ids, "uuid", nil, "its PARTUUID, a `GUID` (repeatable; default random)")
	f.BoolVar(&w.boot, "boot", false, "mark it as the one that old firmware boots from")
	f.BoolVar(&w.unless, "unless-there", false, "do nothing if --number exists already, as asked")
	f.StringVar(&content, "content", "", "old contents in that space: keep or erase")
	return e.addChange(cmd)
}

// parts matches the words: the nth type belongs to the nth size. One that is said once for
// several partitions is refused, whatever it is: nobody can tell for which it was meant.
func (w *addWords) parts() ([]disk.NewPart, error) {
	n := max(len(w.sizes), 1)
	switch {
	case n > 1 && (w.at != "" || w.in != 0 || w.to != ""):
		return nil, fmt.Errorf("--at, --to and --in are for one partition; %d sizes are given", n)
	case w.to != "" && len(w.sizes) > 0:
		return nil, fmt.Errorf("--to and --size are two answers to one question: say where it ends, or how large it is")
	case w.to != "" && w.at == "" && w.in == 0:
		return nil, fmt.Errorf("--to says where it ends; say with --at where it begins, or with --in in which gap")
	}
	pick := func(option string, list []string, i int) (string, error) {
		switch {
		case len(list) == n:
			return list[i], nil
		case len(list) == 0:
			return "", nil
		}
		return "", fmt.Errorf("--%s: say it for each of the %d partitions, in the order of their sizes (it was said for %d)",
			option, n, len(list))
	}
	parts := make([]disk.NewPart, n)
	for i := range parts {
		p := &parts[i]
		size, err := pick("size", w.sizes, i)
		if err == nil && size != "" {
			if p.Size, err = quantity.Parse(size); err != nil {
				err = fmt.Errorf("--size=%w", err)
			}
		}
		if err == nil {
			p.Type, err = pick("type", w.types, i)
		}
		if err == nil {
			p.Name, err = pick("name", w.names, i)
		}
		if err == nil {
			p.UUID, err = pick("uuid", w.ids, i)
		}
		number := ""
		if err == nil {
			number, err = pick("number", w.numbers, i)
		}
		if err == nil && number != "" {
			p.Number, err = positive("number", number)
		}
		if err != nil {
			return nil, err
		}
		p.In, p.Boot, p.Unless = w.in, w.boot, w.unless
		if w.at != "" {
			if p.At, err = quantity.Parse(w.at); err != nil {
				return nil, fmt.Errorf("--at=%w", err)
			}
		}
		if w.to != "" {
			if p.To, err = quantity.Parse(w.to); err != nil {
				return nil, fmt.Errorf("--to=%w", err)
			}
		}
	}
	return parts, nil
}

func newPartitionEdit(e *Env) *cobra.Command {
	r, name := &disk.PartitionEdit{}, ""
	number := ""
	boot, noBoot := false, false
	cmd := &cobra.Command{
		Use: "edit TARGET", Short: "Change type, name, attributes, number or PARTUUID",
		Long: `Change what the table says about a partition, except its place. Lines of text
files that name it by a changed identifier follow. Attributes of a GPT are
required, no-firmware, boot, grows, read-only and not-by-itself; of an MBR boot.`,
		Example:           "  fundus partition edit sdb1 --type /home --name seeds\n  fundus partition edit sdb1 --set read-only --clear not-by-itself",
		Args:              words(1, 1, "one partition"),
		ValidArgsFunction: e.complete(partition),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("name") {
				r.Name = &name
			}
			if boot && noBoot {
				return usagef("--boot and --no-boot contradict each other")
			}
			if boot {
				r.Set = append(r.Set, "boot")
			}
			if noBoot {
				r.Clear = append(r.Clear, "boot")
			}
			if number != "" {
				var err error
				if r.Number, err = positive("number", number); err != nil {
					return usageError{err}
				}
			}
			r.Target = args[0]
			if r.Type == "" && r.Name == nil && len(r.Set)+len(r.Clear) == 0 && r.Number == 0 && r.UUID == "" {
				return usagef("change what? --type, --name, --set, --clear, --boot, --no-boot, --number or --uuid")
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&r.Type, "type", "", "a `TYPE` of fundus types, a GUID or a byte")
	f.StringVar(&name, "name", "", "`NAME` in the table; empty for none")
	f.StringArrayVar(&r.Set, "set", nil, "set this `ATTRIBUTE` (repeatable)")
	f.StringArrayVar(&r.Clear, "clear", nil, "clear this `ATTRIBUTE` (repeatable)")
	f.BoolVar(&boot, "boot", false, "mark it as the one that old firmware boots from")
	f.BoolVar(&noBoot, "no-boot", false, "remove that mark")
	f.StringVar(&number, "number", "", "new `NUMBER`")
	f.StringVar(&r.UUID, "uuid", "", "new PARTUUID: a `GUID`, or new for a random one")
	return e.addChange(cmd)
}

func newPartitionRemove(e *Env) *cobra.Command {
	r := &disk.PartitionRemove{}
	cmd := &cobra.Command{
		Use: "remove TARGET...", Short: "Remove partitions from the table",
		Long: `Remove partitions from the table. They must not be in use, and their contents must
be named with --lose. --references removes or disables fstab lines that name them.
On an MBR the logical partitions after a removed one move up by one number, and
references follow.`,
		Example:           "  fundus partition remove sdb2\n  fundus partition remove card.img:1 --commit --lose=FIELDCARD",
		Args:              words(1, 128, "the partitions"),
		ValidArgsFunction: e.complete(partition),
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Targets = args
			return e.change(cmd, r)
		},
	}
	cmd.Flags().StringVar(&r.References, "references", "", "fstab lines that name them: drop, disable or keep")
	ifThere(cmd, &r.IfThere)
	return e.addChange(cmd)
}

// positive reads a number from 1.
func positive(option, word string) (int, error) {
	n := 0
	if _, err := fmt.Sscanf(word, "%d", &n); err != nil || n < 1 || fmt.Sprint(n) != word {
		return 0, fmt.Errorf("--%s=%s: a whole number from 1 is wanted", option, word)
	}
	return n, nil
}
