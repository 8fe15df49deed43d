package program

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

// TestTwoAtOnce: of two changes at once, twenty times, each prints one whole document and nothing
// beside it. One is done; the other is done after it, is told that somebody else is at work, or that
// things are other than they were; and one that is interrupted prints a document too.
func TestTwoAtOnce(t *testing.T) {
	l := newLab(t)
	l.must("table", "new", "sdb", "--commit")
	l.must("partition", "add", "sdb", "--size", "64MiB", "--commit")
	l.must("format", "sdb1", "ext4", "--label", "a", "--commit")
	type answer struct {
		Kind, ID, State string
		Code            int `json:"exit_code"`
		Changed         bool
	}
	run := func(after time.Duration, words ...string) (answer, int) {
		cmd := l.command(append(words, "--json")...)
		var out, beside bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &beside
		if err := cmd.Start(); err != nil {
			t.Error(err)
			return answer{}, -1
		}
		if after > 0 {
			time.Sleep(after)
			_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		}
		_ = cmd.Wait() // its exit code says it
		var a answer
		dec := json.NewDecoder(&out)
		if err := dec.Decode(&a); err != nil || dec.More() || beside.Len() > 0 {
			t.Errorf("%v: %v; beside the document %q", words, err, beside.String())
		}
		return a, cmd.ProcessState.ExitCode()
	}
	told := map[string]int{}
	for i := range 20 {
		var both sync.WaitGroup
		var answers [2]answer
		for k := range answers {
			both.Go(func() {
				answers[k], _ = run(0, "label", "sdb1", fmt.Sprintf("l%d-%d", i, k), "--commit")
			})
		}
		both.Wait()
		done := 0
		for _, a := range answers {
			switch {
			case a.Kind == "draft" && a.Changed:
				done++
			case a.Kind == "error" && (a.ID == "locked" || a.ID == "draft-stale" || a.ID == "in-use") && a.State == "untouched":
				told[a.ID]++
			default:
				t.Errorf("%+v", a)
			}
		}
		if told["done"] += done; done == 0 {
			t.Errorf("neither was done: %+v", answers)
		}
	}
	for i := range 10 {
		a, code := run(time.Duration(i)*20*time.Millisecond, "format", "sdb1", "ext4", "--label", "b", "--lose="+labelOf(t, l), "--commit")
		if a.Kind == "error" && (a.ID != "interrupted" || code != 1 && code != 5) {
			t.Errorf("interrupted: %+v, exit %d", a, code)
		}
		told["interrupted: "+a.Kind]++
	}
	fmt.Println("two at once:", told)
	if told["done"] < 20 {
		t.Errorf("%v", told)
	}
}

// labelOf is what the partition is called now.
func labelOf(t *testing.T, l *lab) string {
	t.Helper()
	var doc struct {
		Devices []struct{ Name, Lose string }
	}
	if err := json.Unmarshal([]byte(l.must("survey", "sdb", "--json")), &doc); err != nil {
		t.Fatal(err)
	}
	for _, d := range doc.Devices {
		if d.Name == "sdb1" {
			return d.Lose
		}
	}
	t.Fatal("sdb1 is gone: ", filepath.Base(l.dir))
	return ""
}
