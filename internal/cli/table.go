package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/table/saved"
	"fundus/internal/look"
	"fundus/internal/oscall"
	"fundus/internal/task/disk"
	"fundus/internal/view"
)

func newTable(e *Env) *cobra.Command {
	return about("partition list", e.group("table", "Make, edit, repair, convert, save or restore a table",
		"  fundus table new sdb --scheme gpt\n  fundus table repair sdb",
		newTableNew(e), newTableEdit(e), newTableRepair(e), newTableConvert(e), newTableSave(e), newTableRestore(e)))
}

func newTableNew(e *Env) *cobra.Command {
	scheme, r := "gpt", &disk.TableNew{}
	cmd := &cobra.Command{
		Use: "new DISK", Short: "Create a new, empty partition table",
		Long: `Create a new, empty partition table. Old contents become inaccessible and must be
named with --lose. Use GPT on any current machine; an MBR has four entries and
reaches 2 TiB, for memory cards and firmware that knows nothing else.`,
		Example:           "  fundus table new sdb --scheme gpt\n  fundus table new card.img --commit --lose=FIELDCARD",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := knownScheme(scheme); err != nil {
				return err
			}
			r.Disk, r.Scheme = args[0], table.Scheme(scheme)
			return e.change(cmd, r)
		},
	}
	cmd.Flags().StringVar(&scheme, "scheme", scheme, "the scheme: gpt or mbr")
	cmd.Flags().StringVar(&r.References, "references", "", "fstab lines that name it: drop, disable or keep")
	cmd.Flags().BoolVar(&r.Unless, "unless-there", false, "do nothing if the disk has a table of that scheme")
	cmd.Flags().IntVar(&r.Entries, "entries", 0, "number of entries of a GPT: `NUMBER` (default 128)")
	return e.addChange(cmd)
}

func newTableEdit(e *Env) *cobra.Command {
	r := &disk.TableEdit{}
	cmd := &cobra.Command{
		Use: "edit DISK", Short: "Change the identifier of a table, for a copied disk",
		Long: `Change the identifier of a partition table. A disk that was copied block by block
has that of the original, and nothing can tell the two apart. PARTUUIDs of an MBR
derive from it: text files that name them follow. Partitions of a GPT have their
own: fundus partition edit --uuid=new.`,
		Example:           "  fundus table edit sdc --uuid=new\n  fundus table edit card.img --uuid=5eed5eed --draft",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			if r.Disk = args[0]; r.UUID == "" {
				return usagef("change what? --uuid")
			}
			return e.change(cmd, r)
		},
	}
	cmd.Flags().StringVar(&r.UUID, "uuid", "", "a `GUID`, 8 hexadecimal digits (MBR), or new")
	return e.addChange(cmd)
}

