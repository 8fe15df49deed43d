package program

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// terminal gives both ends of a pseudo-terminal of 80 columns and 24 rows.
func terminal(t *testing.T) (master, slave *os.File) {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { master.Close() })
	if err := unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err == nil {
		slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	}
	if err == nil {
		err = unix.IoctlSetWinsize(int(slave.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 24, Col: 80})
	}
	if err != nil {
		t.Fatal(err)
	}
	return master, slave
}

// typing runs the program at a terminal, and types when the question stands there: the keys,
// or for "CODE" what the question asks for. It gives all that was shown.
func (l *lab) typing(t *testing.T, keys string, words ...string) (code int, shown string) {
	t.Helper()
	master, slave := terminal(t)
	cmd := l.command(words...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close()
	screen := make(chan string, 1)
	go func() {
		var all strings.Builder
		asked := regexp.MustCompile(`type (\S+) to (?:go|destroy)[^\n]*(?:\n[^\n]*)?to\s+stop: $`)
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			all.Write(buf[:n])
			if m := asked.FindStringSubmatch(strings.ReplaceAll(plain(all.String()), "\r", "")); m != nil && keys != "" {
				if keys == "CODE" {
					keys = m[1] + "\n"
				}
				_, _ = io.WriteString(master, keys) // a program that has gone answers with its exit code
				keys = ""
			}
			if err != nil { // the program has gone, and with it the other end
				screen <- plain(all.String())
				return
			}
		}
	}()
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			code = exit.ExitCode()
		}
	case <-time.After(time.Minute):
		_ = cmd.Process.Kill()
		t.Fatalf("fundus %s does not end", strings.Join(words, " "))
	}
	return code, strings.Join(strings.Fields(<-screen), " ")
}

// plain takes colours out.
func plain(s string) string {
	return regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(s, "")
}

// TestQuestionAtATerminal: whatever is typed but the right word changes and stores nothing,
// says so, and ends at once.
func TestQuestionAtATerminal(t *testing.T) {
	l := newLab(t)
	l.must("table", "new", "sdb", "--commit")
	l.must("partition", "add", "sdb", "--commit")
	l.must("format", "sdb1", "ext4", "--label", "herbarium", "--commit")
	before := l.state()
	for _, c := range []struct{ name, keys, shows string }{
		{"Ctrl-C", "\x03", "stopped"}, {"Ctrl-D", "\x04", "stopped"}, {"Enter", "\n", "nothing was typed"},
		{"a wrong word", "yes\n", `"yes" is not "herbarium"`}, {"half a word and Ctrl-C", "herb\x03", "stopped"},
	} {
		code, shown := l.typing(t, c.keys, "format", "sdb1", "ext4", "--label", "mosses")
		if code != 1 || !strings.Contains(shown, "fundus: "+c.shows) || !strings.Contains(shown, "nothing was changed") || strings.Contains(shown, "fundus commit") {
			t.Errorf("%s: exit %d:\n%s", c.name, code, shown)
		}
		if !strings.Contains(shown, "bench fernhill, sdb (LS-20417): type herbarium to destroy sdb1 (ext4 herbarium,") {
			t.Errorf("%s: the question does not say of what:\n%s", c.name, shown)
		}
	}
	if l.state() != before || !strings.Contains(l.must("draft", "list"), "no drafts") {
		t.Error("something was changed or stored")
	}
	if code, shown := l.typing(t, "CODE", "label", "sdb1", "mosses"); code != 0 || !strings.Contains(shown, "done: label") {
		t.Errorf("the draft's code: exit %d:\n%s", code, shown)
	}
	if code, shown := l.typing(t, "mosses\n", "format", "sdb1", "ext4"); code != 0 || !strings.Contains(shown, "done: format") {
		t.Errorf("the right word: exit %d:\n%s", code, shown)
	}
}
