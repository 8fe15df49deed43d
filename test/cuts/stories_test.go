// Package cuts proves what a crash leaves behind: every changing command is cut
// before each of its writes and syncs, by a device that then drops, reorders
// and tears what was not synced. After each cut the probes see the old state,
// the new one, or a fence; and recover, in both directions, brings exactly the
// old bytes or the new ones.
package cuts

import (
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/saved"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
	"fundus/internal/task/prepare"
	"fundus/internal/task/space"
)

// story is a command and the state in which it is given.
type story struct {
	name    string
	physics int64          // physical sector
	logical int64          // logical sector, 512 where it is 0
	before  []task.Request // committed first
	cut     task.Request
	keep    bool   // the cut command needs the store of before: undo
	seeds   uint64 // of a full count
	spoil   int64  // a byte that is turned round before the cut, 0 for none
	large   bool   // on a disk that an XFS fits on
	swaps   string // the partition that is swapped on, "" for none
	made    *chain // what a request, the one that is cut or taken back, is made of
}

func size(text string) quantity.Size {
	s, err := quantity.Parse(text)
	if err != nil {
		panic(err)
	}
	return s
}

func adding(parts ...disk.NewPart) *disk.PartitionAdd {
	return &disk.PartitionAdd{Disk: "sdb", Parts: parts}
}

