//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs/fat"
	"fundus/core/fs/swap"
	"fundus/core/quantity"
)

// namedVolumes are FAT of every kind and two areas of swap, with labels that are read by
// others; each with what udev is to say of it.
func namedVolumes(t *testing.T) (images []string, want []map[string]string) {
	t.Helper()
	for i, c := range []struct {
		size   int64
		sector int64
		label  string
		bits   int
	}{{64 << 10, 512, "", 0}, {3 << 20, 512, "SEEDS", 0}, {5 << 20, 512, "A", 12}, {20 << 20, 512, "FIELD CARD", 16}, {64 << 20, 512, "ELEVENBYTES", 32},
		{300 << 20, 512, "(1) & #$%", 0}, {700 << 20, 512, "MOSS", 0}, {64 << 20, 2048, "TWO KIB", 0}, {300 << 20, 4096, "FOUR KIB", 32}, {2 << 30, 512, "", 0}} {
		serial := uint32(0x5EED0000 + i)
		want = append(want, map[string]string{"TYPE": "vfat", "UUID": fmt.Sprintf("5EED-%04X", i)})
		if c.label != "" {
			want[i]["LABEL"] = c.label
		}
		images = append(images, madeImage(t, c.size, c.sector, func(dev block.Device) error {
			_, err := fat.Make(t.Context(), dev, fat.Options{Bits: c.bits, Tables: 2, RootEntries: 512, Align: true, Label: c.label, Serial: serial, Time: time.Unix(1772352000, 0)})
			return err
		}))
	}
	for _, label := range []string{"", "moss swap"} {
		id := uuid.New()
		m := map[string]string{"TYPE": "swap", "UUID": id.String()}
		if label != "" {
			m["LABEL"] = label
		}
		want = append(want, m)
		images = append(images, madeImage(t, 1<<20, 512, func(dev block.Device) error {
			_, err := swap.Make(t.Context(), dev, swap.Options{Page: quantity.Bytes(os.Getpagesize()), Label: label, UUID: id})
			return err
		}))
	}
	return images, want
}

func madeImage(t *testing.T, size, sector int64, fill func(dev block.Device) error) string {
	t.Helper()
	path := blank(t, size)
	dev, err := file.Open(path, true, block.Geometry{Logical: sector, Physical: sector})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	if err := fill(dev); err != nil {
		t.Fatal(err)
	}
	return path
}

// proveNames: labels, serial numbers and kinds are to udev what was written.
func proveNames(t *testing.T, j *judge) {
	images, want := namedVolumes(t)
	var commands []string
	for i := range images {
		commands = append(commands, fmt.Sprintf("udev ubd%c", 'a'+i))
	}
	said := j.run(t, start{root: j.debian(t), systemd: true, images: images, commands: commands})[len(images)-1].Said
	for i, w := range want {
		got := map[string]string{}
		if err := json.NewDecoder(strings.NewReader(said[i])).Decode(&got); err != nil {
			t.Errorf("%d: %v: %s", i, err, said[i])
		}
		for name, value := range w {
			if plain := strings.ReplaceAll(value, " ", "_"); got[name] != plain { // as udev writes a blank
				t.Errorf("%d: %s is %q for udev, %q was written", i, name, got[name], value)
			}
		}
		if len(got) != len(w) {
			t.Errorf("%d: udev says %v, written was %v", i, got, w)
		}
	}
	fmt.Printf("kernel proof: %d volumes have the names for udev that they were given: %v\n", len(images), !t.Failed())
}

// proveBootLoader: the boot loader's own reader finds each FAT by its label and its serial
// number, as it looks for the system that it starts.
func proveBootLoader(t *testing.T, _ *judge) {
	images, want := namedVolumes(t)
	read := 0
	for i, image := range images {
		if want[i]["TYPE"] != "vfat" {
			continue
		}
		out, err := exec.Command("grub-fstest", image, "ls", "--", "-l", "(loop0)").CombinedOutput()
		said := string(out)
		label := want[i]["LABEL"]
		if err != nil || !strings.Contains(said, "Filesystem type fat") || !strings.Contains(said, "UUID "+want[i]["UUID"]) || label != "" && !strings.Contains(said, "Label `"+label+"'") {
			t.Errorf("%v: %v: %s", want[i], err, said)
		}
		read++
	}
	fmt.Printf("kernel proof: the boot loader's reader finds %d FAT by label and serial number: %v\n", read, !t.Failed())
}
