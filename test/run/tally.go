package main

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"fundus/test/amount"
)

// tally is what the closing line says.
type tally struct {
	sync.Mutex
	begun    time.Time
	compiled usage
	passed   int
	failed   []string
	skipped  []string
	sums     map[string]int // of figures that proofs print
	longest  []event
	output   map[string][]string // of tests that have not ended yet
	running  map[string]time.Time
	said     time.Time // when something was last shown
	lacking  map[string]bool
}

func newTally(begun time.Time) *tally {
	return &tally{
		begun:   begun,
		said:    begun,
		sums:    map[string]int{},
		output:  map[string][]string{},
		running: map[string]time.Time{},
		lacking: map[string]bool{},
	}
}

// take adds an event, and says what is running when nothing was shown for a while.
func (t *tally) take(e event) {
	t.Lock()
	defer t.Unlock()
	name := e.Package + " " + e.Test
	switch e.Action {
	case "run":
		t.running[name] = time.Now()
	case "output":
		t.say(name, e)
		return
	case "pass":
		if e.Test != "" {
			t.passed, t.longest = t.passed+1, append(t.longest, e)
		}
	case "skip":
		if e.Test != "" && !e.seed() {
			t.skipped = append(t.skipped, name)
			t.show("left out, which is a failure: %s\n%s", name, strings.Join(t.output[name], ""))
		}
	case "fail":
		t.failed = append(t.failed, name)
		t.show("FAILED: %s\n%s", name, strings.Join(t.output[name], ""))
	default:
		return
	}
	delete(t.output, name)
	delete(t.running, name)
	t.progress()
}

// quiet is after which time without a word it is said what is running.
const quiet = 10 * time.Second

func (t *tally) progress() {
	if time.Since(t.said) < quiet || len(t.running) == 0 {
		return
	}
	var oldest, deepest string
	for name, since := range t.running {
		if oldest == "" || since.Before(t.running[oldest]) {
			oldest = name
		}
		if deepest == "" || since.After(t.running[deepest]) {
			deepest = name
		}
	}
	t.show("  %.1f min: %d tests passed, %d run, since %.0f s %s, last begun %s", time.Since(t.begun).Minutes(),
		t.passed, len(t.running), time.Since(t.running[oldest]).Seconds(), oldest, deepest)
}

func (t *tally) show(format string, args ...any) {
	fmt.Println(strings.TrimRight(fmt.Sprintf(format, args...), "\n"))
	t.said = time.Now()
}

var (
	figures = regexp.MustCompile(`^(cuts|cuts during recover|cuts of text files|failures): (\d+)`)
	states  = regexp.MustCompile(`; of (\d+) cases, (\d+) different states`)
	spoken  = regexp.MustCompile(`^[a-z][a-zA-Z0-9 ]*: .`)
	lacks   = regexp.MustCompile(`^lacking: (.*)`)
)

// say keeps what a test prints until it is known whether it fails. What a proof says of
// itself begins with a word and a colon, and is shown at once.
func (t *tally) say(name string, e event) {
	t.output[name] = append(t.output[name], e.Output)
	if m := figures.FindStringSubmatch(e.Output); m != nil {
		n, _ := strconv.Atoi(m[2])
		t.sums[m[1]] += n
	}
	if m := states.FindStringSubmatch(e.Output); m != nil {
		for i, what := range []string{"cases", "states"} {
			n, _ := strconv.Atoi(m[i+1])
			t.sums[what] += n
		}
	}
	if m := lacks.FindStringSubmatch(e.Output); m != nil {
		t.lacking[strings.TrimSpace(m[1])] = true
	}
	if spoken.MatchString(e.Output) && !strings.HasPrefix(e.Output, "ok") {
		t.show("%s", e.Output)
	}
}

// fail counts a failure that is no test's.
func (t *tally) fail(format string, args ...any) {
	t.Lock()
	defer t.Unlock()
	t.failed = append(t.failed, fmt.Sprintf(format, args...))
	t.show("FAILED: "+format, args...)
}

// spent is what this program and all that it began have cost so far.
func spent() (u usage) {
	for _, who := range []int{syscall.RUSAGE_CHILDREN, syscall.RUSAGE_SELF} {
		var r syscall.Rusage
		if syscall.Getrusage(who, &r) == nil {
			u.user += time.Duration(r.Utime.Nano())
			u.system += time.Duration(r.Stime.Nano())
		}
	}
	return u
}

// close shows the closing line. what is what was proved; and what is left to others.
func (t *tally) close(p *place, what, others string) error {
	for _, name := range p.left() {
		t.fail("a test left %s", name)
	}
	all := spent()
	ran := usage{user: all.user - t.compiled.user, system: all.system - t.compiled.system}
	slices.SortFunc(t.longest, func(a, b event) int { return cmp.Compare(b.Elapsed, a.Elapsed) })
	var long []string
	for _, e := range t.longest {
		within := slices.ContainsFunc(t.longest, func(o event) bool {
			return o.Package == e.Package &&
				strings.HasPrefix(o.Test, e.Test+"/")
		})
		if len(long) < 5 && !within {
			long = append(long, fmt.Sprintf("%s %.0f s", e.Test, e.Elapsed))
		}
	}
	cuts := t.sums["cuts"] + t.sums["cuts during recover"] + t.sums["cuts of text files"]
	if cuts > 0 {
		what += fmt.Sprintf(", %d cuts, %d failures taken back", cuts, t.sums["failures"])
	}
	if n := t.sums["begun anew"]; n > 0 {
		what += fmt.Sprintf(", %d begun anew, since a guest stood still", n)
	}
	if n := t.sums["cases"]; n > 0 {
		what += fmt.Sprintf(", %d cases that left %d different states", n, t.sums["states"])
	}
	fmt.Printf("%d tests passed, %d failed, %d left out; %s; %.1f processor minutes (%.1f of them in the kernel; compiling %.1f more) in %.1f minutes; seed %d; the longest: %s\n%s\n",
		t.passed, len(t.failed), len(t.skipped), what, ran.processor().Minutes(), ran.system.Minutes(),
		t.compiled.processor().Minutes(), time.Since(t.begun).Minutes(), amount.Seed(), strings.Join(long, ", "), others)
	if n := len(t.failed) + len(t.skipped); n > 0 || t.passed == 0 {
		return fmt.Errorf("failed: %s", strings.Join(append(t.failed, t.skipped...), "; "))
	}
	return nil
}
