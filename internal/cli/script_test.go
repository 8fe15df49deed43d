package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/probe/sample"
	"fundus/core/refused"
	"fundus/internal/view"
	"fundus/test/amount"
)

var update = flag.Bool("update", false, "rewrite the transcripts")

func TestMain(m *testing.M) {
	time.Local = time.UTC
	debug.SetGCPercent(400) // little is kept, and much is made
	os.Exit(m.Run())
}

// world is where a transcript runs: a temporary folder, a fixed clock, a seeded
// source of randomness.
type world struct {
	at   *time.Time // of the last look at the clock
	t    *testing.T
	dir  string
	env  *Env
	code string // the last one that was printed
	held []*os.File
	seed maphash.Seed
	last string // digests of all files, while nothing can have changed them
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, dir: memoryDir(t), seed: maphash.MakeSeed()}
	t.Chdir(w.dir)
	at := time.Date(2026, 3, 1, 8, 15, 0, 0, time.UTC)
	w.at = &at
	w.env = &Env{
		In: strings.NewReader(""), Random: mathrand.NewChaCha8([32]byte{1}), Shield: func() func() { return func() {} },
		Now: func() time.Time { at = at.Add(time.Second); return at },
		Getenv: func(name string) string {
			switch {
			case name == "FUNDUS_BENCH" && w.exists("fernhill"):
				return "fernhill"
			case name == "XDG_CONFIG_HOME":
				return "config"
			case name == "LANG":
				return "C.UTF-8"
			}
			return ""
		},
	}
	return w
}

// memoryDir is a folder in which a sync costs nothing, where there is such a place. Its
// path has always the same length, since messages that name it are broken into lines.
func memoryDir(t *testing.T) string {
	t.Helper()
	const length = 40
	for _, base := range []string{"/dev/shm", os.TempDir()} {
		name := fmt.Sprintf("%s/fundus-%08x-", base, mathrand.Uint32())
		dir := name + strings.Repeat("x", max(length-len(name), 1))
		if os.Mkdir(dir, 0o755) == nil {
			t.Cleanup(func() {
				err := errors.New("not tried")
				for n := 0; err != nil && n < 100; n++ { // a disk that hangs may have somebody in the folder still
					if err = os.RemoveAll(dir); err != nil {
						time.Sleep(20 * time.Millisecond)
					}
				}
				if err != nil {
					t.Error(err)
				}
			})
			return dir
		}
	}
	t.Fatal("no place for a temporary folder")
	return ""
}

func (w *world) exists(name string) bool {
	_, err := os.Stat(filepath.Join(w.dir, name))
	return err == nil
}

// fundus runs one command and gives what it printed with its exit code. What
// exits with 1 or 2, and every look, must leave each file as it was.
func (w *world) fundus(line string) string {
	var out bytes.Buffer
	e := *w.env
	e.o = options{}
	e.Out, e.Err = &out, &out
	before := w.last
	if before == "" {
		before = w.digests()
	}
	w.last = ""
	words := splitWords(strings.ReplaceAll(line, "$CODE", w.code))
	if !w.exists("fernhill") && !strings.HasPrefix(line, "bench") {
		words = append(words, "--state", filepath.Join(w.dir, "state"))
	}
	code := Run(context.Background(), &e, words)
	looks := []string{"survey", "inspect", "verify", "rehearse", "version", "help"}
	takenBack := strings.Contains(out.String(), "was taken back") // its record stays
	if !takenBack && (code == 1 || code == 2 || slices.Contains(looks, strings.Fields(line)[0])) {
		if w.last = w.digests(); before != w.last {
			w.t.Errorf("fundus %s: exit code %d, but files changed:\nbefore\n%s\nafter\n%s", line, code, before, w.last)
		}
	}
	if !takenBack && (code == 1 || code == 2) {
		w.refusedAsData(words, code)
		w.last = "" // an fstab that was seen is kept
	}
	text := out.String()
	if found := regexp.MustCompile(`fundus commit ([0-9a-f]{8})`).FindStringSubmatch(text); found != nil {
		w.code = found[1]
	}
	if code != 0 {
		text += fmt.Sprintf("[exit %d]\n", code)
	}
	return w.stable(text)
}

