package propose

import (
	"errors"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// fernhill is a machine with a root, a data disk, a card, a volume and swap; lines are those
// of its fstab.
func fernhill(lines string) *inventory.Inventory {
	node := func(name string, c fs.Content) inventory.Node {
		c.Class = fs.FileSystem
		if c.Kind == fstab.Swap {
			c.Class = fs.Swap
		}
		c.UUID = "u-" + name
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Disk, Contents: []fs.Content{c}, Hardware: inventory.Hardware{Bus: "sata"}}
	}
	ext, fat := fs.Content{Kind: "ext4", Pass: 2, Grows: true, State: fs.Clean}, fs.Content{Kind: "FAT32", Types: []string{"vfat"}, Ownerless: true, State: fs.Clean}
	card, far, volume, twin := node("sdc", fat), node("sdd", ext), node("dm-0", ext), node("sdf", ext)
	card.Hardware = inventory.Hardware{Bus: "usb", Removable: true}
	far.Hardware.Bus = "iscsi"
	volume.Form, volume.Alias = inventory.Volume, "vault-images"
	twin.Contents[0].UUID = "u-sdb"
	twin.Links = []string{"/dev/disk/by-path/pci-1", "/dev/disk/by-id/ata-1"}
	stick := node("sdg", fs.Content{Kind: "swap"})
	stick.Hardware.Bus = "usb"
	return &inventory.Inventory{
		Nodes: []inventory.Node{node("sda", ext), node("sdb", ext), card, far, volume, node("sde", fs.Content{Kind: "swap"}), twin, stick, node("sdh", ext)},
		Files: map[string]inventory.File{fstab.Path: {Data: []byte(lines)}},
	}
}

func TestOptions(t *testing.T) {
	const loose = "UUID=u-sdb /srv ext4 nofail 0 2\n"
	for _, c := range []struct {
		node, lines string
		ask         Ask
		want        string // options, field 6
		notes       string
	}{
		{"sdh", "", Ask{Dir: "/srv/ferns"}, "nofail 2", ""},
		{"sdh", "", Ask{Dir: "/srv/ferns", Needed: true}, "defaults 2", "as asked for"},
		{"sdh", "", Ask{Dir: "/var"}, "defaults 2", ""},
		{"sdh", "", Ask{Dir: "/"}, "defaults 1", ""},
		{"sdh", loose, Ask{Dir: "/srv/ferns"}, "nofail 2", ""},
		{"sdh", loose, Ask{Dir: "/srv/ferns", Needed: true}, "defaults 2", "makes that needed too"},
		{"sdh", "", Ask{Dir: "/srv/ferns", Options: []string{"noatime"}, Fixed: true}, "noatime,nofail 2", ""},
		{"sdh", "", Ask{Dir: "/srv/ferns", Options: []string{"fail"}}, "fail 2", ""},
		{"sdh", "", Ask{Dir: "/srv/ferns", Preset: []string{"noatime"}}, "noatime,nofail 2", ""},
		{"sdc", "", Ask{Dir: "/media/card"}, "nofail,x-systemd.device-timeout=5s 0", "no owners"},
		{"sdc", "", Ask{Dir: "/efi"}, "umask=0077,nofail,x-systemd.device-timeout=5s 0", ""},
		{"sdc", "", Ask{Dir: "/media/card", Automount: true, Idle: "60s", DeviceWait: "2s"}, "x-systemd.automount,x-systemd.idle-timeout=60s,x-systemd.device-timeout=2s,nofail 0", ""},
		{"sdd", "", Ask{Dir: "/srv/far"}, "_netdev,nofail 2", ""},
		{"sde", "", Ask{}, "defaults 0", ""},
		{"sdg", "", Ask{DeviceWait: "5s"}, "x-systemd.device-timeout=5s 0", ""},
	} {
		v := fernhill(c.lines)
		n, _ := v.Node(c.node)
		l, err := For(v, n, c.ask)
		got := strings.Join(l.Entry.Options, ",") + " " + string(rune('0'+l.Entry.Pass))
		if err != nil || got != c.want || !strings.Contains(strings.Join(l.Notes, "; "), c.notes) {
			t.Errorf("%s %+v: %s (%v) %v, want %s (%s)", c.node, c.ask, got, l.Notes, err, c.want, c.notes)
		}
		for _, r := range l.Reasons {
			if r.Why == "" {
				t.Errorf("%s: no reason for %s", c.node, r.Option)
			}
		}
	}
	v := fernhill("")
	if stick, _ := v.Node("sdg"); true {
		if _, err := For(v, stick, Ask{}); !errors.Is(err, ErrRemovableSwap) {
			t.Errorf("swap on a stick: %v", err)
		}
	}
}

func TestName(t *testing.T) {
	v := fernhill("")
	for _, c := range []struct{ node, by, want string }{
		{"sdh", "", "UUID=u-sdh"}, {"dm-0", "", "/dev/mapper/vault-images"}, {"dm-0", "uuid", "UUID=u-dm-0"}, {"sdf", "path", "/dev/disk/by-path/pci-1"},
		{"sdh", "path", "/dev/sdh"}, {"sdh", "label", ""}, {"sdf", "uuid", ""}, {"sdf", "", ""},
	} {
		n, _ := v.Node(c.node)
		name, err := Name(v, n, c.by, "")
		if name.Spec != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s by %s: %q, %v, want %q", c.node, c.by, name.Spec, err, c.want)
		}
		if (name.Warning != "") != (name.Spec == "/dev/sdh") {
			t.Errorf("%s: warning %q", name.Spec, name.Warning)
		}
	}
}

// TestRebuild: a lost table comes back from the units of the last read, and from what is
// mounted beside them.
func TestRebuild(t *testing.T) {
	v := fernhill("")
	v.Uses = []inventory.Use{
		{Node: "sda", How: inventory.Mounted, Where: "/"}, {Node: "sdh", How: inventory.Mounted, Where: "/srv/ferns"}, {Node: "sdb", How: inventory.Mounted, Where: "/elsewhere", Elsewhere: "in another namespace"},
		{Node: "sde", How: inventory.SwapOn},
	}
	units := map[string][]byte{
		"-.mount":         []byte("[Unit]\nSourcePath=/etc/fstab\nAfter=systemd-fsck-root.service\n[Mount]\nWhat=/dev/disk/by-uuid/u-sda\nWhere=/\nType=ext4\nOptions=errors=remount-ro\n"),
		"srv-scans.mount": []byte("[Unit]\nSourcePath=/etc/fstab\n[Mount]\nWhat=/dev/disk/by-label/a\\x2fb\\x20c\nWhere=/srv/100%% scans\nOptions=noatime\n"),
		"boot.mount":      []byte("[Unit]\nSourcePath=/proc/cmdline\n[Mount]\nWhat=/dev/sdz\nWhere=/boot\n"),
	}
	var got []string
	for _, e := range Rebuild(v, units) {
		got = append(got, e.String())
	}
	want := "UUID=u-sda / ext4 errors=remount-ro 0 1\nLABEL=a/b\\040c /srv/100%\\040scans auto noatime 0 0\nUUID=u-sdh /srv/ferns ext4 nofail 0 2\nUUID=u-sde none swap defaults 0 0"
	if strings.Join(got, "\n") != want {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
}
