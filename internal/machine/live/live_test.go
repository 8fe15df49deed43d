package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/block/file"
	corefs "fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table/gpt"
	"fundus/internal/machine"
)

// plant writes files below a directory: sysfs, procfs and devices as the kernel
// shows them, with images in place of devices.
func plant(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// fernhill is a machine with a disk of two partitions, of which the kernel has
// one, and a disk that is gone from /dev.
func fernhill(t *testing.T) *Machine {
	t.Helper()
	dir := t.TempDir()
	plant(t, dir, map[string]string{
		"sys/block/sdb/size": "131072", "sys/block/sdb/dev": "8:16", "sys/block/sdb/removable": "0", "sys/block/sdb/ro": "0",
		"sys/block/sdb/queue/logical_block_size": "512", "sys/block/sdb/queue/physical_block_size": "4096", "sys/block/sdb/queue/rotational": "1",
		"sys/block/sdb/device/model": "Larkspur S300", "sys/block/sdb/device/wwid": "naa.5eed000000020417",
		"sys/block/sdb/sdb1/partition": "1", "sys/block/sdb/sdb1/start": "2048", "sys/block/sdb/sdb1/size": "40960", "sys/block/sdb/sdb1/dev": "8:17",
		"sys/block/sdb/sdb1/holders/dm-0/dev": "253:0",
		"sys/block/sdc/size":                  "2048", "sys/block/sdc/dev": "8:32", "sys/block/sdc/sdc1/partition": "1", "sys/block/sdc/sdc1/dev": "8:33", "sys/block/sdc/sdc1/size": "100", "dev/sdc1": "", "sys/block/sdc/sdc1/start": "34",
		"sys/block/loop0/size": "2048", "sys/block/sr0/size": "2048", "sys/block/sdd/size": "0",
		"proc/self/mountinfo": "36 35 8:17 / " + strings.ReplaceAll(dir, " ", "\\040") + "/root/srv/pressed\\040ferns rw,noatime shared:1 - ext4 /dev/sdb1 rw,commit=30\n38 35 0:45 /sub " + strings.ReplaceAll(dir, " ", "\\040") + "/root/srv/scans rw,noatime shared:2 - btrfs /dev/sdc1 rw,subvolid=256,subvol=/sub\n37 35 0:4 / /proc rw - proc proc rw\nshort line",
		"proc/swaps":          "Filename Type Size Used Priority\n" + filepath.Join(dir, "dev/sdb2") + " partition 1000 250 -2\n/swapfile file 10 0 -3", "proc/sys/kernel/random/boot_id": "boot-one",
		"root/etc/fstab": "LABEL=herbarium /srv/pressed\\040ferns ext4 noatime 0 2\nvault:/images /srv/images nfs defaults 0 0",
	})
	if err := os.MkdirAll(filepath.Join(dir, "dev"), 0o755); err != nil {
		t.Fatal(err)
	}
	disk := filepath.Join(dir, "dev", "sdb")
	if err := file.Create(disk, 64<<20); err != nil {
		t.Fatal(err)
	}
	d, err := file.Open(disk, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	table, err := gpt.New(64<<20, 512, quantity.MiB, uuid.New())
	if err != nil {
		t.Fatal(err)
	}
	for n, first := range map[int]uint64{1: 2048, 2: 43008} {
		if err := table.Add(n, gpt.Entry{Type: uuid.New(), Unique: uuid.New(), First: first, Last: first + 40959}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := gpt.Write(d, nil, table); err != nil {
		t.Fatal(err)
	}
	// The partition's own node holds what the disk's stale cache does not.
	part := filepath.Join(dir, "dev", "sdb1")
	if err := file.Create(part, 40960*512); err != nil {
		t.Fatal(err)
	}
	p, err := file.Open(part, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if _, err := ext.Make(t.Context(), p, ext.Usual(ext.Ext4).With("herbarium", uuid.New(), time.Unix(1, 0))); err != nil {
		t.Fatal(err)
	}
	return &Machine{"fernhill", nil, places{filepath.Join(dir, "sys"), filepath.Join(dir, "proc"), filepath.Join(dir, "dev"), filepath.Join(dir, "root")}, newPatience(2 * time.Second)}
}

// TestDiscover: disks, partitions and uses are those of the kernel; contents
// are read through the narrowest node; what cannot be read says why.
func TestDiscover(t *testing.T) {
	m := fernhill(t)
	for who, tree := range map[string]string{"self": "mnt:[2]", "1": "mnt:[1]"} {
		plant(t, m.at.proc, map[string]string{who + "/ns/other": ""})
		if err := os.Symlink(tree, filepath.Join(m.at.proc, who, "ns/mnt")); err != nil {
			t.Fatal(err)
		}
	}
	v, err := m.Inventory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	if !v.Machine.Apart {
		t.Error("a tree of mounts of its own is not seen")
	}
	var names []string
	for _, n := range v.Nodes {
		names = append(names, n.Name)
	}
	if got := strings.Join(names, " "); got != "sdb sdb1 sdb2 sdc sdc1 sr0" {
		t.Fatalf("nodes: %s", got)
	}
	sdb, _ := v.Node("sdb")
	if sdb.Identity.Disk != "naa.5eed000000020417" || sdb.Geometry.Physical != 4096 || !sdb.Hardware.Rotational || sdb.Size != 64<<20 {
		t.Errorf("sdb: %+v", sdb)
	}
	first, _ := v.Node("sdb1")
	second, _ := v.Node("sdb2")
	if c, ok := first.Content(); !ok || c.Label != "herbarium" || !first.InKernel || second.InKernel {
		t.Errorf("sdb1 holds %q, in the kernel %v; sdb2 %v", advice.Holds(first), first.InKernel, second.InKernel)
	}
	if gone, _ := v.Node("sdc"); gone.Problem == "" {
		t.Error("sdc was read")
	}
	if part, _ := v.Node("sdc1"); part.Size != 100*512 || part.Problem == "" {
		t.Errorf("sdc1: %+v", part)
	}
	if use, ok := v.MountedAt("/srv/pressed ferns"); !ok || use.Node != "sdb1" || use.Options != "rw,noatime" || use.Super != "rw,commit=30" {
		t.Errorf("mount: %+v", use)
	}
	if use, ok := v.MountedAt("/srv/scans"); !ok || use.Node != "sdc1" || use.Super != "rw,subvolid=256,subvol=/sub" {
		t.Errorf("a mount with numbers of its own: %+v", use)
	}
	if uses := v.UsesOf("sdb2"); len(uses) != 1 || uses[0].How != inventory.SwapOn || uses[0].Priority != -2 || uses[0].Space != (inventory.Space{Total: 1000 << 10, Free: 750 << 10}) {
		t.Errorf("swap: %+v", uses)
	}
	if uses := v.UsesOf("sdb1"); len(uses) != 2 || uses[0].How != inventory.Held || uses[0].Where != "dm-0" {
		t.Errorf("uses: %+v", uses)
	}
	if _, looked := v.Dirs["/srv/images"]; looked || v.Machine.BootID != "boot-one" {
		t.Errorf("the mount point of a server was looked at, boot id %s", v.Machine.BootID)
	}
}

// TestNarrowWritesThroughTheNarrowestNode: a claimed partition is written
// through its own node, the rest through the disk's; and what is held is
// refused.
func TestNarrowWritesThroughTheNarrowestNode(t *testing.T) {
	m := fernhill(t)
	held := machine.Target{Device: "sdb", Start: 1 << 20, Size: 20 << 20, Hold: machine.HoldContent}
	var refusal *machine.Refusal
	if _, err := m.Claim(context.Background(), nil, []machine.Target{held}); !errors.As(err, &refusal) || refusal.Rule != machine.RuleMounted {
		t.Errorf("a partition in use: %v", err)
	}
	dev, err := m.claim(t.Context(), "sdb", []machine.Target{held})
	if err != nil {
		t.Fatal(err)
	}
	p := make([]byte, 1024)
	p[0], p[512] = 1, 2
	if _, err := dev.WriteAt(p, 1<<20-512); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(dev.Sync(), dev.Close()); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		off  int64
		want byte
	}{"sdb": {1<<20 - 512, 1}, "sdb1": {0, 2}} {
		f, err := os.Open(filepath.Join(m.at.dev, name))
		if err != nil {
			t.Fatal(err)
		}
		b, err := block.ReadSized(f, c.off, 1, 1)
		if err != nil || b[0] != c.want {
			t.Errorf("%s holds %v, %v", name, b, err)
		}
		f.Close()
	}
}

// TestFlags: where each option of a line goes, with what user and its like imply.
func TestFlags(t *testing.T) {
	for options, want := range map[string]string{
		"defaults":                             "0x0 ",
		"ro,noatime,data=ordered":              "0x401 data=ordered",
		"noexec,exec,nofail,x-systemd.idle=5s": "0x0 ",
		"errors=remount-ro,nosuid,acl":         "0x2 errors=remount-ro,acl",
		"user":                                 "0xe ",
		"users,exec":                           "0x6 ",
		"exec,user,noauto":                     "0xe ",
		"owner,dev":                            "0x2 ",
		"silent,norelatime,nofail,nolazytime":  "0x8000 ",
	} {
		if flags, data := mountFlags("ext4", options); fmt.Sprintf("%#x %s", flags, data) != want {
			t.Errorf("%s: %#x %q, want %q", options, flags, data, want)
		}
	}
	for options, want := range map[string]uintptr{"sw": 0, "pri=7": 0x8007, "pri=-1": 0, "discard": 0x10000, "sw,pri=3,discard=once": 0x38003, "discard=pages": 0x50000} {
		if got := swapFlags(options); got != want {
			t.Errorf("%s: %#x, want %#x", options, got, want)
		}
	}
}

// TestSpread: a file system on several devices is in use on each of them.
func TestSpread(t *testing.T) {
	on := func(name, uuid string, index, of int) inventory.Node {
		return inventory.Node{Name: name, Contents: []corefs.Content{{Kind: "btrfs", Class: corefs.FileSystem, UUID: uuid, Member: corefs.OneOf{Index: index, Of: of}}}}
	}
	v := &inventory.Inventory{Nodes: []inventory.Node{on("sdb", "a", 1, 2), on("sdc", "a", 2, 2), on("sdd", "b", 1, 1)},
		Uses: []inventory.Use{{Node: "sdb", How: inventory.Mounted, Where: "/srv", Kind: "btrfs"}, {Node: "sdd", How: inventory.Mounted, Where: "/mnt", Kind: "btrfs"}}}
	spread(v)
	if len(v.Uses) != 3 || v.Uses[2].Node != "sdc" || v.Uses[2].Where != "/srv" {
		t.Errorf("%+v", v.Uses)
	}
}

// TestNarrowReadsAcrossBorders: a read that crosses partitions takes each piece
// from its own node.
func TestNarrowReadsAcrossBorders(t *testing.T) {
	m := fernhill(t)
	dev, err := m.Open(context.Background(), "sdb")
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	const magic = 1<<20 + 1024 + 56
	b, err := block.ReadSized(dev, 1<<20-512, 4096, 4096)
	if err != nil || b[magic-(1<<20-512)] != 0x53 {
		t.Errorf("across the start: %v, %#x", err, b[magic-(1<<20-512)])
	}
	if _, err := block.ReadSized(dev, 64<<20-512, 512, 512); err != nil {
		t.Errorf("the last sector: %v", err)
	}
	if _, err := block.ReadSized(dev, 64<<20-512, 1024, 1024); err == nil {
		t.Error("a read past the end succeeded")
	}
}

// TestUevents: disks that come, change and go are told once each; partitions and
// other subsystems are not.
func TestUevents(t *testing.T) {
	m := fernhill(t)
	var got []string
	report := func(e machine.Event) {
		got = append(got, fmt.Sprintf("%s %v %v %d", e.Name, e.Came, e.Changed, len(e.Nodes)))
	}
	for _, text := range []string{
		"add@/block/sdb\x00ACTION=add\x00DEVPATH=/block/sdb\x00SUBSYSTEM=block\x00DEVTYPE=disk\x00",
		"add@/block/sdb/sdb1\x00ACTION=add\x00DEVPATH=/block/sdb/sdb1\x00SUBSYSTEM=block\x00DEVTYPE=partition\x00",
		"add@/bus\x00ACTION=add\x00DEVPATH=/bus\x00SUBSYSTEM=usb\x00",
		"change@/block/sdb\x00ACTION=change\x00DEVPATH=/block/sdb\x00SUBSYSTEM=block\x00DEVTYPE=disk\x00",
		"change@/block/sdb\x00ACTION=change\x00DEVPATH=/block/sdb\x00SUBSYSTEM=block\x00DEVTYPE=disk\x00DISK_MEDIA_CHANGE=1\x00",
		"remove@/block/sdz\x00ACTION=remove\x00DEVPATH=/block/sdz\x00SUBSYSTEM=block\x00DEVTYPE=disk\x00",
		"=\x00\x00ACTION", "",
	} {
		m.announced(context.Background(), []byte(text), report)
	}
	if want := "sdb true false 3, sdb false true 3, sdz false false 0"; strings.Join(got, ", ") != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// TestFamilies: disks of every naming family are told apart by what sysfs says
// of them; what is no disk now is left out.
func TestFamilies(t *testing.T) {
	dir := t.TempDir()
	disk := func(name string, more map[string]string) map[string]string {
		files := map[string]string{"size": "2048", "dev": "259:1", "removable": "0", "ro": "0", "queue/rotational": "0", "queue/logical_block_size": "512"}
		for k, v := range more {
			files[k] = v
		}
		out := map[string]string{}
		for k, v := range files {
			out["sys/block/"+name+"/"+k] = v
		}
		return out
	}
	for name, more := range map[string]map[string]string{
		"nvme0n1":      {"wwid": "nvme.5eed-4c53", "device/model": "Quillwort N1", "device/serial": "QN-00417", "device/firmware_rev": "7.1", "device/state": "live", "queue/write_cache": "write back"},
		"nvme0c0n1":    {"hidden": "1"},
		"mmcblk0":      {"device/name": "FERN8", "device/serial": "0x5eed0417", "queue/discard_granularity": "4194304", "queue/discard_max_bytes": "4194304"},
		"md0":          {"md/level": "raid1", "md/raid_disks": "2", "md/array_state": "clean", "md/degraded": "1", "md/uuid": "5eed-md", "slaves/sda1/dev": "", "slaves/sdb1/dev": ""},
		"dm-3":         {"dm/name": "vault-images", "dm/uuid": "LVM-5eedvault", "slaves/sdc/dev": ""},
		"dm-4":         {"dm/name": "opened", "dm/uuid": "CRYPT-LUKS2-5eed"},
		"loop3":        {"loop/backing_file": "/srv/card.img", "loop/offset": "1048576"},
		"loop4":        {},
		"sr0":          {"removable": "1"},
		"zram0":        {},
		"ram0":         {},
		"sdx":          {"device/vendor": "ATA", "device/model": "Tansy T40", "device/state": "offline", "queue/rotational": "1"},
		"cciss!c0d0":   {},
		"nbd0":         {"size": "0"},
		"vda":          {"serial": "FERN-VIRT", "device/vendor": "0x1af4"},
		"mmcblk0boot0": {"ro": "1"},
	} {
		plant(t, dir, disk(name, more))
	}
	plant(t, dir, map[string]string{"proc/self/mountinfo": "", "run/udev/data/b259:1": "E:ID_SERIAL_SHORT=UD-1\nS:disk/by-id/one", "etc/hostname": "fernhill"})
	m := &Machine{"fernhill", nil, places{filepath.Join(dir, "sys"), filepath.Join(dir, "proc"), filepath.Join(dir, "dev"), dir}, newPatience(0)}
	v, err := m.Inventory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, n := range v.Nodes {
		h, layer := n.Hardware, string(n.Layer.Kind)
		if n.Layer.Kind == inventory.RAID {
			layer = fmt.Sprintf("%s of %d, %d missing, %s", n.Layer.Level, n.Layer.Of, n.Layer.Missing, n.Layer.State)
		}
		got = append(got, strings.TrimSpace(strings.Join(strings.Fields(fmt.Sprintf("%s %s %s %s %s %s %s %s %v %s %s", n.Name, n.Form, h.Bus, h.Vendor, h.Model, h.Serial, h.Firmware, n.Alias, n.BuiltOn, layer, h.State)), " ")))
	}
	want := []string{
		"cciss!c0d0 disk UD-1 []",
		"dm-3 volume UD-1 vault-images [sdc] logical",
		"dm-4 volume UD-1 opened [] encrypted",
		"loop3 disk loop UD-1 []",
		"md0 array UD-1 [sda1 sdb1] raid1 of 2, 1 missing, clean",
		"mmcblk0 disk mmc FERN8 0x5eed0417 []",
		"mmcblk0boot0 disk mmc boot area UD-1 []",
		"nvme0n1 disk nvme Quillwort N1 QN-00417 7.1 []",
		"sdx disk Tansy T40 UD-1 [] offline",
		"sr0 disk optical UD-1 []",
		"vda disk FERN-VIRT []",
		"zram0 disk memory UD-1 []",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if n, _ := v.Node("vault-images"); n.Identity.Disk == "" || !strings.Contains(strings.Join(n.Links, " "), "/dev/mapper/vault-images") {
		t.Errorf("vault-images: %+v", n)
	}
	if n, _ := v.Node("sdx"); !strings.Contains(n.Problem, "offline") {
		t.Errorf("offline: %q", n.Problem)
	}
	if n, _ := v.Node("mmcblk0"); n.Hardware.Discard != 4<<20 || n.Path != filepath.Join(dir, "dev", "mmcblk0") {
		t.Errorf("mmcblk0: %+v", n)
	}
	if n, _ := v.Node("cciss!c0d0"); n.Path != filepath.Join(dir, "dev", "cciss/c0d0") {
		t.Errorf("%s", n.Path)
	}
}

// TestMain is the child that reads first, where it was started as that.
func TestMain(m *testing.M) {
	if FirstRead(os.Args, os.Stdout) {
		return
	}
	m.Run()
}

// TestSilentDisk: a disk that does not answer is listed with the kernel's
// partitions, is not opened, and holds up nobody for longer than the patience; a
// pipe that nobody writes to stands for it.
func TestSilentDisk(t *testing.T) {
	m := fernhill(t)
	m.patience = newPatience(2 * time.Second)
	if err := unix.Mkfifo(filepath.Join(m.at.dev, "sdc"), 0o600); err != nil {
		t.Fatal(err)
	}
	v, err := m.Inventory(context.Background()) // it ends, though the pipe never answers
	if err != nil {
		t.Fatal(err)
	}
	sdc, _ := v.Node("sdc")
	part, _ := v.Node("sdc1")
	if !sdc.Silent || !part.Silent || !strings.Contains(sdc.Problem, "did not answer within 2s") || advice.Holds(sdc) != "silent" {
		t.Errorf("sdc: %+v\nsdc1: %+v", sdc, part)
	}
	if first, _ := v.Node("sdb1"); advice.Holds(first) != "ext4" || first.Silent {
		t.Errorf("its neighbour holds %q", advice.Holds(first))
	}
	var silent *machine.SilentError
	if _, err := m.Open(context.Background(), "sdc"); !errors.As(err, &silent) {
		t.Errorf("opening it: %v", err)
	}
	for name, text := range map[string]string{"inflight": "0 0", "stat": "5 0 40 0"} { // nothing speaks against it: it is read at once, and is late
		plant(t, m.at.sys, map[string]string{"block/sdc/" + name: text})
	}
	if d, err := m.listed("sdc"); err != nil || d.suspect() {
		t.Errorf("suspect: %v", err)
	}
	m.patience = newPatience(2 * time.Second)
	v, err = m.Inventory(context.Background())
	if sdc, ok := v.Node("sdc"); err != nil || !ok || !sdc.Silent {
		t.Errorf("read at once: %+v, %v", sdc, err)
	}
	// It is not asked again: by now it would answer.
	if err := errors.Join(os.Remove(filepath.Join(m.at.dev, "sdc")), os.WriteFile(filepath.Join(m.at.dev, "sdc"), make([]byte, 1<<20), 0o600)); err != nil {
		t.Fatal(err)
	}
	v, err = m.Inventory(context.Background())
	if sdc, ok := v.Node("sdc"); err != nil || !ok || !sdc.Silent {
		t.Errorf("looked at once more: %+v, %v", sdc, err)
	}
}

// TestSizeIsAskedForWhereItCanBe: a disk that announces its size by itself has no file to ask
// by, and none is made; the second of two that may be there is written to.
func TestSizeIsAskedForWhereItCanBe(t *testing.T) {
	dir := t.TempDir()
	m := &Machine{"fernhill", nil, places{filepath.Join(dir, "sys"), filepath.Join(dir, "proc"), filepath.Join(dir, "dev"), dir}, newPatience(0)}
	plant(t, dir, map[string]string{"sys/block/vda/device/driver": "virtio", "sys/block/nvme0n1/device/rescan_controller": "0"})
	for _, disk := range []string{"vda", "nvme0n1"} {
		if err := m.readSize(t.Context(), nil, machine.Action{Device: disk}); err != nil {
			t.Errorf("%s: %v", disk, err)
		}
	}
	asked, err := os.ReadFile(filepath.Join(dir, "sys/block/nvme0n1/device/rescan_controller"))
	if entries, errDir := os.ReadDir(filepath.Join(dir, "sys/block/vda/device")); err != nil || errDir != nil || len(entries) != 1 || !strings.HasPrefix(string(asked), "1") {
		t.Errorf("%v, %q: %v, %v", entries, asked, err, errDir)
	}
}

// TestTheRightThatLacks: root without one of the rights is told which, and nobody else is sent
// to look for one.
func TestTheRightThatLacks(t *testing.T) {
	all := ^uint64(0)
	for _, c := range []struct {
		user      int
		effective uint64
		want      string
	}{
		{1000, 0, "only root may do that"},
		{0, all &^ (1 << unix.CAP_SYS_RESOURCE), "root lacks a right here: CAP_SYS_RESOURCE"},
		{0, all &^ (1<<unix.CAP_SYS_ADMIN | 1<<unix.CAP_CHOWN), "root lacks a right here: CAP_SYS_ADMIN, CAP_CHOWN"},
		{0, all, "it is not permitted, though root has every right that is known for it"},
	} {
		if got := forbiddenTo(c.user, c.effective); got != c.want {
			t.Errorf("user %d with %#x: %q, want %q", c.user, c.effective, got, c.want)
		}
	}
}
