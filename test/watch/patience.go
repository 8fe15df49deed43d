package watch

import (
	"fmt"
	"time"
)

// Stretch is how many times as much as between two signs may be spent between two lines.
const Stretch = 6

// Coins are what may be spent between two signs of life.
type Coins struct{ Idle, Busy time.Duration }

// Usual are the coins of a guest. Nothing in one waits longer than the 90 s of a device
// that is missing without saying so; a machine whose processors are shared took 20 minutes
// of processor time for what takes 3 on a free one.
var Usual = Coins{Idle: 4 * time.Minute, Busy: 10 * time.Minute}

// Process is what the host says of one process: the time for which it has computed, the
// time for which it has waited for a processor, and the calls by which it has read and
// written.
type Process struct {
	Stopped     bool
	Ran, Waited time.Duration
	Calls       uint64
}

// Sample is all processes of a program at one moment, by their numbers.
type Sample struct {
	At        time.Time
	Processes map[int]Process
}

// Patience is what a program has spent. The zero value with coins is ready.
type Patience struct {
	Coins    Coins
	last     Sample
	idle     time.Duration // since the last sign
	busy     time.Duration
	longIdle time.Duration // since the last line
	longBusy time.Duration
}

// Line notes that the program said something.
func (p *Patience) Line() { p.idle, p.busy, p.longIdle, p.longBusy = 0, 0, 0, 0 }

// most is the longest stretch between two samples that counts: whoever samples late was
// kept waiting itself, and knows nothing of the time between.
const most = 3 * time.Second

// Take adds what was spent since the sample before. The words say which coin ran out; ""
// while there is some left.
func (p *Patience) Take(s Sample) (out string) {
	before := p.last
	p.last = s
	if before.At.IsZero() {
		return ""
	}
	var ran, waited time.Duration
	stopped, asked := false, false
	for id, now := range s.Processes {
		then := before.Processes[id] // of a new one nothing
		ran, waited = ran+max(0, now.Ran-then.Ran), waited+max(0, now.Waited-then.Waited)
		stopped = stopped || now.Stopped || then.Stopped
		asked = asked || now.Calls != then.Calls
	}
	if asked {
		p.idle, p.busy = 0, 0
	}
	span := min(s.At.Sub(before.At), most)
	if idle := span - ran - waited; idle > 0 && !stopped {
		p.idle, p.longIdle = p.idle+idle, p.longIdle+idle
	}
	p.busy, p.longBusy = p.busy+ran, p.longBusy+ran
	switch {
	case p.idle > p.Coins.Idle:
		return fmt.Sprintf("%v without anything to do, a line or a request", p.idle.Round(time.Second/10))
	case p.busy > p.Coins.Busy:
		return fmt.Sprintf("%v of processor time without a line or a request", p.busy.Round(time.Second/10))
	case p.longIdle > Stretch*p.Coins.Idle:
		return fmt.Sprintf("%v without anything to do or a line, though with requests", p.longIdle.Round(time.Second/10))
	case p.longBusy > Stretch*p.Coins.Busy:
		return fmt.Sprintf("%v of processor time without a line, though with requests", p.longBusy.Round(time.Second/10))
	}
	return ""
}
