// Command closing runs the tests, shows what fails and what the proofs say of
// themselves, and closes with one line: how many passed, how many cuts and kernel proofs
// there were, what they cost, from which seed, and which tests were the longest.
package main

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fundus/test/amount"
)

// event is a line of go test -json.
type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

// tally is what the closing line says.
type tally struct {
	passed, failed, skipped int
	sums                    map[string]int // of figures that proofs print
	longest                 []event
	output                  map[string][]string // of tests that have not ended yet
}

func main() {
	only := flag.String("run", "", "run the tests whose names fit the `PATTERN` alone")
	flag.Parse()
	t := &tally{sums: map[string]int{}, output: map[string][]string{}}
	begun := time.Now()
	var failed error
	for _, words := range commands(*only) {
		failed = errors.Join(failed, t.run(words))
	}
	t.close(time.Since(begun))
	if failed != nil || t.failed > 0 || t.passed == 0 {
		os.Exit(1)
	}
}

// commands are the parts of the whole: everything that needs no kernel, the proofs, and
// core and deeds under the race detector.
func commands(only string) [][]string {
	filter := func(words ...string) []string {
		if only != "" {
			words = slices.Insert(words, 2, "-run", only)
		}
		return words
	}
	all := [][]string{
		filter("go", "test", "-json", "-timeout=40m", "./core/...", "./internal/..."),
		filter("go", "test", "-json", "-p=1", "-parallel=3", "-timeout="+deadline(), "./test/..."),
	}
	if only == "" {
		all = append(all, []string{"go", "test", "-json", "-race", "-short", "./core/...", "./internal/deed", "./internal/machine/...", "./internal/oscall"})
	}
	return all
}

func deadline() string {
	if amount.Soak() {
		return "24h"
	}
	return "85m"
}

func (t *tally) run(words []string) error {
	fmt.Println(strings.Join(words, " "))
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Env = append(os.Environ(), "FUNDUS_NEED_KERNEL=1")
	if slices.Contains(words, "-race") {
		cmd.Env = append(cmd.Env, "CGO_ENABLED=1")
	}
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	t.read(out)
	return cmd.Wait()
}

func (t *tally) read(out io.Reader) {
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		var e event
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			fmt.Println(lines.Text()) // of the compiler
			continue
		}
		t.take(e)
	}
}

func (t *tally) take(e event) {
	name := e.Package + " " + e.Test
	switch e.Action {
	case "output", "build-output":
		t.say(name, e)
		return
	case "pass":
		if e.Test == "" {
			break
		}
		t.passed++
		if !strings.Contains(e.Test, "/attempt") {
			t.longest = append(t.longest, e)
		}
	case "skip":
		if e.Test != "" {
			t.skipped++
			fmt.Printf("left out: %s\n", name)
		}
	case "fail":
		t.failed++
		fmt.Printf("FAILED: %s\n", name)
		for _, line := range t.output[name] {
			fmt.Print(line)
		}
	}
	if e.Action == "pass" || e.Action == "fail" || e.Action == "skip" {
		delete(t.output, name)
	}
}

var figures = regexp.MustCompile(`^(cuts|cuts during recover|cuts of text files|failures|kernel proof): (\d+)( passed)?`)

// say keeps what a test prints until it is known whether it fails. What a proof says of
// itself begins with a word and a colon, and is shown at once.
func (t *tally) say(name string, e event) {
	t.output[name] = append(t.output[name], e.Output)
	if m := figures.FindStringSubmatch(e.Output); m != nil && (m[1] != "kernel proof" || m[3] != "") {
		n, _ := strconv.Atoi(m[2])
		t.sums[m[1]] += n
	}
	proof := regexp.MustCompile(`^[a-z][a-zA-Z0-9 ]*: .`).MatchString(e.Output)
	if e.Action == "build-output" || proof && !strings.HasPrefix(e.Output, "ok") {
		fmt.Print(e.Output)
	}
}

func (t *tally) close(took time.Duration) {
	var used, own syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_CHILDREN, &used)
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &own)
	seconds := func(t syscall.Timeval) float64 { return float64(t.Sec) + float64(t.Usec)/1e6 }
	user, system := seconds(used.Utime)+seconds(own.Utime), seconds(used.Stime)+seconds(own.Stime)
	slices.SortFunc(t.longest, func(a, b event) int { return cmp.Compare(b.Elapsed, a.Elapsed) })
	var long []string
	for _, e := range t.longest {
		within := slices.ContainsFunc(t.longest, func(o event) bool { return o.Package == e.Package && strings.HasPrefix(o.Test, e.Test+"/") })
		if len(long) < 5 && !within {
			long = append(long, fmt.Sprintf("%s %.0f s", e.Test, e.Elapsed))
		}
	}
	cuts := t.sums["cuts"] + t.sums["cuts during recover"] + t.sums["cuts of text files"]
	fmt.Printf("%d tests passed, %d failed, %d left out; %d kernel proofs, %d cuts, %d failures taken back; %.1f processor minutes (%.1f of them in the kernel) in %.1f minutes; seed %d; the longest: %s\n",
		t.passed, t.failed, t.skipped, t.sums["kernel proof"], cuts, t.sums["failures"], (user+system)/60, system/60, took.Minutes(), amount.Seed(), strings.Join(long, ", "))
}
