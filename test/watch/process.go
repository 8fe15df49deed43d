package watch

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Look samples the process and all that it has begun. A process that is gone meanwhile is
// left out.
func Look(root int) Sample {
	s := Sample{At: time.Now(), Processes: map[int]Process{}}
	children, states := family()
	for list := []int{root}; len(list) > 0; {
		id := list[0]
		list = append(list[1:], children[id]...)
		if p, ok := read(id, states[id]); ok {
			s.Processes[id] = p
		}
	}
	return s
}

// Below are the processes that one has begun, and those that they have.
func Below(root int) (out []int) {
	children, _ := family()
	for list := slices.Clone(children[root]); len(list) > 0; list = list[1:] {
		out, list = append(out, list[0]), append(list, children[list[0]]...)
	}
	return out
}

// family gives the children of every process, and the state of each.
func family() (children map[int][]int, states map[int]byte) {
	children, states = map[int][]int{}, map[int]byte{}
	dir, err := os.Open("/proc")
	if err != nil {
		return children, states
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1) // without any nobody lives, and patience runs out
	for _, name := range names {
		id, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + name + "/stat")
		if err != nil {
			continue
		}
		// The name, in brackets, may hold anything; behind it stand state and parent.
		_, rest, _ := strings.Cut(string(stat[strings.LastIndexByte(string(stat), ')')+1:]), " ")
		var state byte
		var parent int
		if _, err := fmt.Sscanf(rest, "%c %d", &state, &parent); err == nil {
			states[id], children[parent] = state, append(children[parent], id)
		}
	}
	return children, states
}

// read adds up the threads of a process. One that is traced and waits for its tracer ('t')
// is not stopped: a guest's programs are run that way.
func read(id int, state byte) (p Process, ok bool) {
	p.Stopped = state == 'T'
	threads, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", id))
	if err != nil {
		return p, false
	}
	for _, thread := range threads {
		at := fmt.Sprintf("/proc/%d/task/%s", id, thread.Name())
		var ran, waited int64
		text, _ := os.ReadFile(at + "/schedstat")
		if _, err := fmt.Sscan(string(text), &ran, &waited); err == nil {
			p.Ran, p.Waited = p.Ran+time.Duration(ran), p.Waited+time.Duration(waited)
		}
		text, _ = os.ReadFile(at + "/io")
		for line := range strings.Lines(string(text)) {
			var n uint64
			if name, value, _ := strings.Cut(line, ":"); name == "syscr" || name == "syscw" {
				_, _ = fmt.Sscan(value, &n)
				p.Calls += n
			}
		}
	}
	return p, true
}
