//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"fundus/core/probe/sample"
)

// mountable are the samples that are whole enough for a kernel to mount, by
// their names, with the module that it needs.
func mountable() map[string]string {
	return map[string]string{"minix": "minix", "iso9660": "isofs", "iso9660 with Joliet": "isofs", "erofs": "erofs", "exfat": "exfat",
		"FAT12": "vfat", "FAT16": "vfat", "FAT32": "vfat", "ext2": "ext4", "ext3": "ext4"}
}

// proveProbes: what the probes say of each sample is what udev says of the same
// bytes, or the sample names the difference; and those that are whole are
// mounted by the kernel.
func proveProbes(t *testing.T, j *judge) {
	const batch = 14
	all, compared, mounted := sample.All(), 0, 0
	for len(all) > 0 {
		list := all[:min(batch, len(all))]
		all = all[len(list):]
		var images, commands []string
		for i, s := range list {
			images = append(images, sampleImage(t, s))
			disk := fmt.Sprintf("ubd%c", 'a'+i)
			commands = append(commands, "inspect "+disk+" --json", "udev "+disk, fmt.Sprintf("mountas %s %s", mountKind(s.Kind), disk))
		}
		modules := []string{"minix", "isofs", "erofs", "exfat", "vfat", "nls_cp437", "nls_iso8859-1", "nls_ascii", "nls_utf8"}
		said := j.run(t, start{root: j.debian(t), systemd: true, modules: modules, images: images, commands: commands})[len(images)-1].Said
		for i, s := range list {
			if sameAsUdev(t, s, said[3*i], said[3*i+1]) {
				compared++
			}
			if _, whole := mountable()[s.Name]; whole {
				switch said[3*i+2] {
				case "mounted":
					mounted++
				case "no such device": // this kernel has no driver for it
				default:
					t.Errorf("%s: the kernel says: %s", s.Name, said[3*i+2])
				}
			}
		}
	}
	fmt.Printf("kernel proof: %d of %d samples are to udev what they are to the probes, the others differ as they say; %d are mounted\n", compared, len(sample.All()), mounted)
}

func mountKind(kind string) string {
	if strings.HasPrefix(kind, "FAT") {
		return "vfat"
	}
	return kind
}

// named is the image of the sample of that name.
func named(t *testing.T, name string) string {
	t.Helper()
	all := sample.All()
	return sampleImage(t, all[slices.IndexFunc(all, func(s sample.Sample) bool { return s.Name == name })])
}

func sampleImage(t *testing.T, s sample.Sample) string {
	t.Helper()
	path := blank(t, s.Size)
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for at, b := range s.Pieces {
		if _, err := f.WriteAt(b, at); err != nil {
			t.Fatal(err)
		}
	}
	return path
}

// sameAsUdev compares kind, label and identifier.
func sameAsUdev(t *testing.T, s sample.Sample, inspected, database string) bool {
	t.Helper()
	var doc struct {
		Device struct {
			Contents []struct{ Kind, Label, UUID string }
		}
	}
	says := map[string]string{}
	if err := json.NewDecoder(strings.NewReader(inspected)).Decode(&doc); err != nil || len(doc.Device.Contents) != 1 {
		t.Errorf("%s: inspect: %v: %s", s.Name, err, inspected)
		return false
	}
	if err := json.NewDecoder(strings.NewReader(database)).Decode(&says); err != nil {
		t.Errorf("%s: udev: %v: %s", s.Name, err, database)
		return false
	}
	c := doc.Device.Contents[0]
	want := map[string]string{"TYPE": c.Kind, "UUID": c.UUID, "LABEL": c.Label}
	for name, value := range s.Udev {
		want[name] = value
	}
	same := len(s.Udev) == 0 || s.Udev["TYPE"] != "" && len(s.Udev) == 1
	for name, value := range want {
		if says[name] != strings.ReplaceAll(value, " ", "_") { // as udev writes a blank
			t.Errorf("%s: %s is %q for Fundus, %q for udev", s.Name, name, value, says[name])
			same = false
		}
	}
	return same
}
