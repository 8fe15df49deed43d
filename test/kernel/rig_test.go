//go:build proof

package kernel

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fundus/test/amount"
	"fundus/test/watch"
)

// stoodStill begins what is said of a guest that was ended: whoever runs the proofs may
// run this one once more, since a kernel that is a process now and then waits for a tick
// of the clock that does not come.
const stoodStill = "the guest stood still and was ended"

// console collects what a guest says; each line is a sign of life.
type console struct {
	sync.Mutex
	bytes.Buffer
	patience watch.Patience
}

func (c *console) Write(p []byte) (int, error) {
	c.Lock()
	defer c.Unlock()
	if bytes.ContainsRune(p, '\n') {
		c.patience.Line()
	}
	return c.Buffer.Write(p)
}

// take looks at the guest's processes; the words say how it spent its patience.
func (c *console) take(pid int) (out string) {
	s := watch.Look(pid)
	c.Lock()
	defer c.Unlock()
	return c.patience.Take(s)
}

// last are the last lines that it said.
func (c *console) last() string {
	c.Lock()
	defer c.Unlock()
	lines := strings.Split(strings.TrimSpace(c.String()), "\n")
	return strings.Join(lines[max(0, len(lines)-12):], "\n")
}

// watched runs the guest to its end, or ends it where it stands still.
func (j *judge) watched(t *testing.T, s start) ([]byte, error) {
	t.Helper()
	out, stood, err := j.watch(t, s, watch.Usual)
	if stood != "" {
		t.Fatal(stood)
	}
	return out, err
}

// watch also says how a guest stood still that was ended for it: which coin it spent, what
// its programs were doing, and its last lines.
func (j *judge) watch(t *testing.T, s start, coins watch.Coins) (out []byte, stood string, err error) {
	t.Helper()
	dir := j.directory(t, "fundus-um-")
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s.boot = append(s.boot, "uml_dir="+dir+"/", "umid=guest")
	c := &console{patience: watch.Patience{Coins: coins}}
	cmd := j.machine(ctx, t, s)
	cmd.Stdout, cmd.Stderr = c, c
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	if s.meanwhile != nil {
		go s.meanwhile(ctx, cmd.Process.Pid)
	} else if os.Getenv(stops) != "" {
		go hindered(ctx, cmd.Process.Pid)
	}
	go roused(ctx, cmd.Process.Pid)
	ticker := time.NewTicker(coins.Idle / 100)
	defer ticker.Stop()
	for {
		select {
		case err := <-ended:
			return c.Bytes(), "", err
		case <-ticker.C:
		}
		if spent := c.take(cmd.Process.Pid); spent != "" {
			last, tasks := c.last(), watch.Tasks(dir+"/guest", dir)
			cancel()
			<-ended
			return c.Bytes(), fmt.Sprintf("%s: %s\nits programs:\n%s\nits last lines:\n%s", stoodStill, spent, strings.Join(tasks, "\n"), last), nil
		}
	}
}

// roused wakes a guest whose clock has stopped. Now and then, on a machine with much to do, its
// kernel loses the signal of its only timer: from then on it goes round in its idle loop, which
// waits for a timer that nobody sets any more, and spends a processor on it. It is known by that:
// computing without once giving its processor up. The signal once more sets everything going
// again, and is a tick too many for a kernel that did compute.
//
// Source: os_idle_sleep in arch/um/os-Linux/time.c of Linux 6.1.
func roused(ctx context.Context, guest int) {
	const looks = 10
	still, last := 0, 0
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		gave, running := givenUp(guest)
		if still++; !running || gave != last {
			still, last = 0, gave
		}
		if still == looks {
			still = 0
			_ = syscall.Kill(guest, syscall.SIGALRM)
		}
	}
}

// givenUp is how often a process gave its processor up by itself, and whether it computes now.
func givenUp(process int) (times int, running bool) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", process))
	if err != nil {
		return 0, false
	}
	for line := range strings.Lines(string(text)) {
		if value, is := strings.CutPrefix(line, "voluntary_ctxt_switches:"); is {
			times, _ = strconv.Atoi(strings.TrimSpace(value))
		}
		running = running || strings.HasPrefix(line, "State:\tR")
	}
	return times, running
}

// stops is the environment variable that has guests stopped and continued at random, as on
// a machine that is halted again and again.
const stops = "FUNDUS_TEST_STOPS"

// hindered stops the guest's kernel for at most two seconds at a time, a third of the time.
func hindered(ctx context.Context, pid int) {
	rng := rand.New(rand.NewPCG(amount.Seed(), uint64(pid)))
	for {
		stop := time.Duration(rng.Int64N(int64(2 * time.Second)))
		for _, phase := range []struct {
			signal syscall.Signal
			span   time.Duration
		}{{syscall.SIGCONT, 2 * stop}, {syscall.SIGSTOP, stop}} {
			_ = syscall.Kill(pid, phase.signal)
			select {
			case <-ctx.Done():
				_ = syscall.Kill(pid, syscall.SIGCONT)
				return
			case <-time.After(phase.span):
			}
		}
	}
}

// directory is one that is gone with the test.
func (j *judge) directory(t *testing.T, pattern string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", pattern)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// proveEnded: a guest that waits for a lock for ever, and one that loops without a word,
// are ended and named, with what they were doing; one that is stopped for longer than its
// patience is not ended.
func proveEnded(t *testing.T, j *judge) {
	coins := watch.Coins{Idle: 2 * time.Second, Busy: 3 * time.Second}
	for _, c := range []struct {
		command string
		spent   string
		tasks   []string
	}{
		{"stuck ubda", "without anything to do", []string{"flock", "task "}},
		{"loop ubda", "of processor time", []string{"running: "}},
	} {
		_, stood, _ := j.watch(t, start{root: j.root(t), commands: []string{c.command}, images: []string{blank(t, 16<<20)}}, coins)
		for _, words := range append(c.tasks, stoodStill, c.spent, "AT command 1: "+strings.Fields(c.command)[0]) {
			if !strings.Contains(stood, words) {
				t.Errorf("%s: it is not said %q:\n%s", c.command, words, stood)
			}
		}
	}
	halt := func(ctx context.Context, pid int) {
		time.Sleep(time.Second)
		_ = syscall.Kill(pid, syscall.SIGSTOP)
		time.Sleep(3 * coins.Idle)
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}
	begun := time.Now()
	out, stood, err := j.watch(t, start{root: j.root(t), commands: []string{"count 20"}, images: []string{blank(t, 16<<20)}, meanwhile: halt}, coins)
	if stood != "" || !bytes.Contains(out, []byte("ANSWER")) || time.Since(begun) < 3*coins.Idle {
		t.Errorf("a guest that was stopped (%v): %s\n%s", err, stood, out)
	}
	fmt.Printf("kernel proof: guests that hang are ended and named, one that is halted is not: %v\n", !t.Failed())
}
