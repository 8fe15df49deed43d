//go:build proof

package kernel

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/fs/fat"
	"fundus/core/fs/swap"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/test/amount"
)

// fats lists what is made and put before the kernel: every kind with sectors and clusters of
// every size, and sizes around the borders between the kinds.
func fats() (list []fatCase) {
	for _, sector := range []int64{512, 1024, 2048, 4096} {
		for _, bits := range []int{12, 16, 32} {
			for _, per := range []int64{1, 2, 8, 64} {
				clusters := map[int]int64{12: 3000, 16: 20000, 32: 70000}[bits]
				if per*sector <= 64<<10 && clusters*per*sector < 8<<30 {
					list = append(list, fatCase{sector, (clusters*per + 400 + clusters*int64(bits)/8/sector*2) * sector, fat.Options{Bits: bits, Cluster: quantity.Bytes(per * sector)}})
				}
			}
		}
		for _, border := range []int64{4085, 65525} {
			for d := int64(-18); d <= 18; d += 4 {
				list = append(list, fatCase{sector, (border + d + 1 + 32 + 2*((border+d+2)*16/8+sector-1)/sector) * sector, fat.Options{Cluster: quantity.Bytes(sector)}})
			}
		}
	}
	for _, size := range []int64{64 << 10, 100 << 10, 1 << 20, 3 << 20, 5 << 20, 33 << 20, 300 << 20, 600 << 20, 9 << 30, 33 << 30, 2<<40 - 512} {
		list = append(list, fatCase{512, size, fat.Options{}}, fatCase{512, size, fat.Options{Firmware: true}})
	}
	return list
}

type fatCase struct {
	sector, size int64
	options      fat.Options
}

// proveFAT: the kernel mounts each, counts what was planned, counts on as it was recorded,
// and finds nothing to mend at the second mount and the third.
func proveFAT(t *testing.T, j *judge) {
	all := fats()
	if !amount.Soak() { // each kind and each border in turn
		var sample []fatCase
		for i, c := range all {
			if i%4 == int(amount.Seed()%4) || i >= len(all)-4 {
				sample = append(sample, c)
			}
		}
		all = sample
	}
	made := 0
	for len(all) > 0 {
		const batch = 14
		list := all[:min(batch, len(all))]
		all = all[len(list):]
		var images, commands, want []string
		for i, c := range list {
			o := c.options
			o.Tables, o.RootEntries, o.Align, o.Label, o.Serial, o.Time = 2, 512, i%2 == 0, map[bool]string{true: "FIELD CARD"}[i%3 == 0], 0x5EEDFE11, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
			path := blank(t, c.size)
			dev, err := file.Open(path, true, block.Geometry{Logical: c.sector, Physical: c.sector})
			if err != nil {
				t.Fatal(err)
			}
			l, err := fat.Make(t.Context(), dev, o)
			dev.Close()
			if err != nil {
				t.Errorf("%d bytes in sectors of %d, %+v: %v", c.size, c.sector, c.options, err)
				continue
			}
			free := l.Clusters
			if l.Bits == 32 {
				free--
			}
			images, commands = append(images, path), append(commands, fmt.Sprintf("fat /dev/ubd%c", 'a'+len(images)))
			want = append(want, fmt.Sprintf("%d of %d free, %d bytes; wrong: ", free, l.Clusters, l.Per*l.Sector))
			made++
		}
		a := j.run(t, start{modules: fatModules(), images: images, commands: commands})[len(images)-1]
		for i, said := range a.Said {
			if said != want[i] {
				t.Errorf("%d bytes in sectors of %d, %+v: %q, want %q", list[i].size, list[i].sector, list[i].options, said, want[i])
			}
		}
		for _, line := range a.Kernel {
			if strings.Contains(line, "FAT-fs") && !strings.Contains(line, "not a recommended IO charset") { // a default of that kernel
				t.Errorf("the kernel says: %s", line)
			}
		}
	}
	fmt.Printf("kernel proof: %d FAT are what was planned, mounted four times: %v\n", made, !t.Failed())
}

// proveSwap: areas of this kernel's pages are taken and have the size that was planned;
// those of other pages are refused.
func proveSwap(t *testing.T, j *judge) {
	var images, commands, want []string
	for i, size := range []int64{64 << 10, 68 << 10, 1<<20 + 1536, 5 << 20, 5<<20 + 512, 40 << 20, 41<<20 + 512*3, 300 << 20, 1 << 30, 9 << 30, 100 << 30} {
		for _, page := range []quantity.Bytes{4096, []quantity.Bytes{8192, 65536}[i%2]} {
			if quantity.Bytes(size) < 10*page {
				continue
			}
			path := blank(t, size)
			dev, err := file.Open(path, true, block.DefaultGeometry)
			if err != nil {
				t.Fatal(err)
			}
			l, err := swap.Make(t.Context(), dev, swap.Options{Page: page, Label: strings.Repeat("s", i), UUID: uuid.New()})
			if err != nil {
				t.Fatal(err)
			}
			if c, err := swap.Probe(dev); err != nil || c.State != fs.Clean || c.Size != quantity.Bytes(l.Pages)*page {
				t.Errorf("%d bytes with pages of %d: %+v, %v", size, page, c, err)
			}
			dev.Close()
			images, commands = append(images, path), append(commands, fmt.Sprintf("area /dev/ubd%c", 'a'+len(images)%14))
			if page == 4096 {
				want = append(want, fmt.Sprintf("%d KiB", (l.Pages-1)*4))
			} else {
				want = append(want, "invalid argument")
			}
		}
	}
	n := len(images)
	for at := 0; at < n; at += 14 {
		end := min(at+14, n)
		for i, said := range j.run(t, start{images: images[at:end], commands: commands[at:end]})[end-at-1].Said {
			if said != want[at+i] {
				t.Errorf("area %d: %s, want %s", at+i, said, want[at+i])
			}
		}
	}
	fmt.Printf("kernel proof: %d swap areas are taken with their size, or refused for their pages: %v\n", n, !t.Failed())
}

// proveReturns: each kind over each that a kernel filled, undone: not a byte is another one,
// and the tree is read.
func proveReturns(t *testing.T, j *judge) {
	said := j.run(t, start{modules: fatModules(), images: []string{blank(t, 150<<20)}, commands: []string{"returns ubda " + strings.Join(kind.Words(), " ")}})[0].Said[0]
	mountable := len(kind.Words()) - 1 // all but swap
	if said != fmt.Sprintf("%d pairs, wrong: []", mountable*len(kind.Words())) {
		t.Error(said)
	}
}

// fatModules are those that a kernel mounts a FAT with.
func fatModules() []string {
	return []string{"vfat", "nls_cp437", "nls_iso8859-1", "nls_ascii", "nls_utf8"}
}
