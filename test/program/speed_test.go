package program

import (
	le "encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/kind"
	"fundus/test/amount"
)

const tib = int64(1) << 40

// timed is how long a command takes from start to finish.
func timed(t testing.TB, cmd *exec.Cmd) (time.Duration, *syscall.Rusage) {
	t.Helper()
	start := time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(start)
	if err != nil {
		t.Fatalf("%v: %v\n%s", cmd.Args, err, out)
	}
	return took, cmd.ProcessState.SysUsage().(*syscall.Rusage)
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

// BenchmarkStart: fundus version beside an empty static program.
func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "empty.go"), []byte("package main\n\nfunc main() {}\n"), 0o644); err != nil {
		b.Fatal(err)
	}
	empty := filepath.Join(dir, "empty")
	build(empty, filepath.Join(dir, "empty.go"))
	for b.Loop() {
		var ours, theirs []time.Duration
		for range 41 {
			took, _ := timed(b, exec.Command(binary, "version"))
			plain, _ := timed(b, exec.Command(empty))
			ours, theirs = append(ours, took), append(theirs, plain)
		}
		over := median(ours) - median(theirs)
		amount.Over(b, fmt.Sprintf("start: version %v, an empty program %v; milliseconds over it", median(ours), median(theirs)), float64(over)/float64(time.Millisecond), 10)
	}
}

// BenchmarkSearch: a search for lost partitions in 512 MiB of noise beside a plain
// sequential read of them.
func BenchmarkSearch(b *testing.B) {
	dir := b.TempDir()
	if _, err := os.Stat("/dev/shm"); err == nil {
		if dir, err = os.MkdirTemp("/dev/shm", "fundus-search-"); err != nil {
			b.Fatal(err)
		}
		defer os.RemoveAll(dir)
	}
	image := filepath.Join(dir, "lost.img")
	f, err := os.Create(image)
	if err != nil {
		b.Fatal(err)
	}
	noise, rng := make([]byte, 1<<20), rand.New(rand.NewPCG(3, 3)) // a piece at a time: what this process holds counts for its children too
	for range 512 {
		for i := 0; i < len(noise); i += 8 {
			le.LittleEndian.PutUint64(noise[i:], rng.Uint64())
		}
		if _, err := f.Write(noise); err != nil {
			b.Fatal(err)
		}
	}
	if err := f.Close(); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		var ours, plain []time.Duration
		for range 9 {
			took, _ := timed(b, exec.Command(binary, "table", "repair", image, "--search"))
			ours = append(ours, took)
			plain = append(plain, readThrough(b, image))
		}
		amount.Figure(b, "search of 512 MiB, a plain read", median(ours), median(plain), 1.25)
	}
}

// readThrough reads the file as a program would that does nothing else.
func readThrough(t testing.TB, path string) time.Duration {
	t.Helper()
	start := time.Now()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	buf := make([]byte, 4<<20)
	for {
		if _, err := f.Read(buf); err == io.EOF {
			return time.Since(start)
		} else if err != nil {
			t.Fatal(err)
		}
	}
}

// TestMemoryOfAFormat: a sparse image of 1 TiB is formatted within 128 MiB of memory.
func TestMemoryOfAFormat(t *testing.T) {
	_, _, peak, _ := formatted(t, t.TempDir(), "ext4", 0)
	fmt.Printf("format of 1 TiB: peak memory %d MiB (limit 128)\n", peak>>20)
	if peak > 128<<20 {
		t.Errorf("peak memory %d bytes", peak)
	}
}

// formatted formats a sparse image of 1 TiB, and says how long it took, which image it
// is, how much memory it needed, and how many bytes its deed has.
func formatted(t testing.TB, dir, word string, round int) (took time.Duration, image string, peak, images int64) {
	t.Helper()
	image = filepath.Join(dir, fmt.Sprintf("archive%d.img", round))
	if err := file.Create(image, tib); err != nil {
		t.Fatal(err)
	}
	state := filepath.Join(dir, fmt.Sprintf("state%d", round))
	took, usage := timed(t, exec.Command(binary, "format", image, word, "--label", "archive", "--commit", "--quiet", "--state", state))
	return took, image, usage.Maxrss << 10, imageBytes(t, state)
}

