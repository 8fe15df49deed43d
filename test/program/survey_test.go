package program

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"fundus/test/amount"
)

const manyDisks, manyParts = 500, 4

// many makes a bench of many disks, each with a table and partitions that hold
// ext4: one is made by the program, the others are copies of its few bytes.
func many(t testing.TB) (dir string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "fernhill")
	run := func(words ...string) { timed(t, exec.Command(binary, append(words, "--bench", dir)...)) }
	timed(t, exec.Command(binary, "bench", "new", dir, "--host", "fernhill"))
	run("bench", "disk", "add", "sdb", "--size", "64MiB", "--serial", "LS-20417")
	run("table", "new", "sdb", "--commit")
	for n := range manyParts {
		run("partition", "add", "sdb", "--size", "12MiB", "--commit")
		run("format", fmt.Sprintf("sdb%d", n+1), "ext4", "--commit")
	}
	text, err := os.ReadFile(filepath.Join(dir, "bench.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	entry := string(text[strings.Index(string(text), "    - name: sdb"):])
	all := string(text)
	image, err := os.ReadFile(filepath.Join(dir, "disks", "sdb.img"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range manyDisks - 1 {
		name := fmt.Sprintf("sd%c%c%c", 'c'+i/676, 'a'+i/26%26, 'a'+i%26)
		all += strings.ReplaceAll(entry, "sdb", name)
		sparse(t, filepath.Join(dir, "disks", name+".img"), image)
	}
	if err := os.WriteFile(filepath.Join(dir, "bench.yaml"), []byte(all), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

// sparse writes the blocks that are not zeros.
func sparse(t testing.TB, path string, data []byte) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(int64(len(data))); err != nil {
		t.Fatal(err)
	}
	zeros := make([]byte, 4096)
	for at := 0; at < len(data); at += len(zeros) {
		if string(data[at:at+len(zeros)]) == string(zeros) {
			continue
		}
		if _, err := f.WriteAt(data[at:at+len(zeros)], int64(at)); err != nil {
			t.Fatal(err)
		}
	}
}

// plainRead reads the same bytes of the same images, several at a time: the ends
// of each disk and of each partition.
func plainRead(t testing.TB, dir string) time.Duration {
	t.Helper()
	const head, tail, mib = 68 << 10, 20 << 10, 1 << 20
	images, err := filepath.Glob(filepath.Join(dir, "disks", "sd[b-z]*.img"))
	if err != nil || len(images) != manyDisks {
		t.Fatalf("%d images: %v", len(images), err)
	}
	start := time.Now()
	work := make(chan string)
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			buf := make([]byte, head)
			for path := range work {
				f, err := os.Open(path)
				if err != nil {
					t.Error(err)
					continue
				}
				for _, at := range []int64{0, mib, 13 * mib, 25 * mib, 37 * mib} {
					_, errHead := f.ReadAt(buf, at)
					_, errTail := f.ReadAt(buf[:tail], at+12*mib-tail)
					if errHead != nil || errTail != nil {
						t.Error(errHead, errTail)
					}
				}
				f.Close()
			}
		})
	}
	for _, path := range images {
		work <- path
	}
	close(work)
	wait.Wait()
	return time.Since(start)
}

// TestSurveyOfManyDisks: 500 disks with four partitions each are all there, within
// 150 MiB of memory.
func TestSurveyOfManyDisks(t *testing.T) {
	dir := many(t)
	_, usage := timed(t, exec.Command(binary, "survey", "--bench", dir, "--quiet"))
	out, err := exec.Command(binary, "survey", "--bench", dir, "--json").Output()
	var doc struct{ Devices []struct{ Form string } }
	if err != nil || json.Unmarshal(out, &doc) != nil || len(doc.Devices) != manyDisks*(manyParts+1)+3 {
		t.Fatalf("%d devices, %v", len(doc.Devices), err)
	}
	fmt.Printf("survey: %d disks with %d partitions each, peak %d MiB (limit 150)\n", manyDisks, manyParts, peak(usage))
	if peak(usage) > 150 {
		t.Errorf("%d MiB", peak(usage))
	}
	rehearsed(t, dir)
}

// rehearsed: the next boot of the same machine with two thousand lines is worked through with
// less than twice the reads of a survey, and each line has its result.
func rehearsed(t *testing.T, dir string) {
	t.Helper()
	const lines = 2000
	table := ""
	for i := range lines {
		disk := fmt.Sprintf("sd%c%c%c", 'c'+i/4%497/676, 'a'+i/4%497/26%26, 'a'+i/4%497%26)
		table += []string{
			fmt.Sprintf("/dev/%s%d /srv/%d ext4 nofail 0 2\n", disk, i%manyParts+1, i),
			fmt.Sprintf("LABEL=gone%d /srv/%d/a ext4 nofail,x-systemd.automount 0 0\n", i, i-1),
			fmt.Sprintf("PARTUUID=5eed5eed-0000-4000-8000-%012d none swap sw,noauto 0 0\n", i),
		}[i%3]
	}
	path := filepath.Join(t.TempDir(), "table")
	if err := os.WriteFile(path, []byte(table), 0o644); err != nil {
		t.Fatal(err)
	}
	plain, _ := readsOf(t, exec.Command(binary, "survey", "--bench", dir, "--quiet"))
	reads, said := readsOf(t, exec.Command(binary, "rehearse", "--bench", dir, "--json", "--fstab", path))
	var doc struct{ Lines []struct{ Outcome string } }
	if err := json.Unmarshal(said, &doc); err != nil || len(doc.Lines) != lines {
		t.Fatalf("%d lines, %v: %.300s", len(doc.Lines), err, said)
	}
	count := map[string]int{}
	for _, l := range doc.Lines {
		count[l.Outcome]++
	}
	fmt.Printf("rehearsal: %d lines on %d disks in %d reads, a survey has %d: %v\n", lines, manyDisks, reads, plain, count)
	if reads >= 2*plain || plain < manyDisks {
		t.Errorf("%d reads, a survey has %d", reads, plain)
	}
}

// readsOf runs a command and counts its calls that read.
func readsOf(t *testing.T, cmd *exec.Cmd) (calls int, said []byte) {
	t.Helper()
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	// Opened while it runs: of one that has ended it is root's.
	counts, err := os.Open(fmt.Sprintf("/proc/%d/io", cmd.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	defer counts.Close()
	// It has ended, and is not forgotten yet: then its count is whole.
	if err := unix.Waitid(unix.P_PID, cmd.Process.Pid, nil, unix.WEXITED|unix.WNOWAIT, nil); err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(counts)
	_ = cmd.Wait() // findings have an exit code of their own
	_, after, found := strings.Cut(string(text), "syscr: ")
	if _, errCount := fmt.Sscan(after, &calls); err != nil || errCount != nil || !found {
		t.Fatalf("reads of %v: %v, %q", cmd.Args, err, text)
	}
	return calls, out.Bytes()
}

// BenchmarkSurveyOfManyDisks: the survey beside plain reads of the same bytes, which are
// in memory; and verify beside the survey, with two thousand lines of text files that
// name nothing.
func BenchmarkSurveyOfManyDisks(b *testing.B) {
	dir := many(b)
	plainRead(b, dir) // so that both find the bytes in memory
	for b.Loop() {
		plain := plainRead(b, dir)
		took, _ := timed(b, exec.Command(binary, "survey", "--bench", dir, "--quiet"))
		amount.Figure(b, "survey of 500 disks, the plain reads from memory", took, plain, 20)
	}
	manyLines(b, dir)
	best := map[string]time.Duration{}
	for range 3 {
		for _, look := range []string{"survey", "verify"} {
			began := time.Now()
			out, err := exec.Command(binary, look, "--bench", dir).Output()
			var exit *exec.ExitError
			if err != nil && (!errors.As(err, &exit) || exit.ExitCode() != 4) || len(out) == 0 {
				b.Fatalf("%s: %v", look, err)
			}
			if took := time.Since(began); best[look] == 0 || took < best[look] {
				best[look] = took
			}
		}
	}
	amount.Figure(b, "verify beside 2000 lines that name nothing, its survey", best["verify"], best["survey"], 1.5)
}

// manyLines adds two thousand lines to text files of the bench.
func manyLines(t testing.TB, dir string) {
	t.Helper()
	var table, menu strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&table, "UUID=5eed5eed-0000-4000-8000-%012d /srv/n%d ext4 nofail 0 2\n", i, i)
		fmt.Fprintf(&menu, "linux /vmlinuz root=UUID=5eed5eed-0000-4000-8001-%012d ro\n", i)
	}
	for path, text := range map[string]string{"etc/fstab": table.String(), "boot/grub/grub.cfg": menu.String()} {
		path = filepath.Join(dir, "root", path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Close()); err != nil {
			t.Fatal(err)
		}
	}
}

func peak(usage *syscall.Rusage) int64 { return usage.Maxrss >> 10 }