func stories() []story {
	newTable := &disk.TableNew{Disk: "sdb", Scheme: table.GPT}
	add := adding(disk.NewPart{Size: size("30MiB"), Name: "herbarium"})
	second := adding(disk.NewPart{Size: size("2MiB"), Name: "scans"})
	format := func(label string) *content.Format {
		return &content.Format{Target: "sdb1", Kind: "ext4", Label: label}
	}
	bare := &content.Format{Target: "sdb", Kind: "ext4", Label: "bare"}
	label := &content.Label{Target: "sdb1", Label: "mosses"}
	newMBR := &disk.TableNew{Disk: "sdb", Scheme: table.MBR}
	unnamed := adding(disk.NewPart{Size: size("3MiB")})
	extended := adding(disk.NewPart{Size: size("24MiB"), Type: "extended"})
	edit := func(target string) *disk.PartitionEdit {
		name := "seeds"
		return &disk.PartitionEdit{Target: target, Name: &name, Type: "/home"}
	}
	restore := &disk.TableRestore{Disk: "sdb", Saved: saved.Document{Fundus: saved.Version, Kind: saved.Kind, Scheme: table.GPT, ID: "5eed5eed-0000-4000-8000-000000000001", Entries: 128,
		Disk: saved.Disk{Identity: "sata Larkspur S300 LS-20417", Size: diskSize, Sector: 512},
		Partitions: []saved.Partition{
			{Number: 1, First: 2048, Count: 4096, Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: "5eed5eed-0000-4000-8000-000000000002", Name: "scans"},
			{Number: 7, First: 10240, Count: 4096, Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: "5eed5eed-0000-4000-8000-000000000003"},
		}}}
	undo := &past.Undo{}
	fat := &content.Format{Target: "sdb1", Kind: "fat", Label: "FIELDCARD"}
	swap := &content.Format{Target: "sdb1", Kind: "swap", Label: "fern", Asked: map[string]string{"page": "64KiB"}}
	own := &content.Format{Target: "sdb1", Kind: "swap", Label: "fern"} // of the kernel's own pages: it swaps on no other
	bareSwap := &content.Format{Target: "sdb", Kind: "swap", Asked: map[string]string{"page": "64KiB"}}
	erase := &content.Erase{Target: "sdb1"}
	wide := adding(disk.NewPart{Size: size("80MiB"), Name: "herbarium"})
	xfs := &content.Format{Target: "sdb1", Kind: "xfs", Label: "seeds"}
	ext := func(kind string) *content.Format { return &content.Format{Target: "sdb1", Kind: kind, Label: "ferns"} }
	adjust := func(key, value string, more ...string) *content.Adjust {
		asked := map[string]string{key: value}
		for i := 0; i < len(more); i += 2 {
			asked[more[i]] = more[i+1]
		}
		return &content.Adjust{Target: "sdb1", Asked: asked}
	}
	small, larger := adding(disk.NewPart{Size: size("9MiB")}), &space.Resize{Target: "sdb1", Size: size("34MiB")}
	blocks := &content.Format{Target: "sdb1", Kind: "ext4", Label: "ferns", Asked: map[string]string{"block": "1KiB", "growth-room": "1"}}
	const otherID = "5eed5eed-0000-4000-8000-00000000fe11"
	const linux = "0fc63daf-8483-4772-8e79-3d69d8477de4"
	road := func(name, typ string) *disk.PartitionAdd {
		return &disk.PartitionAdd{Disk: "sdb", Parts: []disk.NewPart{{Name: name, Type: typ}}, Content: "erase"}
	}
	fitting := func(kind, label string) *content.Format {
		return &content.Format{Target: "sdb1", Kind: kind, Label: label, Type: content.FitType}
	}
	prepared := &prepare.Prepare{Disk: "sdb", As: "ext4", Mount: "/srv/herbarium"}
	line := &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"}
	list := []story{
		{"table new on a blank disk", 512, 0, nil, newTable, false, 12, 0, false, "", nil},
		{"table new over a table", 512, 0, []task.Request{newTable, add}, newTable, false, 12, 0, false, "", nil},
		{"table new over a bare file system", 512, 0, []task.Request{bare}, newTable, false, 12, 0, false, "", nil},
		{"partition add", 512, 0, []task.Request{newTable, add}, second, false, 12, 0, false, "", nil},
		{"partition add over old content", 512, 0, []task.Request{newTable, add, format("old"), &disk.PartitionRemove{Targets: []string{"sdb1"}}},
			&disk.PartitionAdd{Disk: "sdb", Parts: []disk.NewPart{{Size: size("30MiB")}}, Content: "erase"}, false, 12, 0, false, "", nil},
		{"partition remove", 512, 0, []task.Request{newTable, add, second}, &disk.PartitionRemove{Targets: []string{"sdb1"}}, false, 12, 0, false, "", nil},
		{"format an empty partition", 512, 0, []task.Request{newTable, add}, format("herbarium"), false, 12, 0, false, "", nil},
		{"format over a file system", 512, 0, []task.Request{newTable, add, format("old")}, format("herbarium"), false, 20, 0, false, "", nil},
		{"format on 4096-byte physical sectors", 4096, 0, []task.Request{newTable, add, format("old")}, format("herbarium"), false, 12, 0, false, "", nil},
		{"format on 4096-byte logical sectors", 4096, 4096, []task.Request{newTable, add, format("old")}, format("herbarium"), false, 12, 0, false, "", nil},
		{"partition add on 4096-byte logical sectors", 4096, 4096, []task.Request{newTable, add}, second, false, 8, 0, false, "", nil},
		{"format a whole disk with a table", 512, 0, []task.Request{newTable, add}, bare, false, 12, 0, false, "", nil},
		{"label", 512, 0, []task.Request{newTable, add, format("herbarium")}, label, false, 12, 0, false, "", nil},
		{"undo of a format", 512, 0, []task.Request{newTable, add, format("old"), format("herbarium")}, undo, true, 12, 0, false, "", nil},
		{"undo of a label", 512, 0, []task.Request{newTable, add, format("herbarium"), label}, undo, true, 6, 0, false, "", nil},
		{"undo of partition add", 512, 0, []task.Request{newTable, add, second}, undo, true, 8, 0, false, "", nil},
		{"undo of table new", 512, 0, []task.Request{newTable}, undo, true, 8, 0, false, "", nil},
		{"partition edit", 512, 0, []task.Request{newTable, add, second}, edit("sdb1"), false, 3, 0, false, "", nil},
		{"table edit", 512, 0, []task.Request{newTable, add, second}, &disk.TableEdit{Disk: "sdb", UUID: "5eed5eed-0000-4000-8000-000000000002"}, false, 3, 0, false, "", nil},
		{"convert to a GPT", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed}, &disk.TableConvert{Disk: "sdb", Scheme: table.GPT}, false, 3, 0, false, "", nil},
		{"convert to an MBR", 4096, 4096, []task.Request{newTable, second}, &disk.TableConvert{Disk: "sdb", Scheme: table.MBR}, false, 3, 0, false, "", nil},
		{"restore of a saved table", 512, 0, []task.Request{newTable, second, add}, restore, false, 3, 0, false, "", nil},
		{"resize", 512, 0, []task.Request{newTable, second}, &space.Resize{Target: "sdb1", Size: size("8MiB")}, false, 3, 0, false, "", nil},
		{"an ext4 grows with its partition", 512, 0, []task.Request{newTable, small, format("ferns")}, larger, false, 8, 0, false, "", nil},
		{"an ext4 of small blocks grows with its partition on 4096-byte sectors", 4096, 0, []task.Request{newTable, small, blocks}, larger, false, 3, 0, false, "", nil},
		{"an ext2 grows with its partition", 512, 0, []task.Request{newTable, small, ext("ext2")}, larger, false, 3, 0, false, "", nil},
		{"undo of an ext4 that grew", 512, 0, []task.Request{newTable, small, format("ferns"), larger}, undo, true, 8, 0, false, "", nil},
		{"a swap area grows with its partition", 512, 0, []task.Request{newTable, small, swap}, larger, false, 3, 0, false, "", nil},
		{"a swap area shrinks with its partition", 512, 0, []task.Request{newTable, add, swap}, &space.Resize{Target: "sdb1", Size: size("9MiB")}, false, 3, 0, false, "", nil},
		{"repair of the primary copy", 512, 0, []task.Request{newTable, add}, &disk.TableRepair{Disk: "sdb"}, false, 4, 512 + 24, false, "", nil},
		{"repair of the backup copy", 512, 0, []task.Request{newTable, add}, &disk.TableRepair{Disk: "sdb"}, false, 4, diskSize - 512 + 24, false, "", nil},
		{"several partitions at once", 512, 0, []task.Request{newTable}, adding(disk.NewPart{Size: size("2MiB")}, disk.NewPart{Size: size("3MiB")}), false, 3, 0, false, "", nil},
		{"new MBR on a blank disk", 512, 0, nil, newMBR, false, 3, 0, false, "", nil},
		{"new MBR over a GPT", 512, 0, []task.Request{newTable, add}, newMBR, false, 3, 0, false, "", nil},
		{"new GPT over an MBR", 512, 0, []task.Request{newMBR, unnamed}, newTable, false, 3, 0, false, "", nil},
		{"partition add on an MBR", 512, 0, []task.Request{newMBR, unnamed}, unnamed, false, 3, 0, false, "", nil},
		{"an extended partition", 512, 0, []task.Request{newMBR, unnamed}, extended, false, 3, 0, false, "", nil},
		{"the first logical partition", 512, 0, []task.Request{newMBR, extended}, unnamed, false, 3, 0, false, "", nil},
		{"another logical partition", 512, 0, []task.Request{newMBR, extended, unnamed}, unnamed, false, 12, 0, false, "", nil},
		{"the first of three logical partitions goes", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, unnamed}, &disk.PartitionRemove{Targets: []string{"sdb5"}}, false, 3, 0, false, "", nil},
		{"two logical partitions go at once", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, unnamed, unnamed}, &disk.PartitionRemove{Targets: []string{"sdb5", "sdb7"}}, false, 6, 0, false, "", nil},
		{"one between logical partitions goes", 4096, 4096, []task.Request{newMBR, extended, unnamed, unnamed, unnamed}, &disk.PartitionRemove{Targets: []string{"sdb6"}}, false, 3, 0, false, "", nil},
		{"resize of a logical partition", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed}, &space.Resize{Target: "sdb6", Size: size("4MiB")}, false, 3, 0, false, "", nil},
		{"undo of a logical partition that went", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, &disk.PartitionRemove{Targets: []string{"sdb5"}}}, undo, true, 3, 0, false, "", nil},
		{"table, partition, file system and fstab line as one deed", 512, 0, nil, whole(newTable, add, format("herbarium"), &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"}), false, 12, 0, false, "", nil},
		{"undo of all that as one deed", 512, 0, []task.Request{whole(newTable, add, format("herbarium"), &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"})}, undo, true, 6, 0, false, "", nil},
		{"FAT on an empty partition", 512, 0, []task.Request{newTable, add}, fat, false, 12, 0, false, "", nil},
		{"FAT over ext4", 512, 0, []task.Request{newTable, add, format("old")}, fat, false, 12, 0, false, "", nil},
		{"FAT on 4096-byte sectors over swap", 4096, 4096, []task.Request{newTable, add, swap}, fat, false, 8, 0, false, "", nil},
		{"ext4 over FAT", 512, 0, []task.Request{newTable, add, fat}, format("new"), false, 12, 0, false, "", nil},
		{"swap of large pages on a blank disk", 512, 0, nil, bareSwap, false, 8, 0, false, "", nil},
		{"swap of large pages over ext4", 512, 0, []task.Request{newTable, add, format("old")}, swap, false, 12, 0, false, "", nil},
		{"ext4 over swap of large pages", 512, 0, []task.Request{newTable, add, swap}, format("new"), false, 8, 0, false, "", nil},
		{"label of a FAT", 512, 0, []task.Request{newTable, add, fat}, &content.Label{Target: "sdb1", Label: "SEEDS"}, false, 8, 0, false, "", nil},
		{"label of swap", 512, 0, []task.Request{newTable, add, swap}, label, false, 4, 0, false, "", nil},
		{"erase of ext4", 512, 0, []task.Request{newTable, add, format("old")}, erase, false, 6, 0, false, "", nil},
		{"erase of swap of large pages", 512, 0, []task.Request{newTable, add, swap}, erase, false, 6, 0, false, "", nil},
		{"undo of an erase", 512, 0, []task.Request{newTable, add, fat, erase}, undo, true, 6, 0, false, "", nil},
		{"FAT with the type that fits", 512, 0, []task.Request{newTable, add, format("old")}, &content.Format{Target: "sdb1", Kind: "fat", Type: content.FitType}, false, 12, 0, false, "", nil},
	}
	return append(list,
		story{name: "a disk that is prepared", physics: 512, cut: prepared, seeds: 12, made: whole(newTable, road("herbarium", linux), fitting("ext4", "herbarium"))},
		story{name: "undo of a disk that was prepared", physics: 512, before: []task.Request{prepared}, cut: undo, keep: true, seeds: 6, made: whole(newTable, road("herbarium", linux), fitting("ext4", "herbarium"))},
		story{name: "a disk that is prepared as swap, from an empty table", physics: 4096, logical: 4096, before: []task.Request{newTable}, cut: &prepare.Prepare{Disk: "sdb", As: "swap"}, seeds: 4, made: whole(road("", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"), fitting("swap", ""))},
		story{name: "a swap area that is on grows", physics: 512, before: []task.Request{newTable, small, own}, cut: larger, seeds: 3, swaps: "sdb1"},
		story{name: "a swap area that is on shrinks", physics: 512, before: []task.Request{newTable, add, own}, cut: &space.Resize{Target: "sdb1", Size: size("9MiB")}, seeds: 3, swaps: "sdb1"},
		story{name: "a swap area that is on goes", physics: 512, before: []task.Request{newTable, add, own}, cut: &disk.PartitionRemove{Targets: []string{"sdb1"}}, seeds: 3, swaps: "sdb1"},
		story{name: "XFS on an empty partition", physics: 512, before: []task.Request{newTable, wide}, cut: xfs, seeds: 20, large: true},
		story{name: "XFS over ext4", physics: 512, before: []task.Request{newTable, wide, format("old")}, cut: xfs, seeds: 20, large: true},
		story{name: "XFS over XFS, on sectors of 4096 bytes", physics: 4096, logical: 4096, before: []task.Request{newTable, wide, xfs}, cut: &content.Format{Target: "sdb1", Kind: "xfs", Label: "herbs", UUID: content.KeepID}, seeds: 20, large: true},
		story{name: "ext4 over XFS", physics: 512, before: []task.Request{newTable, wide, xfs}, cut: format("new"), seeds: 20, large: true},
		story{name: "undo of an XFS", physics: 512, before: []task.Request{newTable, wide, format("old"), xfs}, cut: undo, keep: true, seeds: 20, large: true},
		story{name: "label of an XFS", physics: 512, before: []task.Request{newTable, wide, xfs}, cut: label, seeds: 20, large: true},
		story{name: "ext2 on an empty partition", physics: 512, before: []task.Request{newTable, add}, cut: ext("ext2"), seeds: 20},
		story{name: "ext2 over ext4", physics: 512, before: []task.Request{newTable, add, format("old")}, cut: ext("ext2"), seeds: 20},
		story{name: "ext3 over swap, on sectors of 4096 bytes", physics: 4096, logical: 4096, before: []task.Request{newTable, add, swap}, cut: ext("ext3"), seeds: 20},
		story{name: "undo of an ext2", physics: 512, before: []task.Request{newTable, add, format("old"), ext("ext2")}, cut: undo, keep: true, seeds: 12},
		story{name: "settings of ext4", physics: 512, before: []task.Request{newTable, add, format("old")}, cut: adjust("reserved", "1%", "check-every", "180d"), seeds: 12},
		story{name: "another UUID of ext4, with its line", physics: 512, before: []task.Request{newTable, add, format("old"), line}, cut: adjust("uuid", otherID, "check-every", "180d"), seeds: 12},
		story{name: "a journal is taken off", physics: 512, before: []task.Request{newTable, add, ext("ext3"), line}, cut: adjust("journal", "no"), seeds: 12},
		story{name: "undo of a journal taken off", physics: 512, before: []task.Request{newTable, add, ext("ext3"), adjust("journal", "no")}, cut: undo, keep: true, seeds: 8},
		story{name: "another serial number of a FAT", physics: 512, before: []task.Request{newTable, add, fat}, cut: adjust("uuid", "5EED-FE11"), seeds: 8},
		story{name: "another UUID of swap", physics: 512, before: []task.Request{newTable, add, swap}, cut: adjust("uuid", otherID), seeds: 8},
		story{name: "another UUID of an XFS", physics: 512, before: []task.Request{newTable, wide, xfs}, cut: adjust("uuid", otherID), seeds: 20, large: true},
	)
}