// BenchmarkFormatOfOneTiB: each kind beside the same I/O done plainly, in turns. Formatting as swap
// writes next to nothing: what it takes is the start of the program and a deed's record, which is
// added to the plain I/O of the others, since no format does without.
func BenchmarkFormatOfOneTiB(b *testing.B) {
	for _, word := range kind.Words() {
		if word == "ext2" || word == "ext3" { // see BenchmarkFullTables
			continue
		}
		b.Run(word, func(b *testing.B) {
			for b.Loop() {
				dir := b.TempDir()
				var ours, plain []time.Duration
				for round := range 9 {
					took, _, _, images := formatted(b, dir, word, round)
					ours = append(ours, took)
					start := time.Duration(0)
					if word != "swap" {
						start = started(b, dir, round)
					}
					plain = append(plain, start+baseline(b, word, "", tib, filepath.Join(dir, fmt.Sprintf("plain%d.img", round)), images))
				}
				limit := 1.25
				if word == "swap" {
					limit = 20
				}
				amount.Figure(b, "format of 1 TiB as "+word+", the same I/O plainly", median(ours), median(plain), limit)
			}
		})
	}
}

// started is how long a format takes that writes next to nothing.
func started(b *testing.B, dir string, round int) time.Duration {
	b.Helper()
	image := filepath.Join(dir, fmt.Sprintf("start%d.img", round))
	if err := file.Create(image, tib); err != nil {
		b.Fatal(err)
	}
	took, _ := timed(b, exec.Command(binary, "format", image, "swap", "--commit", "--quiet", "--state", filepath.Join(dir, fmt.Sprintf("startstate%d", round))))
	return took
}

// BenchmarkFullTables: file systems whose tables are written whole, on 64 GiB that are new, beside
// the same I/O done plainly: what is zeros is a hole there too.
func BenchmarkFullTables(b *testing.B) {
	const size = 64 << 30
	for _, words := range []string{"ext4 tables=full", "ext2", "ext3"} {
		b.Run(words, func(b *testing.B) {
			for b.Loop() {
				dir := b.TempDir()
				var ours, plain []time.Duration
				for round := range 5 {
					image := filepath.Join(dir, fmt.Sprintf("archive%d.img", round))
					if err := file.Create(image, size); err != nil {
						b.Fatal(err)
					}
					command, state := append([]string{"format", image}, strings.Fields(words)...), filepath.Join(dir, fmt.Sprintf("state%d", round))
					took, _ := timed(b, exec.Command(binary, append(command, "--commit", "--quiet", "--state", state)...))
					ours = append(ours, took)
					word, setting, _ := strings.Cut(words, " ")
					plain = append(plain, started(b, dir, round)+baseline(b, word, setting, size, filepath.Join(dir, fmt.Sprintf("plain%d.img", round)), imageBytes(b, state)))
				}
				amount.Figure(b, words+" of 64 GiB, the same I/O plainly", median(ours), median(plain), 1.3)
			}
		})
	}
}

// imageBytes is how much the deed stored.
func imageBytes(t testing.TB, state string) (n int64) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(state, "deeds", "*", "*"))
	if err != nil || len(found) == 0 {
		t.Fatal(found, err)
	}
	for _, f := range found {
		info, err := os.Stat(f)
		if err != nil {
			t.Fatal(err)
		}
		n += info.Size()
	}
	return n
}

