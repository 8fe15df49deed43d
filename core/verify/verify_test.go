package verify

import (
	"maps"
	"reflect"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/units"
	"fundus/core/way"
)

// clean is a machine without findings; each case spoils one thing.
func clean() *inventory.Inventory {
	part := func(name, uuid string) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Parent: name[:3], Form: inventory.Partition, Number: 1, InKernel: true, Linux: inventory.KernelPart{Number: 1, Start: quantity.MiB, Size: quantity.GiB}, Start: quantity.MiB, Size: quantity.GiB,
			Geometry: block.Geometry{Logical: 512, Physical: 4096}, Entry: table.Partition{UUID: "part-" + uuid},
			Contents: []fs.Content{{Kind: "ext4", Grows: true, Class: fs.FileSystem, UUID: uuid, Label: "l-" + uuid, Size: quantity.GiB}}}
	}
	disk := func(name string) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Disk, Size: 4 * quantity.GiB, Table: &table.Table{ID: "disk-" + name},
			Kernel: []inventory.KernelPart{{Number: 1, Start: quantity.MiB, Size: quantity.GiB}}}
	}
	return &inventory.Inventory{
		Nodes: []inventory.Node{disk("sda"), part("sda1", "root"), disk("sdb"), part("sdb1", "herb")},
		Files: map[string]inventory.File{fstab.Path: {Data: []byte("UUID=root / ext4 defaults 0 1\n")}},
	}
}

func unitFile(v *inventory.Inventory, name, text string) {
	v.UnitFiles = []units.Place{{Dir: units.Dirs()[0], Tree: units.Tree{name: {Data: []byte(text)}}}}
}