// refusedAsData runs a command that was refused once more, for its document: the same exit code, one
// document and nothing beside it, and an identifier that says what it was.
func (w *world) refusedAsData(words []string, code int) {
	w.t.Helper()
	var out, beside strings.Builder
	e, at := *w.env, *w.at
	e.o = options{}
	e.In, e.Out, e.Err = strings.NewReader(""), &out, &beside
	e.Random, e.Now = mathrand.NewChaCha8([32]byte{2}), func() time.Time { return at }
	again := Run(context.Background(), &e, append(slices.Clone(words), "--json"))
	keepDocument(w.t, []byte(out.String()))
	if strings.Contains(out.String(), `"kind": "jobs"`) { // a line each, with its own reason
		return
	}
	var doc view.ErrorDoc
	dec := json.NewDecoder(strings.NewReader(out.String()))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&doc); err != nil || dec.More() || beside.Len() > 0 || again != code {
		w.t.Errorf("fundus %s --json: exit %d, was %d; %v; beside it %q\n%s", strings.Join(words, " "), again, code, err, beside.String(), out.String())
		return
	}
	if !slices.Contains(refused.IDs(), refused.ID(doc.ID)) || refused.ID(doc.ID) == refused.Other {
		w.t.Errorf("fundus %s: the identifier %q: %s", strings.Join(words, " "), doc.ID, doc.Text)
	}
	if code == exitRefused && doc.Next != nil && len(doc.Next.Asks) == 0 && len(doc.Next.Words) > 1 && doc.Next.Words[0] == "fundus" {
		w.leadsOn(words, doc)
	}
}

// leadsOn runs what a refusal says next, as far as that changes nothing: a look, or the draft of a
// change. It is done, finds something, waits for a commit, or says what it needs.
func (w *world) leadsOn(words []string, doc view.ErrorDoc) {
	w.t.Helper()
	next := slices.Clone(doc.Next.Words[1:])
	cmd, rest, err := NewRoot(bareEnv()).Find(next)
	switch {
	case next[0] == "help":
		return // held elsewhere
	case err != nil || len(rest) == len(next):
		w.t.Errorf("fundus %s: leads to %v, which is no command", strings.Join(words, " "), next)
		return
	case cmd.Flags().Lookup("draft") != nil:
		next = append(next, "--draft")
	case next[0] == "recover" || next[0] == "bench":
		return // they act
	}
	if at := slices.Index(words, "--state"); at >= 0 {
		next = append(next, words[at:at+2]...)
	}
	if at := slices.Index(words, "--root"); at >= 0 {
		next = append(next, words[at:at+2]...)
	}
	var out strings.Builder
	e, at := *w.env, *w.at
	e.o = options{}
	e.In, e.Out, e.Err = strings.NewReader(""), &out, &out
	e.Random, e.Now = mathrand.NewChaCha8([32]byte{3}), func() time.Time { return at }
	code := Run(context.Background(), &e, append(next, "--json"))
	var said view.ErrorDoc
	if code == exitDone || code == exitFindings || json.Unmarshal([]byte(out.String()), &said) == nil && said.Kind == "error" && (len(said.Needs) > 0 || said.Next != nil) {
		return
	}
	if said.ID == string(refused.NoSuchDevice) && slices.ContainsFunc(words, func(word string) bool { return strings.Contains(said.Text, strconv.Quote(word)) }) {
		return // as it was typed
	}
	w.t.Errorf("fundus %s: %s\n  leads to fundus %s: exit %d: %s: %s", strings.Join(words, " "), doc.Text, strings.Join(next, " "), code, said.ID, said.Text)
}

// stable takes out of an output what differs from run to run.
func (w *world) stable(text string) string {
	text = strings.ReplaceAll(text, w.dir, "DIR")
	text = regexp.MustCompile(`this machine \([^)]*\)`).ReplaceAllString(text, "this machine (HOST)")
	text = regexp.MustCompile(`\b(\d{4})-[0-9a-f]{8}\b`).ReplaceAllString(text, "$1-CODE")
	text = regexp.MustCompile(`draft "[0-9a-f]{8}"`).ReplaceAllString(text, `draft "CODE"`)
	text = regexp.MustCompile(`(commit|draft|draft has|be draft|forget) [0-9a-f]{8}\b`).ReplaceAllString(text, "$1 CODE")
	text = regexp.MustCompile(`(?m)^[0-9a-f]{8} `).ReplaceAllString(text, "CODE     ")
	text = regexp.MustCompile(`\(go1[^)]*\)`).ReplaceAllString(text, "(GO)")
	if os.Getuid() != 0 { // then the user of a bench is whoever runs the tests
		text = strings.ReplaceAll(text, fmt.Sprintf("(%d:%d)", os.Getuid(), os.Getgid()), "(1000:1000)")
	}
	return regexp.MustCompile(`process \d+`).ReplaceAllString(text, "process N")
}

