// Package program proves the built program: what a kill at any moment leaves
// behind, and how fast and small it is.
package program

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/internal/oscall"
)

var binary string

// TestMain builds the program as it is released.
func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "fundus-program-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		if err := os.Chmod(dir, 0o755); err != nil { // another user runs it too
			panic(err)
		}
		binary = filepath.Join(dir, "fundus")
		build(binary, "../../cmd/fundus")
		return m.Run()
	}())
}

func build(into, pkg string) {
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", into, pkg)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v: %s", err, out))
	}
}

// lab is a bench that the built program works on.
type lab struct {
	t   testing.TB
	dir string
}

func newLab(t testing.TB) *lab {
	t.Helper()
	l := &lab{t, filepath.Join(t.TempDir(), "fernhill")}
	l.must("bench", "new", l.dir, "--host", "fernhill")
	l.must("bench", "disk", "add", "sdb", "--size", "256MiB", "--serial", "LS-20417")
	return l
}

func (l *lab) command(words ...string) *exec.Cmd {
	cmd := exec.Command(binary, words...)
	cmd.Env = append(os.Environ(), "FUNDUS_BENCH="+l.dir, "LANG=C.UTF-8")
	return cmd
}

func (l *lab) must(words ...string) string {
	l.t.Helper()
	out, err := l.command(words...).CombinedOutput()
	if err != nil {
		l.t.Fatalf("fundus %s: %v\n%s", strings.Join(words, " "), err, out)
	}
	return string(out)
}

// state is everything that a crash must not tear: the disk and the fstab.
func (l *lab) state() string {
	l.t.Helper()
	d, err := file.Open(filepath.Join(l.dir, "disks", "sdb.img"), false, block.DefaultGeometry)
	if err != nil {
		l.t.Fatal(err)
	}
	defer d.Close()
	var b bytes.Buffer
	for off := int64(0); off < d.Size(); {
		_, end, hole, err := d.Next(off)
		if err != nil {
			l.t.Fatal(err)
		}
		for ; !hole && off < end; off += 4096 {
			p, err := block.ReadSized(d, off, min(4096, end-off), 4096)
			if err != nil {
				l.t.Fatal(err)
			}
			if !block.IsZero(p) {
				fmt.Fprintf(&b, "%d:%s", off, p)
			}
		}
		off = end
	}
	table, err := os.ReadFile(filepath.Join(l.dir, "root", "etc", "fstab"))
	if err != nil {
		l.t.Fatal(err)
	}
	return b.String() + string(table)
}

// awaitDeed returns once the command has recorded a deed behind the last one.
func (l *lab) awaitDeed(cmd *exec.Cmd, last string) {
	for until := time.Now().Add(2 * time.Second); time.Now().Before(until); time.Sleep(200 * time.Microsecond) {
		if found, _ := filepath.Glob(filepath.Join(l.dir, "state", "deeds", "*", "log")); len(found) > 0 && filepath.Base(filepath.Dir(found[len(found)-1])) > last {
			return
		}
		if syscall.Kill(cmd.Process.Pid, 0) != nil {
			return
		}
	}
}

type deeds struct {
	Deeds []struct{ ID, State string }
}

func (l *lab) newest() (id, state string) {
	l.t.Helper()
	var d deeds
	if err := json.Unmarshal([]byte(l.must("deed", "list", "--json")), &d); err != nil {
		l.t.Fatal(err)
	}
	return d.Deeds[0].ID, d.Deeds[0].State
}

