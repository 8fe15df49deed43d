package live

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"fundus/core/inventory"
	"fundus/internal/machine"
)

// A disk that hangs can hold a process that reads it so that not even a signal
// ends it. So nothing here reads a suspect disk before a child of the same program
// has read its first bytes. Whichever disk has not answered when the patience is
// at its end is late: it is listed and not read, and the child, if it cannot be
// ended, is left behind. A disk that nothing speaks against is read at once, and
// is late as well when that takes longer.

// firstReader is the child's name for itself, in place of the program's.
const firstReader = "fundus: first read"

// patience knows which disks have answered.
type patience struct {
	wait time.Duration
	mu   sync.Mutex
	late map[string]bool // by the path of the node; absent: not yet asked
}

func newPatience(wait time.Duration) *patience {
	return &patience{wait: wait, late: map[string]bool{}}
}

// ask has the child read those disks that were not asked yet, all at once.
func (p *patience) ask(ctx context.Context, disks []listed) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var paths []string
	for _, d := range disks {
		if _, known := p.late[d.node.Path]; !known && d.suspect() {
			paths = append(paths, d.node.Path)
		}
	}
	if p.wait <= 0 || len(paths) == 0 {
		return
	}
	answered, err := firstRead(ctx, paths, p.wait)
	for i, path := range paths {
		p.late[path] = err == nil && !answered[i] // without a child nobody is suspected
	}
}

// suspect reports whether it is better not to read the disk oneself: it has
// requests that are not answered yet, was never read since it came, can be pulled
// out, is suspended, or its driver says that it does not run.
//
// Source: Documentation/ABI/stable/sysfs-block (inflight, stat: the first number
// counts the reads).
func (d listed) suspect() bool {
	h := d.node.Hardware
	if h.State == offline {
		return false // not even a child
	}
	var reads, writes, done int64
	open, err := fmt.Sscan(attribute(d.dir, "inflight"), &reads, &writes)
	_, errDone := fmt.Sscan(attribute(d.dir, "stat"), &done)
	return open != 2 || err != nil || errDone != nil || reads > 0 || writes > 0 || done == 0 || h.HotPlug || h.State != "" ||
		attribute(d.dir, "dm/suspended") == "1"
}

// lookAt scans the disk, and gives up where that takes too long.
func (m *Machine) lookAt(d listed) []inventory.Node {
	if m.patience.wait <= 0 {
		return m.scan(d)
	}
	found := make(chan []inventory.Node, 1)
	go func() { found <- m.scan(d) }()
	select {
	case nodes := <-found:
		return nodes
	case <-time.After(m.patience.wait):
		m.patience.giveUp(d)
		d.node.Silent = true
		return d.unread(m.patience.check(d))
	}
}

func (p *patience) giveUp(d listed) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.late[d.node.Path] = true
}

// forget is for a disk that has come anew.
func (p *patience) forget(d listed) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.late, d.node.Path)
}

// check refuses a disk that is better not read.
func (p *patience) check(d listed) error {
	if d.node.Hardware.State == offline {
		return ErrOffline
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.late[d.node.Path] {
		return &machine.SilentError{Waited: p.wait}
	}
	return nil
}

// offline is how the SCSI layer calls a disk that it has given up.
const offline = "offline"

// ErrOffline is why a disk is not read.
var ErrOffline = errors.New("its driver calls it offline: nothing is read from it; check its cable and power")

// firstRead starts the child and collects which of the paths have answered, by
// their places in the list.
func firstRead(ctx context.Context, paths []string, wait time.Duration) ([]bool, error) {
	from, to, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer from.Close()
	// Of a session of its own and without the terminal, so that a child that is
	// left behind holds up nobody.
	child, err := os.StartProcess("/proc/self/exe", append([]string{firstReader}, paths...), &os.ProcAttr{
		Env: []string{"GOMAXPROCS=2"}, Files: []*os.File{nil, to, nil}, Sys: &syscall.SysProcAttr{Setsid: true}})
	to.Close()
	if err != nil {
		return nil, fmt.Errorf("starting a child that reads first: %w", err)
	}
	defer func() {
		_ = child.Kill() // it has ended, or is late
		go func() { _, _ = child.Wait() }()
	}()
	if err := from.SetReadDeadline(time.Now().Add(wait)); err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = from.SetReadDeadline(time.Now()) })
	defer stop()
	answered := make([]bool, len(paths))
	lines := bufio.NewScanner(from)
	for n := 0; n < len(paths) && lines.Scan(); n++ {
		var i int
		if _, err := fmt.Sscan(lines.Text(), &i); err != nil || i < 0 || i >= len(paths) {
			return nil, fmt.Errorf("the child that reads first says %q", lines.Text())
		}
		answered[i] = true
	}
	if err := lines.Err(); err == nil && slices.Contains(answered, false) {
		return nil, errors.New("the child that reads first ended early")
	}
	return answered, nil
}

// FirstRead is the child: if the words of the program's start say that it is
// one, it reads the first bytes of each disk, and prints the number of each that
// answered, with or without an error.
func FirstRead(words []string, out io.Writer) bool {
	if len(words) == 0 || words[0] != firstReader {
		return false
	}
	var wait sync.WaitGroup
	for i, path := range words[1:] {
		wait.Go(func() {
			if f, err := os.OpenFile(path, os.O_RDONLY, 0); err == nil {
				_, _ = f.ReadAt(make([]byte, 4096), 0)
				f.Close()
			}
			fmt.Fprintln(out, i)
		})
	}
	wait.Wait()
	return true
}
