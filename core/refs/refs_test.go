package refs

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

const root, old = "5eed5eed-0000-4000-8000-000000000001", "5eed5eed-0000-4000-8000-000000000bad"

// fernhill names its root in every way, its swap by label, and a device that is
// gone.
func fernhill() *inventory.Inventory {
	node := func(name, kind, id, label string, class fs.Class) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Partition, Parent: name[:3], Contents: []fs.Content{{Kind: kind, Class: class, UUID: id, Label: label}}}
	}
	files := map[string]string{
		"/proc/cmdline":                           "root=UUID=" + root + " ro",
		"/boot/grub/grub.cfg":                     "search --fs-uuid --set=root " + root + "\nlinux /vmlinuz root=UUID=" + root + " resume=LABEL=swap\n",
		"/etc/default/grub":                       "# root=UUID=" + root + "\nDEFAULTS=\"root=UUID=" + root + " quiet\"\n",
		"/boot/loader/entries/fernhill.conf":      "options root=/dev/disk/by-uuid/" + root + "\n",
		"/boot/loader/entries/readme.txt":         "root=UUID=" + root,
		"/etc/initramfs-tools/conf.d/resume":      "RESUME=UUID=" + old + "\n",
		"/etc/crypttab":                           "vault UUID=" + old + " none luks\n",
		fstab.Path:                                "# root\nUUID=" + root + "\t/ ext4 defaults 0 1\nLABEL=swap none swap sw 0 0\ntmpfs /tmp tmpfs defaults 0 0\n",
		"/etc/systemd/system/srv-herbarium.mount": "[Mount]\nWhat=/dev/disk/by-uuid/" + root + "\nWhere=/srv/herbarium\n",
		"/etc/systemd/system/other.service":       "What=UUID=" + root,
	}
	v := &inventory.Inventory{Files: map[string]inventory.File{}, Nodes: []inventory.Node{
		node("sda1", "ext4", root, "fernhill", fs.FileSystem), node("sda2", "swap", "5eed5eed-0000-4000-8000-000000000002", "swap", fs.Swap)}}
	for path, text := range files {
		v.Files[path] = inventory.File{Data: []byte(text)}
	}
	return v
}

// TestOf: every line that means a device is found, and no other; a stale
// identifier finds the lines that say it.
func TestOf(t *testing.T) {
	v := fernhill()
	for name, want := range map[string]string{
		"sda1": "/proc/cmdline:1 /boot/grub/grub.cfg:1 /boot/grub/grub.cfg:2 /etc/default/grub:2 /boot/loader/entries/fernhill.conf:1 /etc/fstab:2 /etc/systemd/system/srv-herbarium.mount:2",
		"sda2": "/boot/grub/grub.cfg:2 /etc/fstab:3",
	} {
		if got := places(Of(v, name)); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, want)
		}
	}
	if got := places(Named(v, "UUID="+old)); got != "/etc/initramfs-tools/conf.d/resume:1 /etc/crypttab:1" {
		t.Errorf("stale: %s", got)
	}
}

func places(list []Reference) string {
	var words []string
	for _, r := range list {
		words = append(words, fmt.Sprintf("%s:%d", r.Path, r.Line))
	}
	return strings.Join(words, " ")
}

// TestRewrite: after it nothing but this boot's command line says the old name,
// only the lines that it lists differ, and back again every byte is as before.
func TestRewrite(t *testing.T) {
	for _, c := range []struct {
		old, new string
		left     int
	}{{"UUID=" + root, "UUID=99990000-aaaa-4bbb-8ccc-ddddeeeeffff", 0}, {"LABEL=swap", "LABEL=scratch", 0}, {"LABEL=swap", "LABEL=two words", 1}, {"UUID=none", "UUID=some", 0}} {
		v := fernhill()
		files, left := Rewrite(v, c.old, c.new)
		if len(left) != c.left {
			t.Errorf("%s: left %v", c.old, left)
		}
		for _, f := range files {
			before := strings.SplitAfter(string(v.Files[f.Path].Data), "\n")
			for i, line := range strings.SplitAfter(string(f.Data), "\n") {
				if (line != before[i]) != slices.Contains(f.Lines, i+1) {
					t.Errorf("%s:%d: %q was %q; changed are %v", f.Path, i+1, line, before[i], f.Lines)
				}
			}
			v.Files[f.Path] = inventory.File{Data: f.Data}
		}
		rest := slices.DeleteFunc(Named(v, c.old), func(r Reference) bool { return r.Fixed })
		if len(rest) != c.left {
			t.Errorf("%s is still said: %s", c.old, places(rest))
		}
		again, _ := Rewrite(v, c.new, c.old)
		for _, f := range again {
			v.Files[f.Path] = inventory.File{Data: f.Data}
		}
		for path, f := range fernhill().Files {
			if string(v.Files[path].Data) != string(f.Data) {
				t.Errorf("%s to %s and back: %s:\n%s", c.old, c.new, path, v.Files[path].Data)
			}
		}
	}
}

// TestForgotten: from what the kernel resumes is taken out of every file, and nothing beside
// it; what cannot be taken out is left, and said.
func TestForgotten(t *testing.T) {
	v := fernhill()
	v.Files["/etc/default/grub"] = inventory.File{Data: []byte("A=\"resume=LABEL=swap resume_offset=4096 quiet\"\nB=\"quiet resume=/dev/sda2\"\n# resume=LABEL=swap\nC=\"resume=LABEL=swap\" # resume=/dev/sda2 too\n")}
	v.Files["/etc/initramfs-tools/conf.d/resume"] = inventory.File{Data: []byte("RESUME=LABEL=swap")}
	v.Files["/proc/cmdline"] = inventory.File{Data: []byte("quiet resume=/dev/sda2")}
	files, left := Forgotten(v, Of(v, "sda2"))
	got := map[string]string{}
	for _, f := range files {
		got[f.Path] = string(f.Data)
	}
	for path, want := range map[string]string{
		"/etc/default/grub":                  "A=\"quiet\"\nB=\"quiet\"\n# resume=LABEL=swap\nC=\"\" # too\n",
		"/etc/initramfs-tools/conf.d/resume": "RESUME=none",
		"/boot/grub/grub.cfg":                "search --fs-uuid --set=root " + root + "\nlinux /vmlinuz root=UUID=" + root + "\n",
	} {
		if got[path] != want {
			t.Errorf("%s: %q, want %q", path, got[path], want)
		}
	}
	if places(left) != "/proc/cmdline:1 /etc/fstab:3" || len(files) != 3 {
		t.Errorf("left: %s; changed: %v", places(left), got)
	}
}
