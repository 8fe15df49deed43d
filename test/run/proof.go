package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// proof is one of those that are listed, run and timed by themselves.
type proof struct {
	name string
	on   []string // folders that it stands on
	jobs []job
}

// proofs runs what needs more than Go.
func proofs(p *place, t *tally, o options) error {
	known := p.recorded()
	if o.list {
		return p.name(known)
	}
	if err := install(); err != nil {
		return err
	}
	if err := p.prepare(); err != nil {
		return err
	}
	fmt.Println("compiling the proofs")
	list, err := p.proofs(true)
	if err != nil {
		return err
	}
	t.compiled = spent()
	list = slices.DeleteFunc(list, func(q proof) bool { return !strings.Contains(q.name, o.only) })
	if len(list) == 0 {
		return fmt.Errorf("no proof's name holds %q; make proof LIST=1 names them", o.only)
	}
	list = ordered(list, p.touched(), known, p.commit())
	left := p.each(list, t, o, known)
	what := fmt.Sprintf("%d of %d proofs", len(list)-len(left), len(list))
	if len(left) > 0 {
		what += fmt.Sprintf(", %d not begun within %g hours: %s", len(left), o.hours, strings.Join(left, ", "))
	}
	if len(t.lacking) > 0 {
		what += fmt.Sprintf(", %d need FUNDUS_TEST_KERNEL", len(t.lacking))
	}
	if err := p.keep(known); err != nil {
		return err
	}
	return t.close(p, what, "What needs Go alone is make test's; make soak proves all of it in full.")
}

// name lists the proofs.
func (p *place) name(known map[string]past) error {
	list, err := p.proofs(false)
	if err != nil {
		return err
	}
	for _, q := range list {
		last := "not run here yet"
		if k, ok := known[q.name]; ok && !k.LeftOut {
			last = fmt.Sprintf("%4.0f s, %4.0f s of a processor", k.Seconds, k.Processor)
		}
		fmt.Printf("%-32s %s\n", last, q.name)
	}
	return nil
}

// proofs are those of the kernel, those of other packages, and the race detector, which is
// compiled only where it is to run.
func (p *place) proofs(run bool) (list []proof, err error) {
	tagged, err := p.tagged()
	if err != nil {
		return nil, err
	}
	turn := []string{"FUNDUS_TEST_TURN=" + strconv.Itoa(p.commit())}
	built, err := p.compile("proofs", []string{"-tags=proof"}, tagged...)
	if err != nil {
		return nil, err
	}
	for _, c := range built {
		words := []string{"-test.list=^TestProof"}
		kernel := strings.HasSuffix(c.pkg, "/test/kernel")
		if kernel {
			words = []string{"-proofs"}
		}
		cmd := exec.Command(c.program, words...)
		cmd.Dir, cmd.Env, cmd.Stderr = c.dir, p.env, os.Stderr
		text, err := cmd.Output()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.pkg, err)
		}
		folder := strings.TrimPrefix(c.pkg, "fundus/")
		for line := range strings.Lines(string(text)) {
			name, on, _ := strings.Cut(strings.TrimSpace(line), "\t")
			q := proof{
				name, append(strings.Fields(on), folder),
				[]job{{name: name, compiled: c, words: []string{"-test.run=^TestKernel$/^" + regexp.QuoteMeta(name) + "$"}, env: turn}},
			}
			if !kernel {
				q.name = folder + ": " + strings.TrimPrefix(name, "TestProof")
				q.jobs[0].words = []string{"-test.run=^" + name + "$"}
			}
			list = append(list, q)
		}
	}
	for _, room := range []string{"core", "internal"} {
		q := proof{name: "the race detector: " + room, on: []string{room}}
		if run {
			raced, err := p.compile("race-"+room, []string{"-race"}, "./"+room+"/...")
			if err != nil {
				return nil, err
			}
			for _, c := range raced {
				q.jobs = append(q.jobs, job{name: c.pkg, compiled: c, words: []string{"-test.short"}, env: turn})
			}
		}
		list = append(list, q)
	}
	return list, nil
}

