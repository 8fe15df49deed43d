package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"fundus/test/watch"
)

// job is one program of tests to be run.
type job struct {
	name string
	compiled
	words []string // for the program
	env   []string
}

// event is a line of what test2json makes of a test's output.
type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

// ended is how a job ended.
type ended struct {
	failed bool
	still  string // how it stood still
	usage
}

// usage is what a job cost.
type usage struct {
	took         time.Duration
	user, system time.Duration
}

func (u usage) processor() time.Duration { return u.user + u.system }

// coins are those of a program on this machine: longer than those of a guest, which ends
// first where both stand still.
var coins = watch.Coins{Idle: 2 * watch.Usual.Idle, Busy: 2 * watch.Usual.Busy}

// run runs the job, and hands each event to take.
func (p *place) run(j job, take func(event)) (e ended, err error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	cmd := exec.CommandContext(ctx, j.program, append([]string{"-test.v=test2json", "-test.paniconexit0", "-test.timeout=0"}, j.words...)...)
	cmd.Dir, cmd.Env = j.dir, append(p.env, j.env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 5 * time.Second
	out, in := io.Pipe()
	cmd.Stdout, cmd.Stderr = in, in
	var read sync.WaitGroup
	patience := &patience{Patience: watch.Patience{Coins: coins}}
	read.Go(func() { err = events(p, j.pkg, out, func(e event) { patience.line(); take(e) }) })
	begun := time.Now()
	if errStart := cmd.Start(); errStart != nil {
		in.Close()
		return e, errStart
	}
	stop := make(chan struct{})
	var watching sync.WaitGroup
	watching.Go(func() { e.still = patience.watch(cmd.Process.Pid, stop) })
	errWait := cmd.Wait()
	close(stop)
	watching.Wait()
	in.Close()
	read.Wait()
	e.failed, e.took = errWait != nil, time.Since(begun)
	if s := cmd.ProcessState; s != nil {
		e.user, e.system = s.UserTime(), s.SystemTime()
	}
	return e, err
}

// events reads what a program says, by the go command's own reader of it.
func events(p *place, pkg string, out io.Reader, take func(event)) error {
	cmd := exec.Command("go", "tool", "test2json", "-t", "-p", pkg)
	cmd.Env, cmd.Stdin = p.env, out
	lines, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return err
	}
	scanner := bufio.NewScanner(lines)
	scanner.Buffer(nil, 64<<20)
	for scanner.Scan() {
		var e event
		if err := json.Unmarshal(scanner.Bytes(), &e); err != nil {
			return fmt.Errorf("%s: %w", scanner.Text(), err)
		}
		take(e)
	}
	return cmd.Wait()
}

// patience is held by who reads the lines and who looks at the processes.
type patience struct {
	sync.Mutex
	watch.Patience
}

func (p *patience) line() {
	p.Lock()
	defer p.Unlock()
	p.Line()
}

// watch ends a program that stands still: it says first where each of its threads is.
func (p *patience) watch(pid int, stop chan struct{}) (still string) {
	for {
		select {
		case <-stop:
			return ""
		case <-time.After(2 * time.Second):
		}
		s := watch.Look(pid)
		p.Lock()
		still = p.Take(s)
		p.Unlock()
		if still != "" {
			_ = syscall.Kill(pid, syscall.SIGQUIT)
			time.Sleep(2 * time.Second)
			_ = syscall.Kill(-pid, syscall.SIGKILL)
			return still
		}
	}
}

// seed reports whether a skipped test is an input that a fuzz target passes over.
func (e event) seed() bool { return strings.HasPrefix(e.Test, "Fuzz") && strings.Contains(e.Test, "/") }
