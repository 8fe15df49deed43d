package program

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/block/file"
)

// TestATornTableIsNotBelievedMeanwhile: while another process has an image locked, here
// this one, a table that does not hold together is half of a change: whoever looks or
// plans waits until the lock is free, and goes by what is there then. Where nobody has
// it locked the table is damaged.
func TestATornTableIsNotBelievedMeanwhile(t *testing.T) {
	dir := t.TempDir()
	card := filepath.Join(dir, "card.img")
	if err := file.Create(card, 64<<20); err != nil {
		t.Fatal(err)
	}
	run := func(words ...string) *exec.Cmd {
		cmd := exec.Command(binary, append(words, "--state", filepath.Join(dir, "state"))...)
		cmd.Env = append(os.Environ(), "FUNDUS_BENCH=")
		return cmd
	}
	for _, words := range [][]string{{"table", "new", card, "--commit"}, {"partition", "add", card, "--size=8MiB", "--commit"}} {
		if out, err := run(words...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v", out, err)
		}
	}
	dev, err := file.Open(card, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	good, err := block.ReadSized(dev, 1024, 512, 512)
	if err != nil {
		t.Fatal(err)
	}
	tear := func(bytes []byte) {
		if err := block.WriteBytes(dev, bytes, 1024); err != nil {
			t.Fatal(err)
		}
	}
	torn := make([]byte, 512)
	tear(torn)
	var exit *exec.ExitError
	if out, err := run("verify", card).CombinedOutput(); !errors.As(err, &exit) || exit.ExitCode() != 4 || !strings.Contains(string(out), "table-primary-damaged") {
		t.Fatalf("nobody has it locked: %v\n%s", err, out)
	}
	for _, words := range [][]string{{"verify", card}, {"partition", "add", card, "--size=1MiB", "--draft"}} {
		lock, err := os.Open(card)
		if err == nil {
			err = syscall.Flock(int(lock.Fd()), syscall.LOCK_EX)
		}
		if err != nil {
			t.Fatal(err)
		}
		tear(torn)
		cmd, done := run(words...), make(chan error, 1)
		var out strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		go func() { done <- cmd.Wait() }()
		select {
		case err := <-done:
			t.Fatalf("%v did not wait: %v\n%s", words, err, out.String())
		case <-time.After(300 * time.Millisecond): // it may not have looked yet; then it sees the good one alone
		}
		tear(good)
		lock.Close()
		if err := <-done; err != nil {
			t.Errorf("%v: %v\n%s", words, err, out.String())
		}
	}
}