// digests is one line for each file of the folder, but for the lock.
func (w *world) digests() string {
	var lines []string
	err := filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == "lock" {
			return err
		}
		h := maphash.Hash{}
		h.SetSeed(w.seed)
		if d.Type()&fs.ModeSymlink != 0 {
			to, err := os.Readlink(path)
			lines = append(lines, to+" "+path)
			return err
		}
		err = sparseHash(path, &h)
		sum := h.Sum(nil)
		lines = append(lines, fmt.Sprintf("%x %s", sum[:8], path))
		return err
	})
	if err != nil {
		w.t.Fatal(err)
	}
	return strings.Join(lines, "\n")
}

// sparseDigest is the same in every run.
func sparseDigest(path string) ([]byte, error) {
	h := sha256.New()
	err := sparseHash(path, h)
	return h.Sum(nil), err
}

// sparseHash hashes data and skips holes, with their places.
func sparseHash(path string, h io.Writer) error {
	d, err := file.Open(path, false, block.Geometry{Logical: 1})
	if err != nil {
		return err
	}
	defer d.Close()
	for off := int64(0); off < d.Size(); {
		_, end, hole, err := d.Next(off)
		if err != nil {
			return err
		}
		for !hole && off < end {
			n := min(end-off, 1<<20-off%(1<<20))
			b, err := block.ReadSized(d, off, n, n)
			if err != nil {
				return err
			}
			for len(b) > 0 { // in pieces that do not depend on where holes are
				piece := b[:min(int64(len(b)), 4096-off%4096)]
				if !block.IsZero(piece) {
					fmt.Fprintf(h, "%d ", off)
					if _, err := h.Write(piece); err != nil {
						return err
					}
				}
				b, off = b[len(piece):], off+int64(len(piece))
			}
		}
		off = end
	}
	_, err = fmt.Fprintf(h, "%d", d.Size())
	return err
}

// copySparse copies the data of an image over another of the same size.
func copySparse(from, to string) error {
	a, errA := file.Open(from, false, block.Geometry{Logical: 1})
	b, errB := file.Open(to, true, block.Geometry{Logical: 1})
	if err := errors.Join(errA, errB); err != nil {
		return err
	}
	defer a.Close()
	defer b.Close()
	for off := int64(0); off < a.Size(); {
		_, end, hole, err := a.Next(off)
		if err != nil {
			return err
		}
		for n := int64(0); !hole && off < end; off += n {
			n = min(end-off, 1<<20)
			data, err := block.ReadSized(a, off, n, n)
			if err != nil {
				return err
			}
			if _, err := b.WriteAt(data, off); err != nil {
				return err
			}
		}
		off = end
	}
	return nil
}

// other runs a line that is no command of Fundus: something that happens to
// the machine.
func (w *world) other(line string) string {
	w.last = ""
	f := strings.SplitN(line, " ", 3)
	var err error
	switch f[0] {
	case "damage": // FILE OFFSET: turn all bits of a byte over
		var d *file.File
		if found, _ := filepath.Glob(f[1]); len(found) == 1 {
			f[1] = found[0]
		}
		if d, err = file.Open(f[1], true, block.Geometry{Logical: 1}); err == nil {
			at, _ := strconv.ParseInt(f[2], 10, 64)
			b, errRead := block.ReadSized(d, at, 1, 1)
			if err = errRead; err == nil {
				_, err = d.WriteAt([]byte{b[0] ^ 0xFF}, at)
			}
			d.Close()
		}
	case "sector": // FROM TO: the first sector of one file into another
		err = copyFirst(f[1], f[2])
	case "link": // FILE TARGET: a symbolic link
		err = os.Symlink(f[2], f[1])
	case "empty":
		err = os.Truncate(f[1], 0)
	case "print": // FILE
		data, errRead := os.ReadFile(f[1])
		if err = errRead; err == nil {
			return "  " + strings.ReplaceAll(strings.TrimSuffix(string(data), "\n"), "\n", "\n  ") + "\n"
		}
	case "rename":
		err = os.Rename(f[1], f[2])
	case "replace": // FILE OLD NEW: each time that the file says it
		words := strings.SplitN(f[2], " ", 2)
		var data []byte
		if data, err = os.ReadFile(f[1]); err == nil {
			err = os.WriteFile(f[1], []byte(strings.ReplaceAll(string(data), words[0], words[1])), 0o644)
		}
	case "forget": // LOG N: its last lines, as a power cut before them leaves it
		err = forgetLines(f[1], f[2])
	case "append":
		var h *os.File
		if err := os.MkdirAll(filepath.Dir(f[1]), 0o755); err != nil {
			w.t.Fatal(err)
		}
		if h, err = os.OpenFile(f[1], os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644); err == nil {
			_, err = h.WriteString(f[2] + "\n")
			h.Close()
		}
	case "copy":
		err = copySparse(f[1], f[2])
	case "image": // FILE MIB
		n, _ := strconv.ParseInt(f[2], 10, 64)
		err = file.Create(f[1], n<<20)
	case "readonly":
		err = os.Chmod(f[1], 0o444)
	case "lock":
		var h *os.File
		if h, err = os.Open(f[1]); err == nil {
			w.held = append(w.held, h)
			err = syscall.Flock(int(h.Fd()), syscall.LOCK_EX)
		}
	case "unlock":
		for _, h := range w.held {
			h.Close()
		}
	case "sample": // FILE OFFSET NAME: the bytes of a kind, at a place
		at, name, _ := strings.Cut(f[2], " ")
		err = putSample(f[1], at, name)
	case "digest": // FILE: to be compared by eye and by the transcript
		sum, errSum := sparseDigest(f[1])
		if err = errSum; err == nil {
			return fmt.Sprintf("%x\n", sum[:8])
		}
	default:
		err = fmt.Errorf("unknown line %q", line)
	}
	if err != nil {
		w.t.Fatal(err)
	}
	return ""
}