func newTableRepair(e *Env) *cobra.Command {
	find, choose, scheme, references := false, "", "gpt", ""
	cmd := &cobra.Command{
		Use: "repair DISK", Short: "Repair a GPT, or rebuild a lost table from what is found",
		Long: `Rewrite both copies of a GPT, and its protective record, from the good copy; on a
disk that has grown the backup moves to the end. If no table is left, --search
reads the whole disk, finds file systems, swap and volumes by their superblocks,
and shows how sure each is; --choose writes a table of those you choose.`,
		Example:           "  fundus table repair sdb\n  fundus table repair sdb --search --choose 1,3",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !find && choose != "" {
				return usagef("--choose is about what --search finds: say both")
			}
			if !find {
				return e.change(cmd, &disk.TableRepair{Disk: args[0]})
			}
			numbers, err := chosen(choose)
			if err != nil {
				return usageError{err}
			}
			m, err := e.open(cmd.Context(), args...)
			if err != nil {
				return err
			}
			bar := e.progress()
			found, err := look.FindLost(cmd.Context(), m.Machine, args[0], e.configuration(), bar.report)
			bar.finish()
			if err != nil {
				return err
			}
			if choose == "" {
				return e.printer().Show(view.Search{Lost: found})
			}
			r, err := disk.Choose(found.Disk.Name, found.Found, table.Scheme(scheme), numbers)
			if err != nil {
				return err
			}
			r.References = references
			return e.settle(cmd.Context(), m, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&references, "references", "", "fstab lines that name it: drop, disable or keep")
	f.BoolVar(&find, "search", false, "search the whole disk for lost partitions")
	f.StringVar(&choose, "choose", "", "write a table of these: `NUMBERS` such as 1,3, or proposed")
	f.StringVar(&scheme, "scheme", scheme, "the scheme of the new table: gpt or mbr")
	return e.addChange(cmd)
}

// chosen reads the numbers; none for those that are proposed.
func chosen(word string) (numbers []int, err error) {
	if word == "" || word == "proposed" {
		return nil, nil
	}
	for one := range strings.SplitSeq(word, ",") {
		n, err := positive("choose", one)
		if err != nil {
			return nil, err
		}
		numbers = append(numbers, n)
	}
	return numbers, nil
}

func newTableConvert(e *Env) *cobra.Command {
	r := &disk.TableConvert{}
	scheme := ""
	cmd := &cobra.Command{
		Use: "convert DISK", Short: "Convert a table between GPT and MBR, in place",
		Long: `Write an MBR as a GPT, or a GPT as an MBR if it fits. Every partition keeps its
place and number; text files that name it by PARTUUID follow. What cannot be kept
is listed.`,
		Example:           "  fundus table convert sdb --scheme gpt\n  fundus table convert card.img --scheme mbr --draft",
		Args:              words(1, 1, "one disk"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Disk, r.Scheme = args[0], table.Scheme(scheme)
			if err := knownScheme(scheme); err != nil {
				return err
			}
			return e.change(cmd, r)
		},
	}
	cmd.Flags().StringVar(&scheme, "scheme", "", "the new scheme: gpt or mbr")
	return e.addChange(cmd)
}

func newTableSave(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "save DISK [FILE]", Short: "Save a table to a file",
		Long: `Save the table of a disk as a JSON document (docs/formats.md) in a new file, or on
standard output. It is the table alone, not the contents of the partitions.`,
		Example:           "  fundus table save sdb sdb-table.json\n  fundus table save sdb",
		Args:              words(1, 2, "one disk, and a file that is not there yet"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			doc, err := look.SavedTable(cmd.Context(), m.Machine, args[0])
			if err != nil {
				return err
			}
			data, err := doc.Encode()
			if err != nil {
				return err
			}
			if len(args) == 1 || args[1] == "-" {
				_, err = e.Out.Write(data)
				return err
			}
			if err := oscall.NewFile(args[1], data); errors.Is(err, fs.ErrExist) {
				return refused.As(refused.Exists, fmt.Errorf("%s is there already: choose another name for the table of %s",
					args[1], args[0]))
			} else if err != nil {
				return err
			}
			return e.printer().Show(view.Message{Text: fmt.Sprintf("the table of %s is in %s; fundus table restore %s %s writes it again",
				args[0], args[1], args[0], args[1])})
		},
	}
}

func newTableRestore(e *Env) *cobra.Command {
	references := ""
	cmd := &cobra.Command{
		Use: "restore DISK FILE", Short: "Restore a saved table",
		Long: `Restore a table that fundus table save wrote: to the same disk as it was, or to
another one, at least as large, with new identifiers. The contents of partitions
are neither saved nor restored.`,
		Example:           "  fundus table restore sdb sdb-table.json\n  fundus table restore card.img sdb-table.json --draft",
		Args:              words(2, 2, "one disk and a file"),
		ValidArgsFunction: e.complete(wholeDisk),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, _, err := oscall.ReadFile(args[1])
			if err != nil {
				return err
			}
			r := &disk.TableRestore{Disk: args[0], References: references}
			if r.Saved, err = saved.Decode(data); err != nil {
				return fmt.Errorf("%s: %w", args[1], err)
			}
			return e.change(cmd, r)
		},
	}
	cmd.Flags().StringVar(&references, "references", "", "fstab lines that name it: drop, disable or keep")
	return e.addChange(cmd)
}

func knownScheme(word string) error {
	switch table.Scheme(word) {
	case table.GPT, table.MBR:
		return nil
	case "":
		return usagef("which scheme? --scheme gpt or --scheme mbr")
	}
	return usagef("--scheme=%s: it is gpt or mbr", word)
}
