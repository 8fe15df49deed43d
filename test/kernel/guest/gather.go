package main

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

const gatherBlock = 4096

// scattered is a file in many pieces, of which this process knows what it must hold.
type scattered struct {
	path     string
	file     *os.File
	mu       sync.Mutex
	versions []uint32 // of each block
}

// content is what a block must hold.
func (s *scattered) content(block int) []byte {
	out := make([]byte, gatherBlock)
	for i := 0; i < len(out); i += 8 {
		binary.LittleEndian.PutUint64(out[i:], uint64(block)<<32^uint64(s.versions[block])<<16^uint64(i))
	}
	copy(out, s.path)
	return out
}

// scatter makes N files of K blocks each, a block of one beside a block of the next.
func scatter(dir string, n, k int) (list []*scattered, err error) {
	for i := range n {
		s := &scattered{path: filepath.Join(dir, fmt.Sprintf("plate-%03d", i)), versions: make([]uint32, k)}
		if s.file, err = os.Create(s.path); err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	const beside = 20
	for from := 0; from < n; from += beside {
		for b := range k {
			for _, s := range list[from:min(n, from+beside)] {
				if err := unix.Fallocate(int(s.file.Fd()), 0, int64(b)*gatherBlock, gatherBlock); err != nil {
					return nil, err
				}
			}
		}
	}
	for _, s := range list {
		for b := range k {
			if _, err := s.file.WriteAt(s.content(b), int64(b)*gatherBlock); err != nil {
				return nil, err
			}
		}
		if err := s.file.Sync(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// rewrite writes to blocks at random until it is told to end: by calls, and through memory.
func (s *scattered) rewrite(end chan struct{}, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 1))
	seen, err := unix.Mmap(int(s.file.Fd()), 0, len(s.versions)*gatherBlock, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return err
	}
	defer unix.Munmap(seen)
	for n := 0; ; n++ {
		select {
		case <-end:
			return s.file.Sync()
		case <-time.After(time.Duration(1+r.IntN(8)) * time.Millisecond):
		}
		if n%200 == 199 { // long enough that a copy may begin
			time.Sleep(1200 * time.Millisecond)
		}
		s.mu.Lock()
		b := r.IntN(len(s.versions))
		s.versions[b]++
		if n%3 == 0 {
			copy(seen[b*gatherBlock:], s.content(b))
		} else if _, err = s.file.WriteAt(s.content(b), int64(b)*gatherBlock); err == nil && n%50 == 0 {
			err = s.file.Sync()
		}
		s.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

func (s *scattered) wrong() bool {
	data, err := os.ReadFile(s.path)
	if err != nil || len(data) != len(s.versions)*gatherBlock {
		return true
	}
	for b := range s.versions {
		if !bytes.Equal(data[b*gatherBlock:(b+1)*gatherBlock], s.content(b)) {
			return true
		}
	}
	return false
}

// pieces asks the kernel in how many runs a file lies.
func pieces(path string) (n int, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var ask struct {
		start, length             uint64
		flags, mapped, count, pad uint32
		list                      [400]struct {
			logical, physical, length uint64
			_                         [2]uint64
			flags                     uint32
			_                         [3]uint32
		}
	}
	ask.length, ask.flags, ask.count = ^uint64(0), 1, uint32(len(ask.list))
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), 0xC020660B, uintptr(unsafe.Pointer(&ask))); errno != 0 {
		return 0, errno
	}
	for i := range ask.mapped {
		if e := ask.list[i]; i == 0 || ask.list[i-1].physical+ask.list[i-1].length != e.physical {
			n++
		}
	}
	return n, nil
}

// raced writes to a file while it is put together, once at a moment in the middle of that, by a
// call or through memory, and so often. It gives how many files were taken all the same, and
// how many are wrong.
func raced(dir string, times int) (taken, wrong int, err error) {
	const chunk, chunks = 64, 100 // blocks
	took := 300 * time.Millisecond
	for n := range times + 1 {
		s := &scattered{path: filepath.Join(dir, "raced"), versions: make([]uint32, chunk*chunks)}
		other, errOther := os.Create(filepath.Join(dir, "between"))
		if s.file, err = os.Create(s.path); errors.Join(err, errOther) != nil {
			return 0, 0, errors.Join(err, errOther)
		}
		for c := range int64(chunks) {
			for _, f := range []*os.File{s.file, other} {
				err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, c*chunk*gatherBlock, chunk*gatherBlock))
			}
		}
		for b := range s.versions {
			_, errWrite := s.file.WriteAt(s.content(b), int64(b)*gatherBlock)
			err = errors.Join(err, errWrite)
		}
		seen, errMap := unix.Mmap(int(s.file.Fd()), 0, len(s.versions)*gatherBlock, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		if err = errors.Join(err, errMap, s.file.Sync()); err != nil {
			return 0, 0, err
		}
		progress("gather: race %d of %d", n, times)
		time.Sleep(1100 * time.Millisecond)
		c, began := exec.Command("/bin/fundus", "gather", dir), time.Now()
		if err := c.Start(); err != nil {
			return 0, 0, err
		}
		if n > 0 { // the first says how long it takes
			time.Sleep(took/2 + took/2*time.Duration(n)/time.Duration(times+1))
			b := n % 16 // what is copied first
			s.versions[b]++
			if n%2 == 0 {
				copy(seen[b*gatherBlock:], s.content(b))
			} else if _, err := s.file.WriteAt(s.content(b), int64(b)*gatherBlock); err != nil {
				return 0, 0, err
			}
		}
		err = c.Wait()
		if n == 0 {
			took = time.Since(began)
		}
		if now, errPieces := pieces(s.path); errPieces == nil && now < chunks/2 {
			taken++
		}
		if s.wrong() {
			wrong++
		}
		err = errors.Join(err, unix.Munmap(seen), s.file.Close(), other.Close(), os.Remove(s.path), os.Remove(other.Name()))
		if err != nil {
			return taken, wrong, err
		}
	}
	return taken, wrong, nil
}

// gathers is DEVICE TYPE FILES BLOCKS KILLS RACES: files in as many pieces as blocks are put
// together while ten are written; the program is ended by force so often, and then left to
// end. Every byte is compared, at once and after another mount.
func gathers(words []string) string {
	var n, k, kills, races int
	if _, err := fmt.Sscan(strings.Join(words[2:6], " "), &n, &k, &kills, &races); err != nil {
		return err.Error()
	}
	const dir = "/mnt"
	if err := unix.Mount("/dev/"+words[0], dir, words[1], 0, ""); err != nil {
		return err.Error()
	}
	list, err := scatter(dir, n, k)
	if err != nil {
		return err.Error()
	}
	before := piecesOf(list)
	time.Sleep(1100 * time.Millisecond)
	end, ended := make(chan struct{}), make(chan error, 10)
	for i := range 10 {
		go func() { ended <- list[i].rewrite(end, uint64(i)) }()
	}
	killed := 0
	for i := range kills {
		progress("gather: kill %d of %d", i+1, kills)
		c := exec.Command("/bin/fundus", "gather", dir)
		if err := c.Start(); err != nil {
			return err.Error()
		}
		time.Sleep(time.Duration(20+i*13%300) * time.Millisecond)
		_ = c.Process.Signal(syscall.SIGKILL)
		if c.Wait() != nil {
			killed++
		}
	}
	out, errRun := exec.Command("/bin/fundus", "gather", dir).CombinedOutput()
	close(end)
	for range 10 {
		errRun = errors.Join(errRun, <-ended)
	}
	time.Sleep(1100 * time.Millisecond)
	last, errLast := exec.Command("/bin/fundus", "gather", dir).CombinedOutput()
	wrong := wrongOf(list)
	for _, s := range list {
		s.file.Close()
	}
	taken, lost, errRace := raced(dir, races)
	wrong += lost
	errRun = errors.Join(errRun, errLast, errRace, unix.Unmount(dir, 0), unix.Mount("/dev/"+words[0], dir, words[1], 0, ""))
	wrong += wrongOf(list)
	after := piecesOf(list)
	scrubbed := scrubAll(words[0], words[1], list)
	names, _ := os.ReadDir(dir)
	errRun = errors.Join(errRun, unix.Unmount(dir, 0))
	return fmt.Sprintf("%d pieces became %d, wrong %d, killed %d, raced %d, names %d, scrub %s%s\n%s\n%s", before,
		after, wrong, killed, taken, len(names), scrubbed, fine(errRun), out, last)
}

func wrongOf(list []*scattered) (n int) {
	for _, s := range list {
		if s.wrong() {
			n++
		}
	}
	return n
}

func piecesOf(list []*scattered) (sum int) {
	for _, s := range list {
		n, err := pieces(s.path)
		if err != nil {
			return -1
		}
		sum += n
	}
	return sum
}

// scrubAll has the kernel go through all that there is, where it does that.
func scrubAll(device, typ string, list []*scattered) string {
	if typ != "xfs" {
		return "none"
	}
	x := newXFSProof(device)
	x.scrub()
	for _, s := range list {
		for kind := uint32(11); kind <= 14 && !x.lacking; kind++ {
			x.check(fmt.Sprintf("scrub of %d at %s", kind, s.path), x.scrubbed(s.path, kind, 0))
		}
	}
	if x.lacking {
		return "lacking"
	}
	return fmt.Sprint(x.wrong)
}
