package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"fundus/test/kit"
)

// place is where tests may leave nothing: a temporary folder, a home and a state directory
// of their own, the memory that is a file system, and the tree.
type place struct {
	top    string // of the project
	dir    string // of all below
	memory string // where files cost no disk
	env    []string
	before map[string]bool // what was in memory and in the tree
}

// prefix begins the names of what the tests make in memory.
const prefix = "fundus-"

func newPlace() (*place, error) {
	out, err := exec.Command("go", "env", "GOMOD", "GOCACHE", "GOMODCACHE", "GOPATH").Output()
	if err != nil {
		return nil, err
	}
	of := strings.Split(string(out), "\n")
	dir, err := os.MkdirTemp("", "fundus-run-")
	if err != nil {
		return nil, err
	}
	p := &place{top: filepath.Dir(of[0]), dir: dir, memory: "/dev/shm"}
	for _, d := range []string{"tmp", "home", "state", "built"} {
		err = errors.Join(err, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	// Another user runs some of the tests.
	err = errors.Join(err, os.Chmod(dir, 0o755), os.Chmod(p.in("tmp"), 0o777|os.ModeSticky), p.quietGo())
	cache, errCache := os.UserCacheDir()
	p.env = append(slices.DeleteFunc(os.Environ(), foreign),
		"TMPDIR="+p.in("tmp"), "HOME="+p.in("home"), "XDG_STATE_HOME="+p.in("state"), "GOCACHE="+of[1],
		"GOMODCACHE="+of[2], "GOPATH="+of[3],
		kit.Made+"="+p.in("built"), kit.Cache+"="+filepath.Join(cache, "fundus-test"))
	p.env = slices.Clip(p.env) // several append to it at once
	p.before = map[string]bool{}
	for _, name := range append(p.inMemory(), p.tree()...) {
		p.before[name] = true
	}
	return p, errors.Join(err, errCache)
}

// foreign reports whether a variable would lead a test out of its place, or a program to
// another machine.
func foreign(entry string) bool {
	name, _, _ := strings.Cut(entry, "=")
	return strings.HasPrefix(name, "XDG_") ||
		slices.Contains([]string{"HOME", "TMPDIR", "FUNDUS_BENCH", "NO_COLOR", "GOCACHE", "GOMODCACHE", "GOPATH"}, name)
}

func (p *place) in(name string) string { return filepath.Join(p.dir, name) }

// quietGo has the go command count nothing in the home.
func (p *place) quietGo() error {
	dir := filepath.Join(p.in("home"), ".config", "go", "telemetry")
	return errors.Join(os.MkdirAll(dir, 0o755), os.WriteFile(filepath.Join(dir, "mode"), []byte("off"), 0o644))
}

// left names what is there and should not be.
func (p *place) left() (out []string) {
	for _, d := range []string{"tmp", "home", "state"} {
		_ = filepath.WalkDir(p.in(d), func(path string, e fs.DirEntry, err error) error {
			rel, _ := filepath.Rel(p.dir, path)
			if own := strings.HasPrefix(filepath.Join("home", ".config", "go", "telemetry", "mode"), rel); err == nil && !own && rel != d {
				out = append(out, path)
				if e.IsDir() {
					return filepath.SkipDir
				}
			}
			return nil
		})
	}
	for _, name := range append(p.inMemory(), p.tree()...) {
		if !p.before[name] {
			out = append(out, name)
		}
	}
	return out
}

func (p *place) inMemory() []string {
	found, _ := filepath.Glob(filepath.Join(p.memory, prefix+"*"))
	return found
}

// tree is what is new beside the last commit, also what git ignores; who edits a file while the
// tests run is no test.
func (p *place) tree() (out []string) {
	cmd := exec.Command("git", "status", "--porcelain", "--ignored", "--untracked-files=all")
	cmd.Dir = p.top
	text, err := cmd.Output()
	if err != nil {
		return nil // no checkout of git
	}
	for line := range strings.Lines(string(text)) {
		state, name, _ := strings.Cut(strings.TrimSpace(line), " ")
		if (state == "??" || state == "!!") && name != record {
			out = append(out, filepath.Join(p.top, name))
		}
	}
	return out
}

func (p *place) remove() { _ = os.RemoveAll(p.dir) }

// compiled is a package's tests as a program.
type compiled struct {
	pkg, dir, program string
}

// compile builds the tests of the packages; the programs of packages whose last names are
// the same go into folders of their own.
func (p *place) compile(into string, words []string, pkgs ...string) (out []compiled, err error) {
	list := exec.Command("go", append(append([]string{
		"list", "-f", "{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}} {{.Dir}}{{end}}",
	}, tags(words)...), pkgs...)...)
	list.Dir, list.Env, list.Stderr = p.top, p.env, os.Stderr
	text, err := list.Output()
	if err != nil {
		return nil, err
	}
	var rounds [][]compiled
	for line := range strings.Lines(string(text)) {
		pkg, dir, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok {
			continue
		}
		name := filepath.Base(pkg) + ".test"
		n := slices.IndexFunc(rounds, func(r []compiled) bool {
			return !slices.ContainsFunc(r, func(c compiled) bool { return filepath.Base(c.program) == name })
		})
		if n < 0 {
			n, rounds = len(rounds), append(rounds, nil)
		}
		rounds[n] = append(rounds[n], compiled{pkg, dir, filepath.Join(p.dir, into, fmt.Sprint(n), name)})
	}
	for n, round := range rounds {
		args := append(append([]string{"test", "-c", "-o", filepath.Join(p.dir, into, fmt.Sprint(n)) + "/"}, words...), names(round)...)
		cmd := exec.Command("go", args...)
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = p.top, p.env, os.Stdout, os.Stderr
		if slices.Contains(words, "-race") {
			cmd.Env = append(cmd.Env, "CGO_ENABLED=1")
		}
		if err := errors.Join(os.MkdirAll(filepath.Join(p.dir, into, fmt.Sprint(n)), 0o755), cmd.Run()); err != nil {
			return nil, err
		}
		out = append(out, round...)
	}
	return out, nil
}

func names(list []compiled) (out []string) {
	for _, c := range list {
		out = append(out, c.pkg)
	}
	return out
}

// tags are those of the words that choose files.
func tags(words []string) []string {
	return slices.DeleteFunc(slices.Clone(words), func(w string) bool { return !strings.HasPrefix(w, "-tags=") })
}
