//go:build proof

package kernel

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// seen is what the guest read of the kernel by itself.
type seen struct {
	Disks, Partitions map[string]map[string]string
	Mounts            map[string][]string
	Swaps             []string
}

// device is what the program says of a device.
type device struct {
	Name, Parent, Problem, Holds  string
	Number                        int
	Start                         int64  `json:"start_bytes"`
	Size                          int64  `json:"size_bytes"`
	Logical                       int64  `json:"logical_sector_bytes"`
	Physical                      int64  `json:"physical_sector_bytes"`
	MinIO                         int64  `json:"minimal_io_bytes"`
	OptIO                         int64  `json:"optimal_io_bytes"`
	Offset                        int64  `json:"alignment_offset_bytes"`
	Discard                       int64  `json:"discard_step_bytes"`
	Cache                         string `json:"write_cache"`
	Rotational, Removable, Silent bool
	ReadOnly                      bool   `json:"read_only"`
	Backing                       string `json:"backing_file"`
	Contents                      []struct {
		Kind, Label, State string
		Size               int64 `json:"size_bytes"`
		Block              int64 `json:"block_bytes"`
	}
	Uses []struct {
		How, Where, Type, Options string
		Total                     int64  `json:"total_bytes"`
		Free                      int64  `json:"free_bytes"`
		Files                     uint64 `json:"inodes"`
		Left                      uint64 `json:"free_inodes"`
		Priority                  int
	}
}

func surveyed(t *testing.T, said string) (list []device) {
	t.Helper()
	var doc struct{ Devices []device }
	if err := json.NewDecoder(strings.NewReader(said[strings.IndexByte(said, '{'):])).Decode(&doc); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	return doc.Devices
}

