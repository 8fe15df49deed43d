package structure

import (
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
)

// TestArchitectureNamesEveryRoom: the tree of docs/architecture.md has each package where
// it is, and none that is not.
func TestArchitectureNamesEveryRoom(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "architecture.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, tree, _ := strings.Cut(string(text), "```\n")
	tree, _, _ = strings.Cut(tree, "```\n")
	const column = 25 // where it says what a room is for
	named := map[string]bool{}
	var above []string
	for line := range strings.Lines(tree) {
		rooms := strings.TrimRight(line[:min(len(line), column)], " \n")
		depth := (len(rooms) - len(strings.TrimLeft(rooms, " "))) / 2
		for _, room := range strings.Fields(rooms) {
			room = strings.TrimSuffix(room, "/")
			above = append(above[:depth:depth], room)
			named[path.Join(above...)] = true
		}
	}
	have := map[string]bool{}
	for _, s := range sources(t) {
		room := strings.TrimPrefix(s.pkg, "fundus/")
		if have[room] = true; !named[room] {
			t.Errorf("docs/architecture.md lacks %s", room)
		}
	}
	for room := range named {
		if _, err := os.Stat(filepath.Join("..", "..", room)); err != nil {
			t.Errorf("docs/architecture.md has %s: %v", room, err)
		}
	}
	if len(have) < 30 {
		t.Errorf("only %d packages", len(have))
	}
}