// tagged are the folders that have tests of their own for proofs.
func (p *place) tagged() (out []string, err error) {
	files := []string{}
	for _, room := range []string{"core", "internal", "test"} {
		err := filepath.WalkDir(filepath.Join(p.top, room), func(path string, e os.DirEntry, err error) error {
			if err == nil && strings.HasSuffix(path, "_test.go") {
				files = append(files, path)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		rel, err := filepath.Rel(p.top, filepath.Dir(f))
		if err != nil {
			return nil, err
		}
		if strings.HasPrefix(string(text), "//go:build proof\n") && !slices.Contains(out, "./"+rel) {
			out = append(out, "./"+rel)
		}
	}
	return out, nil
}

// each runs the proofs, as many at once as there is room for, and gives the names of those
// that were not begun.
func (p *place) each(list []proof, t *tally, o options, known map[string]past) (left []string) {
	var at sync.Mutex
	next, done := 0, 0
	var workers sync.WaitGroup
	for range room() {
		workers.Go(func() {
			for {
				at.Lock()
				late := o.hours > 0 && time.Since(t.begun).Hours() > o.hours
				if late {
					for _, q := range list[next:] {
						left = append(left, q.name)
						k := known[q.name]
						k.LeftOut = true
						known[q.name] = k
					}
					next = len(list)
				}
				if next == len(list) {
					at.Unlock()
					return
				}
				q := list[next]
				next++
				at.Unlock()
				u, failed := p.prove(q, t)
				at.Lock()
				done++
				known[q.name] = past{Seconds: u.took.Seconds(), Processor: u.processor().Seconds()}
				t.Lock()
				t.show("[%d of %d] %s: %s, %.0f s, %.0f s of a processor", done, len(list), q.name,
					map[bool]string{true: "FAILED", false: "passed"}[failed], u.took.Seconds(), u.processor().Seconds())
				t.Unlock()
				at.Unlock()
			}
		})
	}
	workers.Wait()
	return left
}

// guest is the memory that a proof takes at most, with its guest and its disks.
const guest = 1500 << 20

// room is how many proofs run at once: one more than processors, since guests wait for
// disks too, and no more than the memory holds.
func room() int {
	n := runtime.NumCPU() + 1
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return n
	}
	for line := range strings.Lines(string(text)) {
		var kib int
		if _, err := fmt.Sscanf(line, "MemAvailable: %d kB", &kib); err == nil {
			n = min(n, kib<<10/guest)
		}
	}
	return max(1, n)
}

// stoodStill is how a proof says that its guest did; a kernel that is a process now and then
// waits for a tick of the clock that does not come, and is given one more chance.
const stoodStill = "the guest stood still and was ended"

// prove runs all jobs of a proof.
func (p *place) prove(q proof, t *tally) (u usage, failed bool) {
	for _, j := range q.jobs {
		for attempt := range 2 {
			var held []event
			hung := false
			e, err := p.run(j, func(e event) {
				hung = hung || strings.Contains(e.Output, stoodStill)
				if attempt == 0 && (hung || e.Action == "fail" || e.Action == "skip") {
					held = append(held, e)
					return
				}
				t.take(e)
			})
			u.took, u.user, u.system = u.took+e.took, u.user+e.user, u.system+e.system
			if hung && attempt == 0 {
				t.begunAnew(q.name, held)
				continue
			}
			for _, e := range held {
				failed = failed || e.Action == "fail"
				t.take(e)
			}
			switch {
			case err != nil:
				t.fail("%s: %v", q.name, err)
			case e.still != "":
				t.fail("%s stood still and was ended: %s", q.name, e.still)
			case e.failed && !failed:
				t.fail("%s: the program ended without a word", q.name)
			}
			failed = failed || e.failed
			break
		}
	}
	return u, failed
}

// begunAnew shows what a guest was doing that stood still the first time.
func (t *tally) begunAnew(name string, held []event) {
	t.Lock()
	defer t.Unlock()
	var text strings.Builder
	for _, e := range held {
		text.WriteString(e.Output)
	}
	t.show("begun anew: %s\n%s", name, text.String())
	t.sums["begun anew"]++
	for test := range t.running {
		if strings.HasSuffix(test, strings.ReplaceAll(name, " ", "_")) {
			delete(t.running, test)
		}
	}
}
