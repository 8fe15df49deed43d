package watch

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestPatience: what is spent, in which coin, and what takes from none.
func TestPatience(t *testing.T) {
	second := time.Second
	for _, c := range []struct {
		name  string
		each  func(n int, p *Process) // what a second brings
		span  time.Duration
		lines int // one each so many seconds; 0 for none
		after int // seconds, when patience is out; 0 for never
		words string
	}{
		{"waits for ever", func(int, *Process) {}, second, 0, 11, "without anything to do, a line"},
		{"loops", func(_ int, p *Process) { p.Ran += second }, second, 0, 21, "of processor time without a line or"},
		{"loops on half a processor", func(_ int, p *Process) { p.Ran += second / 2; p.Waited += second / 2 }, second, 0, 41, "of processor time"},
		{"gets no processor", func(_ int, p *Process) { p.Waited += second }, second, 0, 0, ""},
		{"is stopped", func(_ int, p *Process) { p.Stopped = true }, second, 0, 0, ""},
		{"is sampled late", func(int, *Process) {}, time.Hour, 0, 4, "without anything to do"},
		{"asks its disks", func(n int, p *Process) { p.Calls += uint64(n % 2) }, second, 0, 61, "though with requests"},
		{"computes and asks its disks", func(_ int, p *Process) { p.Ran += second; p.Calls++ }, second, 0, 121, "though with requests"},
		{"says a line", func(int, *Process) {}, second, 9, 0, ""},
		{"has few lines", func(int, *Process) {}, second, 30, 11, "without anything to do"},
	} {
		p := Patience{Coins: Coins{Idle: 10 * second, Busy: 20 * second}}
		at, process, out, n := time.Unix(1, 0), Process{}, "", 0
		for ; out == "" && n < 500; n++ {
			out = p.Take(Sample{at, map[int]Process{7: process}})
			if c.lines > 0 && n%c.lines == 0 {
				p.Line()
			}
			c.each(n, &process)
			at = at.Add(c.span)
		}
		if got := n - 1; out != "" && got != c.after || out == "" && c.after > 0 || !strings.Contains(out, c.words) {
			t.Errorf("%s: after %d s %q, want after %d s %q", c.name, got, out, c.after, c.words)
		}
	}
}

// TestLook: a process is seen with what it began, its work, and that it is stopped.
func TestLook(t *testing.T) {
	cmd := exec.Command("/bin/sh", "-c", "sleep 600 & i=0; while [ $i -lt 20000 ]; do i=$((i+1)); done; echo; wait")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL); _ = cmd.Wait() }()
	if _, err := out.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	s := Look(cmd.Process.Pid)
	own := s.Processes[cmd.Process.Pid]
	if len(s.Processes) != 2 || own.Ran == 0 || own.Calls == 0 || own.Stopped {
		t.Errorf("Look = %+v", s)
	}
	if err := syscall.Kill(cmd.Process.Pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	for !Look(cmd.Process.Pid).Processes[cmd.Process.Pid].Stopped {
		time.Sleep(time.Millisecond)
	}
}
