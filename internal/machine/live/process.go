package live

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// processes lists the numbers of all processes that can be seen.
func (m *Machine) processes() (out []string) {
	entries, err := os.ReadDir(m.at.proc)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err == nil {
			out = append(out, e.Name())
		}
	}
	return out
}

// describe names a process by its number and its program.
func (m *Machine) describe(process string) string {
	name, err := os.ReadFile(filepath.Join(m.at.proc, process, "comm"))
	if err != nil {
		return "process " + process
	}
	return fmt.Sprintf("process %s (%s)", process, strings.TrimSpace(strings.ToValidUTF8(string(name), "?")))
}

// whoHas names the processes, besides this one, that have the path open, as far
// as rights go.
func (m *Machine) whoHas(path string) (out []string) {
	self := strconv.Itoa(os.Getpid())
	for _, p := range m.processes() {
		if p == self {
			continue
		}
		dir := filepath.Join(m.at.proc, p, "fd")
		files, err := os.ReadDir(dir)
		if err != nil {
			continue // it ended, or is somebody else's
		}
		for _, f := range files {
			if link, err := os.Readlink(filepath.Join(dir, f.Name())); err == nil && link == path {
				out = append(out, m.describe(p))
				break
			}
		}
	}
	return out
}
