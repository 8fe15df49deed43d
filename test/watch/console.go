package watch

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// The management console of a Linux that runs as a process takes commands by datagrams on
// a socket in the directory that uml_dir and umid name, and answers in pieces
// (arch/um/drivers/mconsole.h).
const (
	consoleMagic   = 0xcafebabe
	consoleVersion = 2
	consoleWords   = 512 // bytes of a request
)

// Console is the socket's place below the directory of a guest's machine.
func Console(dir string) string { return filepath.Join(dir, "mconsole") }

// ask sends one command and gives the whole answer.
func ask(conn *net.UnixConn, command string) (string, error) {
	request := make([]byte, 12+consoleWords)
	binary.LittleEndian.PutUint32(request, consoleMagic)
	binary.LittleEndian.PutUint32(request[4:], consoleVersion)
	binary.LittleEndian.PutUint32(request[8:], uint32(len(command)))
	copy(request[12:], command)
	if err := conn.SetDeadline(time.Now().Add(3 * time.Second)); err != nil {
		return "", err
	}
	if _, err := conn.Write(request); err != nil {
		return "", err
	}
	var out bytes.Buffer
	for {
		piece := make([]byte, 4096)
		n, err := conn.Read(piece)
		if err != nil || n < 12 {
			return out.String(), err
		}
		length := min(int(binary.LittleEndian.Uint32(piece[8:])), n-12)
		out.Write(bytes.TrimRight(piece[12:12+length], "\x00"))
		if binary.LittleEndian.Uint32(piece[4:]) == 0 {
			return out.String(), nil
		}
	}
}

// Tasks asks the guest's kernel which programs it runs, and where in the kernel each of
// them is: a line each, the innermost call first. A kernel that does not answer is what
// there is to say too.
//
// It asks for one stack after the other: for the list of all tasks (the request t) the
// kernel reads its own workers, and 6.1 as a process dies of that.
func Tasks(dir, own string) []string {
	local := filepath.Join(own, "asking")
	conn, err := net.DialUnix("unixgram", &net.UnixAddr{Name: local, Net: "unixgram"}, &net.UnixAddr{Name: Console(dir), Net: "unixgram"})
	if err != nil {
		return []string{fmt.Sprintf("its management console: %v", err)}
	}
	defer conn.Close()
	_, err = ask(conn, "sysrq 9") // else stacks are told to nobody
	load, errLoad := ask(conn, "proc loadavg")
	if err != nil || errLoad != nil {
		return []string{"its kernel does not answer: it is not in a place where it takes interrupts"}
	}
	var last int
	if fields := strings.Fields(load); len(fields) >= 5 {
		_, _ = fmt.Sscan(fields[4], &last) // the newest task's number
	}
	running, _ := ask(conn, "sysrq p")
	var lines []string
	for line := range strings.Lines(running) {
		if at := strings.Index(line, "Pid:"); at >= 0 {
			lines = append(lines, "running: "+strings.TrimSpace(line[at:]))
		}
	}
	for id := 1; id <= min(last, mostTasks); id++ {
		stack, err := ask(conn, fmt.Sprintf("stack %d", id))
		if err != nil {
			return append(lines, fmt.Sprintf("task %d: %v", id, err))
		}
		if calls := callsOf(stack); len(calls) > 0 &&
			!slices.ContainsFunc(calls, func(c string) bool { return strings.HasPrefix(c, "kthread") }) {
			lines = append(lines, fmt.Sprintf("task %d: %s", id, strings.Join(calls[:min(len(calls), 10)], " < ")))
		}
	}
	return lines
}

// mostTasks is how many are asked for: a guest of a proof has begun a few thousand.
const mostTasks = 4000

// callsOf are the functions on a stack, without those that may be left from before.
func callsOf(stack string) (calls []string) {
	for line := range strings.Lines(stack) {
		_, call, ok := strings.Cut(strings.TrimSpace(line), ">] ")
		if ok && !strings.HasPrefix(call, "?") &&
			!slices.Contains([]string{"schedule", "__schedule", "__switch_to"}, strings.Split(call, "+")[0]) {
			calls = append(calls, call)
		}
	}
	return calls
}