// baseline does what a commit of the format must do, and nothing else: reads the former bytes,
// writes as many bytes of images in two synced files, writes the fence, the file system and its
// superblock with a sync behind each, and reads all of it back past the cache. What is zeros it
// makes a hole, in pieces of the same size as a deed's.
func baseline(t testing.TB, word, setting string, size int64, image string, images int64) time.Duration {
	t.Helper()
	made := block.NewMemory(size, block.DefaultGeometry)
	m, err := kind.FindMaker(word)
	if err != nil {
		t.Fatal(err)
	}
	order := fs.Order{Label: "archive", ID: m.ID.Fresh(uuid.New()), Time: time.Now(), Fresh: uuid.New}
	if key, value, is := strings.Cut(setting, "="); is {
		order.Wishes = fs.Wishes{key: {Word: value, By: fs.ByRequest}}
	}
	if _, err := m.Make(t.Context(), made, order); err != nil {
		t.Fatal(err)
	}
	if err := file.Create(image, size); err != nil {
		t.Fatal(err)
	}
	start := time.Now()
	dev, err := file.Open(image, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	for i, n := range []int64{images / 2, images - images/2} { // after and before
		writeSynced(t, fmt.Sprintf("%s.%d", image, i), n)
	}
	const most, piece = 1 << 20, 64 << 10 // written together; looked at for zeros
	buf := make([]byte, most)
	put := func(view io.ReaderAt, off, n int64) {
		p := buf[:n]
		if err := block.ReadFull(view, p, off); err != nil {
			t.Fatal(err)
		}
		for len(p) > 0 {
			zero := block.IsZero(p[:min(piece, len(p))])
			k := min(piece, len(p))
			for k < len(p) && block.IsZero(p[k:min(k+piece, len(p))]) == zero {
				k = min(k+piece, len(p))
			}
			var err error
			if zero {
				err = dev.WriteZeroes(off, int64(k))
			} else {
				_, err = dev.WriteAt(p[:k], off)
			}
			if err != nil {
				t.Fatal(err)
			}
			if !zero {
				readBack(t, dev, block.Extent{Off: off, Len: int64(k)})
			}
			p, off = p[k:], off+int64(k)
		}
	}
	write := func(view io.ReaderAt, extents []block.Extent) {
		for _, e := range extents {
			for at := e.Off; at < e.Off+e.Len; { // what was there before
				_, end, hole, err := dev.Next(at)
				end = min(end, e.Off+e.Len)
				if !hole && err == nil {
					end = min(end, at+most)
					err = block.ReadFull(dev, buf[:end-at], at)
				}
				if err != nil {
					t.Fatal(err)
				}
				at = end
			}
			if e.Zero {
				if err := dev.WriteZeroes(e.Off, e.Len); err != nil {
					t.Fatal(err)
				}
				continue
			}
			for at := int64(0); at < e.Len; at += most {
				put(view, e.Off+at, min(most, e.Len-at))
			}
		}
		if err := dev.Sync(); err != nil {
			t.Fatal(err)
		}
	}
	last := made.Phases()
	write(made.After(last), made.Phase(last - 1)[:1]) // in place of the fence
	for i := range last {
		write(made.After(i+1), made.Phase(i))
	}
	return time.Since(start)
}

func writeSynced(t testing.TB, path string, n int64) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.Write(make([]byte, n)); err != nil {
		t.Fatal(err)
	}
	if err := f.Sync(); err != nil {
		t.Fatal(err)
	}
}

func readBack(t testing.TB, dev *file.File, e block.Extent) {
	t.Helper()
	start := e.Off / 4096 * 4096
	end := (e.Off + e.Len + 4095) / 4096 * 4096
	buf := file.AlignedBuffer(int(end - start))
	if _, err := dev.ReadBack(buf, start); err != nil {
		t.Fatal(err)
	}
}

// BenchmarkFormat formats 20 GiB as the built program does.
func BenchmarkFormat(b *testing.B) {
	dir := b.TempDir()
	image := filepath.Join(dir, "card.img")
	if err := file.Create(image, 20<<30); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		timed(b, exec.Command(binary, "format", image, "ext4", "--label", "a", "--commit", "--quiet", "--state", filepath.Join(dir, "state")))
		b.StopTimer()
		timed(b, exec.Command(binary, "undo", "--commit", "--quiet", "--state", filepath.Join(dir, "state")))
		b.StartTimer()
	}
}
