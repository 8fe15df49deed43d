// Command run runs the tests: test is what needs Go alone, proof what a kernel, systemd,
// the boot loader or a system's programs judge, soak all of it in full. It compiles first,
// gives every test a place of its own, shows how far it is, ends what stands still, and
// closes with what was proved and what it cost.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"fundus/test/watch"
)

func main() {
	o := options{}
	flag.StringVar(&o.only, "only", "", "run those whose names hold the `WORDS`")
	flag.BoolVar(&o.list, "list", false, "name the proofs, with what each took last")
	flag.Float64Var(&o.hours, "hours", 0, "begin no proof behind so many `HOURS`")
	flag.Parse()
	if err := run(flag.Arg(0), o); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// options are what the words of make become.
type options struct {
	only  string
	list  bool
	hours float64
}

func run(which string, o options) error {
	if which == "soak" {
		os.Setenv("FUNDUS_SOAK", "1") // as test/amount reads it, here and in the tests
	}
	p, err := newPlace()
	if err != nil {
		return err
	}
	defer p.remove()
	defer interrupted(p)()
	t := newTally(time.Now())
	switch which {
	case "test":
		return tests(p, t, o)
	case "proof":
		return proofs(p, t, o)
	case "soak":
		if o.only == "" {
			if err := tests(p, t, o); err != nil {
				return err
			}
		}
		return proofs(p, newTally(time.Now()), o)
	}
	return fmt.Errorf("test, proof or soak, not %q", which)
}

// interrupted ends all that was begun when somebody ends this program, and leaves nothing: guests
// and tests have process groups of their own, and would go on.
func interrupted(p *place) (stop func()) {
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		if _, ok := <-signals; !ok {
			return
		}
		for _, pid := range watch.Below(os.Getpid()) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		p.remove()
		fmt.Fprintln(os.Stderr, "interrupted: what was running was ended")
		os.Exit(1)
	}()
	return func() { signal.Stop(signals); close(signals) }
}
