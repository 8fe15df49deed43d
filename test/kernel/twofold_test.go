//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"fundus/core/probe/sample"
)

// together puts several samples onto the same bytes.
func together(t *testing.T, names ...string) sample.Sample {
	t.Helper()
	out := sample.Sample{Name: strings.Join(names, " and "), Pieces: map[int64][]byte{}}
	for _, name := range names {
		if name == "a table" { // an MBR with one partition of type 83 from sector 64
			out.Pieces[440] = []byte{1, 2, 3, 4, 0, 0, 0, 0xFE, 0xFF, 0xFF, 0x83, 0xFE, 0xFF, 0xFF, 64, 0, 0, 0, 0, 1, 0, 0}
			out.Pieces[510] = []byte{0x55, 0xAA}
			continue
		}
		i := slices.IndexFunc(sample.All(), func(s sample.Sample) bool { return s.Name == name })
		if i < 0 {
			t.Fatalf("no sample %q", name)
		}
		s := sample.All()[i]
		maps.Copy(out.Pieces, s.Pieces)
		out.Size = max(out.Size, s.Size)
	}
	return out
}

// proveTwofold: where the same bytes carry several signatures, the one that the
// program says is believed is the one that udev names, and udev has no name where
// it says that none is.
func proveTwofold(t *testing.T, j *judge) {
	pairs := [][]string{
		{"minix", "RAID member 1.0"}, {"swap, SWAPSPACE2", "RAID member 1.0"}, {"btrfs", "RAID member 1.2"}, {"LUKS 2", "btrfs"}, {"physical volume", "btrfs"},
		{"btrfs", "swap, SWAPSPACE2"}, {"squashfs", "reiserfs"}, {"iso9660", "udf"}, {"bcache", "btrfs"}, {"LUKS 1", "RAID member 1.0"}, {"btrfs", "a table"}, {"physical volume", "RAID member 1.0"},
	}
	var images, commands []string
	for i, names := range pairs {
		images = append(images, sampleImage(t, together(t, names...)))
		commands = append(commands, fmt.Sprintf("inspect ubd%c --json", 'a'+i), fmt.Sprintf("udev ubd%c", 'a'+i))
	}
	said := j.run(t, start{root: j.debian(t), systemd: true, images: images, commands: commands})[len(images)-1].Said
	for i, names := range pairs {
		var doc struct {
			Device struct {
				Believed string
				Contents []struct{ Kind string }
			}
		}
		says := map[string]string{}
		if err := json.NewDecoder(strings.NewReader(said[2*i])).Decode(&doc); err != nil {
			t.Fatalf("%v: %s", err, said[2*i])
		}
		if err := json.NewDecoder(strings.NewReader(said[2*i+1])).Decode(&says); err != nil {
			t.Fatalf("%v: %s", err, said[2*i+1])
		}
		if len(doc.Device.Contents) < 2 && names[1] != "udf" {
			t.Errorf("%v: only %v is recognised", names, doc.Device.Contents)
		}
		want := doc.Device.Believed
		if len(doc.Device.Contents) == 1 {
			want = doc.Device.Contents[0].Kind
		}
		for _, s := range sample.All() {
			if s.Kind == want && s.Udev["TYPE"] != "" {
				want = s.Udev["TYPE"]
			}
		}
		if says["TYPE"] != want {
			t.Errorf("%v: believed is %q; udev says %v", names, want, says)
		}
	}
	fmt.Printf("kernel proof: of %d pairs of signatures udev believes which the program says, or none where it says none\n", len(pairs))
}
