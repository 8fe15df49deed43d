package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// run runs commands of fundus as an administrator would, and gives what each
// printed with how it ended. Some lines are the guest's own: "writer DIR"
// writes there without a pause until "rest", which says how that went; "begin"
// tells the host that the next command begins.
func run(commands []string) (said []string) {
	var w *writer
	for _, line := range commands {
		switch words := strings.Fields(line); words[0] {
		case "writer":
			w = startWriter(words[1])
			said = append(said, "")
		case "begin":
			fmt.Println("BEGIN") // the host may end the machine from here on
			said = append(said, "")
		case "rest":
			said = append(said, w.rest())
		default:
			cmd := exec.Command("/bin/fundus", words...)
			out, err := cmd.CombinedOutput()
			said = append(said, fmt.Sprintf("%s[%v]", out, err))
		}
	}
	return said
}

// writer is a neighbour that must not notice anything.
type writer struct {
	dir  string
	stop chan struct{}
	done chan string
}

func startWriter(dir string) *writer {
	w := &writer{dir, make(chan struct{}), make(chan string)}
	go func() { w.done <- w.write() }()
	return w
}

func (w *writer) write() string {
	for i := 0; ; i++ {
		select {
		case <-w.stop:
			return fmt.Sprintf("wrote %d files", i)
		default:
		}
		path := filepath.Join(w.dir, fmt.Sprintf("specimen%d", i%50))
		if err := os.WriteFile(path, content(i%300), 0o644); err != nil {
			return err.Error()
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != string(content(i%300)) {
			return fmt.Sprintf("file %d is not what was written: %v", i, err)
		}
		time.Sleep(time.Millisecond)
	}
}

func (w *writer) rest() string {
	close(w.stop)
	return <-w.done
}
