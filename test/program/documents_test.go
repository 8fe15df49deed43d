//go:build proof

package program

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestProofDocuments has a program that knows documents alone, in another language and with a
// validator that is not ours, take a new disk to a mounted and a grown one: once with all the
// changes, and again with none. Between the two the kernel's names of the disks are dealt anew.
func TestProofDocuments(t *testing.T) {
	schemas, err := filepath.Abs(filepath.Join("..", "..", "docs", "schema"))
	if err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"ext4", "xfs", "swap"} {
		t.Run(kind, func(t *testing.T) {
			dir := t.TempDir()
			bench := filepath.Join(dir, "fernhill")
			run := func(program string, words ...string) []byte {
				t.Helper()
				cmd := exec.Command(program, words...)
				cmd.Dir, cmd.Env = dir, append(os.Environ(), "FUNDUS_BENCH="+bench, "LANG=C.UTF-8")
				var beside strings.Builder
				cmd.Stderr = &beside
				out, err := cmd.Output()
				if err != nil {
					t.Fatalf("%s: %v\n%s\n%s", strings.Join(words, " "), err, out, beside.String())
				}
				return out
			}
			drive := func(grow ...string) (calls, changes int) {
				t.Helper()
				var sum struct{ Calls, Changes int }
				out := run("/usr/bin/python3", append([]string{driver(t), binary, schemas, "LS-20417", kind, "/srv/herbarium"}, grow...)...)
				if err := json.Unmarshal(out, &sum); err != nil {
					t.Fatal(err)
				}
				return sum.Calls, sum.Changes
			}
			run(binary, "bench", "new", bench, "--host", "fernhill")
			for _, d := range [][2]string{{"sdb", "LS-20417"}, {"sdc", "TA-7731"}, {"sdd", "LS-20418"}} {
				run(binary, "bench", "disk", "add", d[0], "--size", "8GiB", "--serial", d[1])
			}
			calls, changes := drive()
			if want := 5; changes != want { // table, partition, content, line, use
				t.Errorf("%d changes, want %d", changes, want)
			}
			names := dealt(t, bench)
			run(binary, "bench", "boot")
			again, none := drive()
			if none != 0 {
				t.Errorf("a second time: %d changes", none)
			}
			grown, more := 0, 0
			if kind != "xfs" { // which a bench makes larger neither mounted nor not
				grown, more = drive("grow")
				_, still := drive("grow")
				if more != 1 || still != 0 { // one draft, whatever layers it goes through
					t.Errorf("%d changes for a growth, then %d", more, still)
				}
			}
			fmt.Printf("documents: %s: %d commands with %d changes, %d with none as %s, %d with %d for the growth\n", kind, calls, changes, again, names, grown, more)
		})
	}
}

func driver(t *testing.T) string {
	t.Helper()
	path, err := filepath.Abs(filepath.Join("testdata", "drive.py"))
	if err != nil {
		t.Fatal(err)
	}
	return path
}

// dealt gives the disks of a bench each other's names, as a boot may.
func dealt(t *testing.T, bench string) string {
	t.Helper()
	path := filepath.Join(bench, "bench.yaml")
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	next := map[string]string{"sdb": "sdc", "sdc": "sdd", "sdd": "sdb"}
	text := regexp.MustCompile(`name: (sd[bcd])`).ReplaceAllStringFunc(string(data), func(s string) string { return "name: " + next[s[len("name: "):]] })
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return "sdb became sdc"
}