// proveFigures: every figure of every device that the kernel can make appear is
// what sysfs, procfs and statfs say; a device that answers nothing is listed and
// holds up nobody for longer than was configured, and is read again when it does.
func proveFigures(t *testing.T, j *judge) {
	root := j.root(t)
	if err := os.MkdirAll(filepath.Join(root, "etc/fundus"), 0o755); err != nil {
		t.Fatal(err)
	}
	patience := "2s"
	if os.Getenv(stops) != "" { // the guest is halted for as long as that
		patience = "20s"
	}
	if err := os.WriteFile(filepath.Join(root, "etc/fundus/config.yaml"), []byte("patience: "+patience+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	prepare := []string{
		"table new ubda --commit", "partition add ubda --size 40MiB --name scans --commit", "partition add ubda --commit", "format ubda1 ext4 --label scans --commit",
		"mkdir /srv", "mkdir /srv/again", "mount ubda1 /srv", "mkdir /media", "bind /srv /media", "makeswap ubdb", "map herbarium ubda2", "carry ubdc 4096", "zram 33554432",
		"format zram0 ext4 --label memory --commit", "format herbarium ext4 --label herbarium --commit",
		"mkdir /old", "mkdir /older", "mount ubdd /old", "mount ubde /older",
	}
	images := []string{blank(t, 96<<20), blank(t, 64<<20), blank(t, 64<<20), named(t, "ext2"), named(t, "ext3")}
	said := j.run(t, start{root: root, modules: []string{"dm-mod", "loop", "zram"}, images: images, commands: append(prepare,
		"figures", "survey --all --json",
		"suspend herbarium", "survey --json", "format herbarium ext4 --lose=herbarium --commit", "suspended", "resume herbarium", "survey --json",
	)})[4].Said
	for i, said := range said[:len(prepare)] {
		if strings.Contains(said, "exit status") {
			t.Fatalf("command %d: %s", i, said)
		}
	}
	said = said[len(prepare):]
	var kernel seen
	if err := json.Unmarshal([]byte(said[0]), &kernel); err != nil {
		t.Fatal(err, said[0])
	}
	compared := sameFigures(t, kernel, surveyed(t, said[1]))
	fmt.Printf("kernel proof: %d figures of disks, partitions, mounts and swaps are those of sysfs, procfs and statfs\n", compared)
	for _, d := range surveyed(t, said[3]) {
		switch {
		case d.Name == "dm-0" && (!d.Silent || !strings.Contains(d.Problem, "did not answer within "+patience)):
			t.Errorf("a device that answers nothing: %+v", d)
		case d.Name == "ubda1" && (d.Silent || len(d.Contents) != 1):
			t.Errorf("its neighbour: %+v", d)
		}
	}
	// It answered nothing before the survey and the format ended: neither waited for it.
	if said[2] != "1" || said[5] != "1" || !strings.Contains(said[4], "did not answer within "+patience) {
		t.Errorf("suspended %s before, %s after a survey and a format: %s", said[2], said[5], said[4])
	}
	again := surveyed(t, said[7])
	if i := slices.IndexFunc(again, func(d device) bool { return d.Name == "dm-0" }); i < 0 || again[i].Silent || len(again[i].Contents) != 1 {
		t.Errorf("when it answers again: %+v", again)
	}
}

// sameFigures counts what was compared.
func sameFigures(t *testing.T, kernel seen, list []device) (n int) {
	t.Helper()
	same := func(of, name string, got any, want string) {
		n++
		if want == "" {
			want = "0"
		}
		if fmt.Sprint(got) != want {
			t.Errorf("%s: %s is %v, the kernel says %s", of, name, got, want)
		}
	}
	flag := map[bool]string{true: "1", false: "0"}
	numbers := map[string]string{}
	for _, d := range list {
		k, ok := kernel.Disks[d.Name]
		if d.Parent != "" {
			k, ok = kernel.Partitions[d.Name]
			same(d.Name, "start", d.Start/512, k["start"])
		} else {
			for name, got := range map[string]any{"queue/logical_block_size": d.Logical, "queue/physical_block_size": d.Physical, "queue/minimum_io_size": d.MinIO, "queue/optimal_io_size": d.OptIO,
				"alignment_offset": d.Offset, "queue/rotational": flag[d.Rotational], "removable": flag[d.Removable], "ro": flag[d.ReadOnly], "queue/write_cache": strings.ReplaceAll(d.Cache, "-", " ")} {
				same(d.Name, name, got, k[name])
			}
			if k["queue/discard_max_bytes"] != "0" {
				same(d.Name, "discard", d.Discard, k["queue/discard_granularity"])
			}
			if k["loop/backing_file"] != "" {
				same(d.Name, "backing file", d.Backing, k["loop/backing_file"])
			}
		}
		if !ok {
			t.Errorf("%s: the kernel has none", d.Name)
		}
		same(d.Name, "size", d.Size/512, k["size"])
		numbers[k["dev"]] = d.Name
		for _, u := range d.Uses {
			if m := kernel.Mounts[u.Where]; u.How == "mounted" && len(m) == 6 {
				for i, got := range []any{u.Total, u.Free, u.Files, u.Left, u.Options} {
					same(d.Name+" at "+u.Where, fmt.Sprint("mount figure ", i), got, m[i+1])
				}
			}
			if u.How == "swap" {
				same(d.Name, "swap", fmt.Sprintf("/dev/%s partition %d %d %d", d.Name, u.Total>>10, (u.Total-u.Free)>>10, u.Priority), kernel.Swaps[len(kernel.Swaps)-1])
			}
		}
	}
	for where, m := range kernel.Mounts { // every mount of a disk is reported, the bound one too
		i := slices.IndexFunc(list, func(d device) bool { return d.Name == numbers[m[0]] })
		if i >= 0 && !strings.Contains(fmt.Sprint(list[i].Uses), "mounted "+where+" ") {
			t.Errorf("the mount of %s at %s is not reported: %+v", list[i].Name, where, list[i].Uses)
		}
	}
	for name, k := range kernel.Disks {
		if k["size"] != "0" && k["size"] != "" && !slices.ContainsFunc(list, func(d device) bool { return d.Name == name }) {
			t.Errorf("%s is not listed", name)
		}
	}
	return n
}