// TestKilledAtAnyMoment kills the program 200 times at seeded moments of
// changes that take turns, and recovers in a seeded direction: the disk and the
// fstab are as before, or the change is done, whole.
func TestKilledAtAnyMoment(t *testing.T) {
	l := newLab(t)
	l.must("table", "new", "sdb", "--commit")
	l.must("partition", "add", "sdb", "--size", "64MiB", "--commit")
	l.must("format", "sdb1", "ext4", "--label", "a", "--commit")
	label := "a"
	hasLine, hasSecond := false, false
	counts := map[string]int{}
	rng := rand.New(rand.NewPCG(11, 12))
	for round := range 200 {
		fresh := string(rune('a' + (round+1)%26))
		var words []string
		switch round % 4 {
		case 0:
			words = []string{"format", "sdb1", "ext4", "--label", fresh, "--lose=" + label, "--references=keep"}
		case 1:
			words = []string{"label", "sdb1", fresh}
		case 2:
			if words = []string{"fstab", "add", "sdb1", "/srv/herbarium"}; hasLine {
				words = []string{"fstab", "remove", "/srv/herbarium"}
			}
		case 3:
			if words = []string{"partition", "add", "sdb", "--size=8MiB"}; hasSecond {
				words = []string{"partition", "remove", "sdb2"}
			}
		}
		before := l.state()
		lastID, _ := l.newest()
		cmd := l.command(append(words, "--commit")...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if rng.IntN(4) > 0 { // most kills fall between the deed's record and its end
			l.awaitDeed(cmd, lastID)
			time.Sleep(time.Duration(rng.IntN(4000)) * time.Microsecond)
		} else {
			time.Sleep(time.Duration(rng.IntN(60)) * time.Millisecond)
		}
		_ = cmd.Process.Kill() // it may have ended by itself
		_ = cmd.Wait()
		direction := []string{"back", "forward"}[rng.IntN(2)]
		if _, state := l.newest(); state == "cut-short" {
			counts["cut short"]++
		}
		l.must("recover", "--direction", direction)
		id, state := l.newest()
		after := l.state()
		switch {
		case id == lastID:
			counts["never begun"]++
			if after != before {
				t.Fatalf("round %d: %v: no deed, but something changed", round, words)
			}
			continue
		case state == "taken-back":
			counts["taken back"]++
			if after != before {
				t.Fatalf("round %d: %v: taken back, but not as before", round, words)
			}
			continue
		case state != "done" || after == before:
			t.Fatalf("round %d: %v: deed %s is %s, changed %v", round, words, id, state, after != before)
		}
		counts["done"]++
		switch round % 4 {
		case 0, 1:
			label = fresh
			if out := l.must("inspect", "sdb1"); !strings.Contains(out, "ext4 "+label) || !strings.Contains(out, "in order") {
				t.Fatalf("round %d: %v:\n%s", round, words, out)
			}
		case 2:
			hasLine = !hasLine
		case 3:
			hasSecond = !hasSecond
		}
		if hasLine && round%4 == 0 { // the new file system has a new UUID
			l.must("fstab", "remove", "/srv/herbarium", "--commit")
			hasLine = false
		}
	}
	l.must("verify", "--severity=error")
	fmt.Printf("kills: 200: %d never begun, %d cut short, then %d taken back and %d done\n", counts["never begun"], counts["cut short"], counts["taken back"], counts["done"])
	if counts["cut short"] < 5 || counts["taken back"] == 0 || counts["done"] == 0 {
		t.Errorf("the kills prove little: %v", counts)
	}
}

// TestTwoCommitsWait: a second commit is refused while one runs, says who, and
// waits when told to.
func TestTwoCommitsWait(t *testing.T) {
	l := newLab(t)
	lock := filepath.Join(l.dir, "state", "lock")
	if err := os.MkdirAll(filepath.Dir(lock), 0o700); err != nil {
		t.Fatal(err)
	}
	holder, err := oscall.TryLock(lock, "committing draft 3fa9c210, process 1")
	if err != nil {
		t.Fatal(err)
	}
	out, err := l.command("table", "new", "sdb", "--commit").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "another commit is running") || !strings.Contains(string(out), "3fa9c210") || !strings.Contains(string(out), "--wait") {
		t.Errorf("while another runs: %v\n%s", err, out)
	}
	time.AfterFunc(500*time.Millisecond, holder.Unlock)
	l.must("table", "new", "sdb", "--commit", "--wait=20")
}

// TestSizeOfTheProgram: below 20 MiB.
func TestSizeOfTheProgram(t *testing.T) {
	info, err := os.Stat(binary)
	if err != nil || info.Size() > 20<<20 {
		t.Errorf("the program has %d bytes (%v)", info.Size(), err)
	}
}

// TestWithoutPermission: somebody who may only read the image is told so, and
// nothing changes.
func TestWithoutPermission(t *testing.T) {
	dir := t.TempDir()
	image, state := filepath.Join(dir, "card.img"), filepath.Join(dir, "state")
	if err := file.Create(image, 64<<20); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(state, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(state, 0o777); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(binary, "table", "new", image, "--commit", "--quiet", "--state", state)
	if os.Getuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		for at := dir; at != os.TempDir() && len(at) > 1; at = filepath.Dir(at) {
			if err := os.Chmod(at, 0o755); err != nil {
				t.Fatal(err)
			}
		}
	} else if err := os.Chmod(image, 0o444); err != nil {
		t.Fatal(err)
	}
	out, err := cmd.CombinedOutput()
	words := strings.Join(strings.Fields(string(out)), " ")
	if cmd.ProcessState.ExitCode() != 1 || !strings.Contains(words, "you may not write to it") && !strings.Contains(words, "lets nobody write to it") {
		t.Errorf("%v\n%s", err, out)
	}
}
