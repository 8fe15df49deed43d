package main

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/kind"
	"fundus/core/mountopt"
)

// options is TYPE DEVICE: every row of a type, rightly and wrongly written, and the rows of
// all others go before the kernel; where it takes what the table refuses, or refuses what
// the table takes, that is said.
func options(words []string) string {
	typ, device := words[0], words[1]
	fd, err := unix.Fsopen(typ, unix.FSOPEN_CLOEXEC)
	if err != nil {
		return "no such kind"
	}
	unix.Close(fd)
	table := kind.Options(typ)
	asked, differ := 0, []string(nil)
	for _, o := range written(typ, device) {
		row, ok := table.Find(o)
		flag := ok && row.To == mountopt.Superblock && o == row.Name && !legacy(typ) // given apart to the others, and whatever its value
		if ok && (row.To != mountopt.Own && !flag || row.Needs == mountopt.Built) {
			continue
		}
		asked++
		takes := !slices.ContainsFunc(table.Check([]string{o}, nil), func(f mountopt.Fault) bool {
			return (f.Trouble.Refused() || f.Trouble == mountopt.Untold && table.Own) && f.Trouble != mountopt.Missing
		})
		if err := taken(typ, device, o); (err == nil) != takes {
			differ = append(differ, fmt.Sprintf("%s: %v", o, err))
		}
	}
	return fmt.Sprintf("%d asked, differ: %s", asked, strings.Join(differ, "; "))
}

// limits is TYPE DEVICE: the rows that not every type of a family has, and those that need a
// journal, are mounted with; the type ext2 has none.
func limits(words []string) string {
	typ, device := words[0], words[1]
	if fd, err := unix.Fsopen(typ, unix.FSOPEN_CLOEXEC); err != nil {
		return "no such kind"
	} else if unix.FsconfigSetFlag(fd, "nosuchoption") == nil {
		return "another driver has it"
	}
	asked, differ := 0, []string(nil)
	has := func(need mountopt.Need) bool { return typ != "ext2" }
	for _, row := range kind.Options("ext4").Rows {
		if row.To != mountopt.Own || row.Needs == mountopt.Built || row.Types == nil && row.Needs != mountopt.Journal {
			continue
		}
		list := []string{row.Name}
		switch row.Value {
		case mountopt.Number:
			list = []string{row.Name + "=30"}
		case mountopt.Word:
			list = []string{row.Name + "=" + row.Words[0]}
		}
		for _, o := range list {
			asked++
			takes := !slices.ContainsFunc(kind.Options(typ).Check([]string{o}, has), func(f mountopt.Fault) bool { return f.Trouble.Refused() })
			err := unix.Mount(device, "/mnt", typ, 0, o)
			if err == nil {
				_ = unix.Unmount("/mnt", 0) // it was mounted just now
			}
			if (err == nil) != takes {
				differ = append(differ, fmt.Sprintf("%s: %v", o, err))
			}
		}
	}
	return fmt.Sprintf("%d asked, differ: %s", asked, strings.Join(differ, "; "))
}

// written lists the rows of the type in each form that they have and in some that they have
// not, and those of other types.
func written(typ, device string) (out []string) {
	sample := func(o mountopt.Option) (good, bad []string) {
		switch o.Value {
		case mountopt.Power:
			return []string{"0", "32"}, []string{"3", "x"}
		case mountopt.Even:
			return []string{"4", "32"}, []string{"2", "7", "x"}
		case mountopt.Number:
			if o.Name == "sbsector" { // another leads nowhere
				return []string{"0"}, []string{"x"}
			}
			if o.Name == "codepage" { // one that every kernel has
				return []string{"437"}, []string{"x"}
			}
			return []string{"3", "0"}, []string{"x", "-1", ""}
		case mountopt.Signed:
			return []string{"3", "-3"}, []string{"x"}
		case mountopt.Octal:
			return []string{"022"}, []string{"9"}
		case mountopt.Size:
			return []string{"64k"}, nil
		case mountopt.Word:
			return o.Words, []string{"nosuch"}
		case mountopt.Device:
			return []string{device}, nil
		case mountopt.Text:
			return []string{"utf8"}, nil
		}
		return nil, []string{"1"}
	}
	for _, t := range append([]string{typ}, kind.MountTypes()...) {
		for _, o := range kind.Options(t).Rows {
			if t != typ && o.To != mountopt.Own {
				continue
			}
			good, bad := sample(o)
			out = append(out, o.Name)
			for _, v := range append(good, bad...) {
				out = append(out, o.Name+"="+v)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// legacy are the types that judge options when they are mounted, and not before.
func legacy(typ string) bool {
	return slices.Contains([]string{"vfat", "msdos", "btrfs", "iso9660", "udf"}, typ)
}

// taken asks the kernel: it configures without creating anything where it can, and mounts
// the others.
func taken(typ, device, o string) error {
	if legacy(typ) {
		err := unix.Mount(device, "/mnt", typ, unix.MS_RDONLY, o)
		if err == nil {
			err = unix.Unmount("/mnt", 0)
		}
		return err
	}
	fd, err := unix.Fsopen(typ, unix.FSOPEN_CLOEXEC)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	name, value, valued := strings.Cut(o, "=")
	if valued {
		err = unix.FsconfigSetString(fd, name, value)
	} else {
		err = unix.FsconfigSetFlag(fd, name)
	}
	if err != nil {
		var b [256]byte
		if n, _ := unix.Read(fd, b[:]); n > 0 {
			err = errors.New(strings.TrimSpace(string(b[:n])))
		}
	}
	return err
}
