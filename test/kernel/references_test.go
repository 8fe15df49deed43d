//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// proveReferences: what names a device resolves to the one to which udev's links
// lead, in every file, and after a label was changed everywhere it still does.
func proveReferences(t *testing.T, j *judge) {
	root := j.debian(t)
	for path, text := range map[string]string{
		"boot/grub/grub.cfg":                     "linux /vmlinuz root=LABEL=herbarium resume=PARTLABEL=scans\n",
		"etc/kernel/cmdline":                     "root=LABEL=herbarium\n",
		"etc/systemd/system/srv-herbarium.mount": "[Unit]\nDescription=Specimens\n[Mount]\nWhat=/dev/disk/by-label/herbarium\nWhere=/srv/herbarium\n",
	} {
		path = filepath.Join(root, path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	a := j.run(t, start{root: root, systemd: true, images: []string{blank(t, 200<<20)}, commands: []string{
		"table new ubda --commit", "partition add ubda --size 80MiB --commit", "partition add ubda --size 60MiB --name scans --commit", "format ubda1 ext4 --label herbarium --commit",
		"references ubda --json", "link /dev/disk/by-label/herbarium", "link /dev/disk/by-partlabel/scans",
		"label ubda1 mosses --commit", "references ubda --json", "link /dev/disk/by-label/mosses", "references LABEL=herbarium",
	}})[0]
	for i, want := range map[int]struct{ lines, label string }{4: {"4", a.Said[5]}, 8: {"4", a.Said[9]}} {
		var doc struct {
			References []struct{ File, Names, Device string }
		}
		if err := json.NewDecoder(strings.NewReader(a.Said[i])).Decode(&doc); err != nil || fmt.Sprint(len(doc.References)) != want.lines {
			t.Fatalf("%v: %s\n%v", err, a.Said[i], a.Said)
		}
		for _, r := range doc.References {
			link := want.label
			if r.Names == "PARTLABEL=scans" {
				link = a.Said[6]
			}
			if "../../"+r.Device != link {
				t.Errorf("%s: %s is %s for Fundus, %s for udev", r.File, r.Names, r.Device, link)
			}
		}
	}
	if !strings.Contains(a.Said[10], "named by no line") {
		t.Errorf("the old label is still said: %s", a.Said[10])
	}
}
