package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestOrder: what the last commits touched, what was left out last, the others by turns.
func TestOrder(t *testing.T) {
	var list []proof
	for i, on := range []string{"core/fs/ext", "core/table", "core/fs/xfs core/stack", "core/boot", "internal/deed"} {
		list = append(list, proof{name: fmt.Sprint(i), on: strings.Fields(on)})
	}
	known := map[string]past{"3": {LeftOut: true}, "0": {Seconds: 7}}
	for turn, want := range []string{"2 3 0 1 4", "2 3 1 4 0", "2 3 4 0 1", "2 3 4 0 1", "2 3 4 0 1", "2 3 0 1 4"} {
		var got []string
		for _, p := range ordered(list, []string{"core/stack/stack.go", "core/tables.go", "core/table.go"}, known, turn) {
			got = append(got, p.name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("turn %d: %v, want %s", turn, got, want)
		}
	}
}

// TestLeft: what a test leaves in its folders, in memory or in the tree is found.
func TestLeft(t *testing.T) {
	p, err := newPlace()
	if err != nil {
		t.Fatal(err)
	}
	defer p.remove()
	planted := []string{p.in("tmp/a"), p.in("home/.config/b"), p.in("state/c"), filepath.Join(p.top, "test", "run", fmt.Sprintf("planted-%d", os.Getpid()))}
	if info, err := os.Stat(p.memory); err == nil && info.IsDir() {
		planted = append(planted, filepath.Join(p.memory, fmt.Sprintf("%splanted-%d", prefix, os.Getpid())))
	}
	for _, at := range planted {
		if err := os.WriteFile(at, nil, 0o644); err != nil {
			t.Fatal(err)
		}
		found := func() bool { // other tests come and go beside it
			return slices.ContainsFunc(p.left(), func(l string) bool { return strings.HasSuffix(l, strings.TrimPrefix(at, p.top+"/")) })
		}
		left := found()
		if err := os.Remove(at); err != nil {
			t.Fatal(err)
		}
		if !left || found() {
			t.Errorf("%s was left, and is found: %v; gone, and is found: %v", at, left, found())
		}
	}
}

// TestTally: what is skipped is a failure, but for an input that a fuzz target passes over.
func TestTally(t *testing.T) {
	p := &place{top: t.TempDir(), dir: t.TempDir(), memory: t.TempDir()}
	c := newTally(time.Now())
	for _, e := range []event{{Action: "pass", Test: "TestA"}, {Action: "skip", Test: "FuzzB/seed#1"}, {Action: "pass", Test: "FuzzB"}} {
		c.take(e)
	}
	if err := c.close(p, "", ""); err != nil {
		t.Errorf("close = %v", err)
	}
	c.take(event{Action: "skip", Package: "fundus/core/x", Test: "TestC"})
	c.take(event{Action: "fail", Package: "fundus/core/x", Test: "TestD"})
	err := c.close(p, "", "")
	if err == nil || !slices.Equal(strings.Split(err.Error(), "; "), []string{"failed: fundus/core/x TestD", "fundus/core/x TestC"}) {
		t.Errorf("close = %v", err)
	}
}