// TestFindings: the clean machine is silent, and each spoiled one gives exactly
// the finding that belongs to it, on the right thing.
func TestFindings(t *testing.T) {
	if got := All(clean()); len(got) != 0 {
		t.Fatalf("the clean machine: %v", got)
	}
	lines := func(text string) func(*inventory.Inventory) {
		return func(v *inventory.Inventory) {
			f := v.Files[fstab.Path]
			f.Data = append(f.Data, text...)
			v.Files[fstab.Path] = f
		}
	}
	text := func(path, data string) func(*inventory.Inventory) {
		return func(v *inventory.Inventory) { v.Files[path] = inventory.File{Data: []byte(data)} }
	}
	mounted := func(where string, readOnly bool, s inventory.Space) func(*inventory.Inventory) {
		return func(v *inventory.Inventory) {
			v.Uses = append(v.Uses, inventory.Use{Node: "sdb1", How: inventory.Mounted, Where: where, ReadOnly: readOnly, Space: s})
		}
	}
	content := func(edit func(n *inventory.Node)) func(*inventory.Inventory) {
		return func(v *inventory.Inventory) { edit(&v.Nodes[3]) }
	}
	provoked := map[finding.Entry]bool{}
	for _, c := range []struct {
		want  finding.Entry
		thing string
		spoil func(*inventory.Inventory)
	}{
		{AlignPhysical, "sdb1", content(func(n *inventory.Node) { n.Start += 512 })},
		{AlignStep, "sdb1", content(func(n *inventory.Node) { n.Start += 4096 })},
		{DeviceUnread, "sdb1", content(func(n *inventory.Node) { n.Problem = "input/output error" })},
		{ContentFenced, "sdb1", content(func(n *inventory.Node) { n.Contents = []fs.Content{{Kind: "fenced", Class: fs.Fence}} })},
		{ContentTwofold, "sdb1", content(func(n *inventory.Node) {
			n.Contents = append(n.Contents, fs.Content{Kind: "xfs", Class: fs.FileSystem})
		})},
		{ContentTooLarge, "sdb1", content(func(n *inventory.Node) { n.Contents[0].Size++ })},
		{DuplicateUUID, "sdb1", content(func(n *inventory.Node) { n.Contents[0].UUID = "root" })},
		{DuplicateLabel, "sdb1", content(func(n *inventory.Node) { n.Contents[0].Label = "l-root" })},
		{DuplicatePartUUID, "sdb1", content(func(n *inventory.Node) { n.Entry.UUID = "part-root" })},
		{DuplicateDisk, "sdb", func(v *inventory.Inventory) { v.Nodes[2].Table.ID = "disk-sda" }},
		{FstabUnknown, "/etc/fstab:2", lines("UUID=gone /srv/x ext4 defaults 0 2\n")},
		{FstabKind, "/etc/fstab:2", lines("UUID=herb /srv/x xfs defaults 0 2\n")},
		{FstabTwice, "/etc/fstab:3", lines("UUID=herb /srv/x ext4 defaults 0 2\nUUID=herb /srv/x ext4 defaults 0 2\n")},
		{FstabUnstable, "/etc/fstab:2", lines("/dev/sdb1 /srv/x ext4 defaults 0 2\n")},
		{FstabDies, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 x-systemd.device-timeout 0 2\n")},
		{FstabRefused, "/etc/fstab:2", lines("UUID=herb /srv/../x ext4 defaults 0 2\n")},
		{FstabIgnored, "/etc/fstab:2", lines("UUID=herb srv ext4 defaults 0 2\n")},
		{FstabLost, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 noatime\x00,nofail 0 2\n")},
		{FstabFields, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 ro, noatime 0 2\n")},
		{FstabNumber, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 defaults x 2\n")},
		{FstabReturn, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 defaults 0 2\r\n")},
		{FstabEscape, "/etc/fstab:2", lines("UUID=herb /srv/x\\043 ext4 defaults 0 2\n")},
		{FstabTagCase, "/etc/fstab:2", lines("uuid=herb /srv/x ext4 defaults 0 2\n")},
		{FstabOption, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 noatiem 0 2\n")},
		{FstabOption, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 logbufs=8 0 2\n")},
		{FstabValue, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 commit=often 0 2\n")},
		{FstabNeeds, "/etc/fstab:2", func(v *inventory.Inventory) {
			lines("UUID=herb /srv/x ext4 commit=60 0 2\n")(v)
			v.Nodes[3].Contents[0].NoJournal = true
		}},
		{FstabNeeds, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 remount,noatime 0 2\n")},
		{FstabByCopy, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 sb=131072 0 2\n")},
		{FstabOverruled, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 nofail,fail 0 2\n")},
		{FstabNoEffect, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 orlov 0 2\n")},
		{FstabRedundant, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 acl 0 2\n")},
		{FstabForetold, "/etc/fstab:2", func(v *inventory.Inventory) {
			lines("/swapfile none swap sw 0 0\n")(v)
			v.Sources, v.SwapFiles = map[string]bool{"/swapfile": true}, map[string]string{"/swapfile": "it has no signature of swap"}
		}},
		{FstabUntold, "/etc/fstab:2", lines("/dev/mapper/vault /srv/x ext4 defaults 0 2\n")},
		{FstabTime, "/etc/fstab:2", lines("UUID=herb /srv/x ext4 x-systemd.device-timeout=soon 0 2\n")},
		{FstabParent, "/etc/fstab:3", lines("UUID=herb /srv ext4 nofail 0 2\ntmpfs /srv/x tmpfs size=1g 0 0\n")},
		{FstabLink, "/etc/fstab:2", func(v *inventory.Inventory) {
			lines("UUID=herb /srv/x ext4 defaults 0 2\n")(v)
			v.Leads = map[string]string{"/srv/x": "/srv/y"}
		}},
		{FstabAmbiguous, "/etc/fstab:1", content(func(n *inventory.Node) { n.Contents[0].UUID = "root" })},
		{FstabNoMount, "/etc/fstab:2", func(v *inventory.Inventory) {
			lines("UUID=herb /srv ext4 defaults 0 2\n")(v)
			v.Dirs = map[string]bool{"/srv": false}
		}},
		{ReferenceOffset, "/etc/kernel/cmdline:1", func(v *inventory.Inventory) {
			text("/etc/kernel/cmdline", "resume=/dev/disk/by-uuid/herb resume_offset=34816 quiet\n")(v)
			v.Areas = []inventory.Area{{Path: "/srv/swap", File: true, On: "sdb1", First: 34817}, {Path: "/swap", File: true, On: "sda1", First: 34816}}
		}},
		{UnitBeside, "/etc/systemd/system/srv.mount", func(v *inventory.Inventory) {
			lines("UUID=herb /srv ext4 nofail 0 2\n")(v)
			unitFile(v, "srv.mount", "[Mount]\nWhat=/dev/disk/by-uuid/herb\nWhere=/srv\n")
		}},
		{UnitMasked, "/etc/systemd/system/srv.mount", func(v *inventory.Inventory) {
			lines("UUID=herb /srv ext4 nofail 0 2\n")(v)
			unitFile(v, "srv.mount", "")
		}},
		{UnitName, "/etc/systemd/system/herb.mount", func(v *inventory.Inventory) {
			unitFile(v, "herb.mount", "[Mount]\nWhat=/dev/disk/by-uuid/herb\nWhere=/srv\n")
		}},
		{UnitNoDevice, "/etc/systemd/system/srv.mount", func(v *inventory.Inventory) {
			unitFile(v, "srv.mount", "[Mount]\nWhat=UUID=herb\nWhere=/srv\n")
		}},
		{UnitNoDevice, "/etc/systemd/system/UUID\\x3dherb.swap", func(v *inventory.Inventory) {
			unitFile(v, `UUID\x3dherb.swap`, "[Swap]\nWhat=UUID=herb\n")
		}},
		{AlignOptimal, "sdb1", content(func(n *inventory.Node) { n.Geometry.OptIO = 3 << 19 })},
		{ContentSmaller, "sdb1", content(func(n *inventory.Node) { n.Contents[0].Size -= 32 << 20 })},
		{ContentDamaged, "sdb1", content(func(n *inventory.Node) { n.Contents[0].State = fs.Damaged })},
		{ContentDamaged, "sdb1", content(func(n *inventory.Node) { n.Contents[0].AtMount.Any = "the root directory has no links" })},
		{ContentDamaged, "sdb1", content(func(n *inventory.Node) { n.Contents[0].AtMount.Journal = "the journal has no links" })},
		{ContentDamaged, "sdb1", content(func(n *inventory.Node) { n.Contents[0].AtMount.Writing = "a checksum is wrong" })},
		{ContentUnknown, "sdb1", content(func(n *inventory.Node) { n.Contents, n.Zeros = nil, false })},
		{FstabPulledOut, "/etc/fstab:2", func(v *inventory.Inventory) {
			lines("UUID=herb /srv ext4 defaults 0 2\n")(v)
			v.Nodes[2].Hardware.Removable = true
		}},
		{ContentErrors, "sdb1", content(func(n *inventory.Node) { n.Contents[0].State = fs.Errors })},
		{ContentDue, "sdb1", content(func(n *inventory.Node) { n.Contents[0].Due = "mounted 40 times" })},
		{ContentDue, "sdb1", func(v *inventory.Inventory) {
			v.Machine.Now, v.Nodes[3].Contents[0].CheckBy = time.Unix(2000, 0), time.Unix(1000, 0)
		}},
		{AlignPhysical, "sdb1", content(func(n *inventory.Node) { n.Size += 512 })},
		{KernelDiffers, "sdb", func(v *inventory.Inventory) { v.Nodes[2].Kernel = nil }},
		{KernelDiffers, "sdb", func(v *inventory.Inventory) { v.Nodes[2].Kernel[0].Number = 2 }},
		{ContentStripe, "sdb1", content(func(n *inventory.Node) { n.Contents[0].Stripe, n.Geometry.OptIO = 384<<10, 1<<20 })},
		{DeviceSilent, "sdb1", content(func(n *inventory.Node) { n.Problem, n.Silent = "it did not answer", true })},
		{IdentifierNone, "sdb", func(v *inventory.Inventory) { v.Nodes[2].Table.ID = "00000000" }},
		{IdentifierNone, "sdb1", content(func(n *inventory.Node) { n.Entry.UUID = "00000000-0000-0000-0000-000000000000" })},
		{IdentifierNone, "sdb1", content(func(n *inventory.Node) { n.Contents[0].UUID = "" })},
		{TypeMisfit, "sdb1", func(v *inventory.Inventory) {
			v.Nodes[2].Table.Scheme, v.Nodes[3].Entry.Type = table.GPT, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"
		}},
		{TableTooSmall, "sdb", func(v *inventory.Inventory) {
			v.Nodes[2].Table.Scheme, v.Nodes[2].Size, v.Nodes[2].Geometry = table.MBR, 3<<40, block.DefaultGeometry
		}},
		{MountFull, "sdb1", mounted("/srv", false, inventory.Space{Total: 100, Free: 5})},
		{MountFull, "sdb1", mounted("/srv", false, inventory.Space{Total: 100, Free: 50, Files: 1000, Left: 10})},
		{MountDiffers, "/etc/fstab:1", mounted("/", false, inventory.Space{})},
		{MountDiffers, "sdb1", func(v *inventory.Inventory) {
			lines("UUID=herb /srv ext4 defaults 0 2\n")(v)
			mounted("/srv", true, inventory.Space{})(v)
		}},
		{ReferenceNone, "/etc/default/grub:1", text("/etc/default/grub", "X=\"root=UUID=gone\"\n")},
		{ReferenceNone, "/etc/crypttab:1", text("/etc/crypttab", "vault UUID=gone none luks\n")},
		{ReferenceNone, "/etc/systemd/system/srv.mount:2", text("/etc/systemd/system/srv.mount", "[Mount]\nWhat=LABEL=gone\n")},
		{FileUnread, "/etc/crypttab", func(v *inventory.Inventory) {
			v.Files["/etc/crypttab"] = inventory.File{Problem: "permission denied"}
		}},
		{ReferenceName, "/etc/kernel/cmdline:1", text("/etc/kernel/cmdline", "root=/dev/sda1")},
	} {
		provoked[c.want] = true
		v := clean()
		c.spoil(v)
		got := All(v)
		found := false
		for _, f := range got {
			found = found || f.ID == c.want.ID && f.Thing == c.thing
			if f.Why == "" || f.Mend.Empty() && f.Remedy == "" {
				t.Errorf("%s: no reason or no way out: %+v", c.want.ID, f)
			}
		}
		if !found || len(got) > 2 {
			t.Errorf("%s on %s: got %v", c.want.ID, c.thing, got)
		}
	}
	for _, e := range Catalogue() {
		if !provoked[e] {
			t.Errorf("nothing provokes %s", e.ID)
		}
	}
}

// TestRemade: a line that names a partition by the PARTUUID which it had is known to mean it by
// what is mounted there, or runs as the root; where only its kind speaks for it, that is no
// more than a guess, and where two are possible, or the new one is named by a line, nothing.
func TestRemade(t *testing.T) {
	const old, other = "5eed5eed-0000-4000-8000-00000000000a", "5eed5eed-0000-4000-8000-00000000000b"
	fstabOf := func(v *inventory.Inventory, more string) {
		v.Files[fstab.Path] = inventory.File{Data: []byte("UUID=root / ext4 defaults 0 1\n" + more)}
	}
	use := func(v *inventory.Inventory, node, where string) {
		v.Uses = append(v.Uses, inventory.Use{Node: node, How: inventory.Mounted, Where: where, Kind: "ext4"})
	}
	line := "PARTUUID=" + old + " /srv ext4 nofail 0 2\n"
	for name, c := range map[string]struct {
		spoil func(v *inventory.Inventory)
		want  map[string]Remade
	}{
		"it is mounted there": {func(v *inventory.Inventory) { fstabOf(v, line); use(v, "sdb1", "/srv") },
			map[string]Remade{"PARTUUID=" + old: {"sdb1", "PARTUUID", way.PartitionEdit("sdb1", "--uuid="+old), false}}},
		"by its kind alone": {func(v *inventory.Inventory) { fstabOf(v, line) },
			map[string]Remade{"PARTUUID=" + old: {"sdb1", "PARTUUID", way.PartitionEdit("sdb1", "--uuid="+old), true}}},
		"the running root": {func(v *inventory.Inventory) {
			use(v, "sda1", "/")
			v.Files["/etc/kernel/cmdline"] = inventory.File{Data: []byte("root=PARTUUID=" + old)}
		}, map[string]Remade{"PARTUUID=" + old: {"sda1", "PARTUUID", way.PartitionEdit("sda1", "--uuid="+old), false}}},
		"two lines would mean two": {func(v *inventory.Inventory) {
			fstabOf(v, line)
			use(v, "sda1", "/")
			use(v, "sdb1", "/srv")
			v.Files["/etc/kernel/cmdline"] = inventory.File{Data: []byte("root=PARTUUID=" + old)}
		}, nil},
		"its own is named": {func(v *inventory.Inventory) {
			fstabOf(v, line+"PARTUUID="+other+" /x ext4 noauto 0 0\n")
			use(v, "sdb1", "/srv")
		}, nil},
		"swap that was made anew": {func(v *inventory.Inventory) {
			fstabOf(v, "UUID="+old+" none swap sw 0 0\n")
			v.Nodes[3].Contents = []fs.Content{{Kind: "swap", Class: fs.Swap, UUID: other}}
		}, map[string]Remade{"UUID=" + old: {"sdb1", "UUID", way.Adjust("sdb1", "uuid="+old), false}}},
		"swap that is on": {func(v *inventory.Inventory) {
			fstabOf(v, "UUID="+old+" none swap sw 0 0\n")
			v.Nodes[3].Contents = []fs.Content{{Kind: "swap", Class: fs.Swap, UUID: other}}
			v.Uses = append(v.Uses, inventory.Use{Node: "sdb1", How: inventory.SwapOn})
		}, nil},
		"it is another kind":    {func(v *inventory.Inventory) { fstabOf(v, "PARTUUID="+old+" /srv xfs nofail 0 2\n") }, nil},
		"an MBR has none":       {func(v *inventory.Inventory) { fstabOf(v, line); v.Nodes[2].Table.Scheme = table.MBR }, nil},
		"it is no such":         {func(v *inventory.Inventory) { fstabOf(v, "UUID="+old+" /srv ext4 nofail 0 2\n") }, nil},
		"a device has it still": {func(v *inventory.Inventory) { fstabOf(v, line); v.Nodes[3].Entry.UUID = old }, nil},
	} {
		v := clean()
		v.Nodes[0].Table.Scheme, v.Nodes[2].Table.Scheme, v.Nodes[3].Entry.UUID = table.GPT, table.GPT, other
		c.spoil(v)
		if got := AllRemade(v); !maps.EqualFunc(got, c.want, func(a, b Remade) bool { return reflect.DeepEqual(a, b) }) {
			t.Errorf("%s: %v", name, got)
		}
	}
}