func copyFirst(from, to string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	d, err := file.Open(to, true, block.DefaultGeometry)
	if err != nil {
		return err
	}
	defer d.Close()
	_, err = d.WriteAt(data[:512], 0)
	return err
}

// forgetLines takes the last lines out of a log.
func forgetLines(pattern, number string) error {
	n, err := strconv.Atoi(number)
	found, errGlob := filepath.Glob(pattern)
	if err != nil || errGlob != nil || len(found) != 1 {
		return fmt.Errorf("%s fits %v", pattern, found)
	}
	data, err := os.ReadFile(found[0])
	lines := bytes.SplitAfter(data, []byte("\n"))
	if err != nil || len(lines) < n+1 {
		return fmt.Errorf("%d lines, %w", len(lines), err)
	}
	return os.WriteFile(found[0], bytes.Join(lines[:len(lines)-n-1], nil), 0o600)
}

// putSample writes a sample's bytes at an offset of an image.
func putSample(path, at, name string) error {
	base, err := strconv.ParseInt(at, 10, 64)
	i := slices.IndexFunc(sample.All(), func(s sample.Sample) bool { return s.Name == name })
	if err != nil || i < 0 {
		return fmt.Errorf("no sample %q", name)
	}
	d, err := file.Open(path, true, block.Geometry{Logical: 1})
	if err != nil {
		return err
	}
	defer d.Close()
	for off, b := range sample.All()[i].Pieces {
		if _, err := d.WriteAt(b, base+off); err != nil {
			return err
		}
	}
	return nil
}

// TestScripts runs each transcript: lines that begin with "$ " are carried out,
// what stands between them must be what is printed, and lines that begin with
// "# " say what is shown. A short run takes some of them, by turns. -update rewrites what is printed.
func TestScripts(t *testing.T) {
	paths, err := filepath.Glob("testdata/script/*.txt")
	if err != nil || len(paths) == 0 {
		t.Fatal(paths, err)
	}
	for i, path := range paths {
		if testing.Short() && !amount.Turn(i, 6) {
			continue
		}
		path, err := filepath.Abs(path)
		if err != nil {
			t.Fatal(err)
		}
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txt"), func(t *testing.T) {
			want, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			got := transcript(newWorld(t), string(want))
			if *update {
				if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if got != string(want) {
				t.Errorf("the transcript differs:\n%s", firstDifference(got, string(want)))
			}
		})
	}
}

func transcript(w *world, text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		command, is := strings.CutPrefix(line, "$ ")
		switch words, fundus := strings.CutPrefix(command, "fundus "); {
		case is && fundus:
			fmt.Fprintf(&b, "%s\n%s", line, unhurried(w.fundus(words)))
		case is:
			fmt.Fprintf(&b, "%s\n%s", line, w.other(command))
		case strings.HasPrefix(line, "# "):
			fmt.Fprintf(&b, "%s\n", line)
		}
	}
	return b.String()
}

// unhurried is what is printed without the lines of work that takes longer than a second: a slow machine has
// some where another has none.
func unhurried(out string) string {
	return regexp.MustCompile(`(?m)^.*  \d+%, .* of .*\n`).ReplaceAllString(out, "")
}

func firstDifference(got, want string) string {
	g, w := strings.Split(got, "\n"), strings.Split(want, "\n")
	command := ""
	for i := range min(len(g), len(w)) {
		if strings.HasPrefix(g[i], "$ ") {
			command = g[i]
		}
		if g[i] != w[i] {
			return fmt.Sprintf("line %d, after %s\ngot  %q\nwant %q", i+1, command, g[i], w[i])
		}
	}
	return fmt.Sprintf("%d lines, want %d", len(g), len(w))
}
