//go:build proof

// Package kernel puts what Fundus made before a real Linux kernel, which runs
// as a user process: Debian's package user-mode-linux, or the kernel that
// FUNDUS_TEST_KERNEL names. Where the kernel refuses what Fundus made, Fundus
// is wrong.
package kernel

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"fundus/test/kit"
)

// Answer is what the guest says of one device; see the guest.
type Answer struct {
	Device     string
	Partitions []string
	Mounts     []string
	Used       []string
	Log        []string
	Said       []string
	Kernel     []string
}

// start is one start of the guest.
type start struct {
	root      string   // directory that is its root, over hostfs
	rootDisk  bool     // instead, the first partition of the first disk is
	rootName  string   // or the one of that name
	systemd   bool     // the guest is a service of a systemd
	use       bool     // what is mounted is written to, filled and emptied
	options   string   // of those mounts
	modules   []string // of the kernel's, with what they need; behind a space, with parameters
	boot      []string // more words of its command line
	commands  []string
	meanwhile func(context.Context, int) // what becomes of its kernel, a process, while it runs
	memory    string                     // of the machine; "" for the usual one
	images    []string                   // files, as disks ubda, ubdb …
	serials   []string                   // what those say of themselves; none: they go by their place
}

// judge is a kernel with all that it needs to run.
type judge struct {
	kernel, guest, fundus string
	preload               string // for processors that the kernel does not know
	modules               string // directory of the kernel's modules; empty where all is built in
}

// newJudge finds the kernel, and builds what it runs, unless that was built already.
func newJudge(t *testing.T) *judge {
	t.Helper()
	j := &judge{kernel: os.Getenv("FUNDUS_TEST_KERNEL")}
	if j.kernel == "" {
		path, err := exec.LookPath("linux.uml")
		if err != nil {
			t.Fatal("no linux.uml: it is in Debian's package user-mode-linux; or name a kernel in FUNDUS_TEST_KERNEL")
		}
		j.kernel = path
		j.modules = filepath.Join("/usr/lib/uml/modules", j.version(t))
	}
	made := kit.In(os.Getenv(kit.Made))
	if os.Getenv(kit.Made) == "" {
		var err error
		if made, err = kit.Build("../..", t.TempDir()); err != nil {
			t.Fatal(err)
		}
	}
	j.guest, j.fundus, j.preload = made.Guest, made.Fundus, made.Preload
	return j
}

// ask boots the kernel with the images as disks and gives its answers.
func (j *judge) ask(t *testing.T, use bool, images ...string) []Answer {
	t.Helper()
	return j.run(t, start{use: use, images: images})
}

// boot also runs commands of fundus in the guest.
func (j *judge) boot(t *testing.T, use bool, commands []string, images ...string) []Answer {
	t.Helper()
	return j.run(t, start{use: use, commands: commands, images: images})
}

// root makes the directory that the guest has as its root.
func (j *judge) root(t *testing.T) string {
	t.Helper()
	root, err := os.MkdirTemp("", "fundus-guest-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(root) })
	for _, d := range []string{"dev", "proc", "sys", "mnt", "bin", "etc"} {
		if err := os.Mkdir(filepath.Join(root, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	program, err := os.ReadFile(j.guest)
	err = errors.Join(err, os.Link(j.fundus, filepath.Join(root, "bin", "fundus")), os.WriteFile(filepath.Join(root, "init"), program, 0o755))
	if err != nil {
		t.Fatal(err)
	}
	return root
}

// withNeeds gives the modules with those that they need before them, from the
// kernel's own list.
func (j *judge) withNeeds(t *testing.T, names []string) (files []string, parameters map[string]string) {
	t.Helper()
	parameters = map[string]string{}
	if j.modules == "" || len(names) == 0 {
		return nil, nil
	}
	list, err := os.ReadFile(filepath.Join(j.modules, "modules.dep"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		name, words, _ := strings.Cut(name, " ")
		parameters[name+".ko"] = words
		for line := range strings.Lines(string(list)) {
			file, needs, _ := strings.Cut(strings.TrimSpace(line), ":")
			if filepath.Base(file) != name+".ko" {
				continue
			}
			all := strings.Fields(needs)
			slices.Reverse(all)
			for _, f := range append(all, file) {
				if !slices.Contains(files, f) {
					files = append(files, f)
				}
			}
		}
	}
	return files, parameters
}

// machine is the guest's kernel, ready to start.
func (j *judge) machine(ctx context.Context, t *testing.T, s start) *exec.Cmd {
	t.Helper()
	var devices, modules, words []string
	for i, image := range s.images {
		devices = append(devices, fmt.Sprintf("ubd%c", 'a'+i))
		if i < len(s.serials) && s.serials[i] != "" {
			image += ",," + s.serials[i]
		}
		words = append(words, fmt.Sprintf("ubd%d=%s", i, image))
	}
	files, parameters := j.withNeeds(t, s.modules)
	for _, file := range files {
		data, err := os.ReadFile(filepath.Join(j.modules, file))
		err = errors.Join(err, os.MkdirAll(filepath.Join(s.root, "modules"), 0o755), os.WriteFile(filepath.Join(s.root, "modules", filepath.Base(file)), data, 0o644))
		if err != nil {
			t.Fatal(err)
		}
		modules = append(modules, strings.TrimSpace(filepath.Base(file)+" "+parameters[filepath.Base(file)]))
	}
	task, err := json.Marshal(map[string]any{"Devices": devices, "Modules": modules, "Use": s.use, "Options": s.options, "Run": s.commands})
	if err := errors.Join(err, os.WriteFile(filepath.Join(s.root, "proof.json"), task, 0o644)); err != nil {
		t.Fatal(err)
	}
	memory := "mem=" + cmp.Or(s.memory, "384M")
	switch {
	case s.rootDisk:
		words = append(words, "root="+cmp.Or(s.rootName, "/dev/ubda1"), "rootfstype=ext4", "init=/init")
	case s.systemd:
		memory = "mem=512M"
		words = append(words, "root=/dev/root", "rootfstype=hostfs", "rootflags="+s.root)
	default:
		words = append(words, "root=/dev/root", "rootfstype=hostfs", "rootflags="+s.root, "init=/init")
	}
	words = append(words, s.boot...)
	cmd := exec.CommandContext(ctx, j.kernel, append([]string{memory, "rw", "con=null", "con0=fd:0,fd:1", "quiet", "panic=-1"}, words...)...)
	cmd.Env = append(os.Environ(), "TMPDIR="+memoryDir())
	if j.preload != "" {
		cmd.Env = append(cmd.Env, "LD_PRELOAD="+j.preload)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) } // the kernel is many processes
	cmd.WaitDelay = 5 * time.Second
	return cmd
}

// run starts the guest and waits for its answer, one for each disk. Where the
// test fails, it shows the kernel's log.
func (j *judge) run(t *testing.T, s start) []Answer {
	t.Helper()
	return j.answers(t, s, len(s.images))
}

// answers is run where the guest was asked about another number of disks.
func (j *judge) answers(t *testing.T, s start, want int) []Answer {
	t.Helper()
	if s.root == "" {
		s.root = j.root(t)
	}
	console, err := j.watched(t, s)
	for line := range strings.Lines(string(console)) {
		_, text, ok := strings.Cut(strings.TrimSpace(line), "ANSWER ")
		if !ok {
			continue
		}
		var answers []Answer
		if err := json.NewDecoder(strings.NewReader(text)).Decode(&answers); err != nil || len(answers) != want {
			t.Fatalf("answer %q: %v", text, err)
		}
		t.Cleanup(func() {
			if t.Failed() {
				t.Logf("the kernel's log:\n%s", strings.Join(answers[len(answers)-1].Kernel, "\n"))
			}
		})
		return answers
	}
	t.Fatalf("the guest gave no answer (%v); its console:\n%s", err, console)
	return nil
}

// cut starts the guest, which ends itself in the middle: no answer comes.
func (j *judge) cut(t *testing.T, s start) {
	t.Helper()
	console, err := j.watched(t, s)
	if !bytes.Contains(console, []byte("\nENDED")) {
		t.Fatalf("the machine did not end in the middle (%v); its console:\n%s", err, console)
	}
}

func (j *judge) version(t *testing.T) string {
	t.Helper()
	out, err := exec.Command(j.kernel, "--version").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

// bench is a simulated machine on which the built program prepares disks.
type bench struct {
	t   *testing.T
	j   *judge
	dir string
}

func (j *judge) bench(t *testing.T, size string) *bench {
	t.Helper()
	dir, err := os.MkdirTemp("", "fundus-kernel-") // the kernel takes no commas in the names of images
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	b := &bench{t, j, filepath.Join(dir, "fernhill")}
	b.must("bench", "new", b.dir, "--host", "fernhill")
	b.must("bench", "disk", "add", "sdb", "--size", size, "--serial", "LS-20417")
	return b
}

func (b *bench) run(words ...string) (string, int) {
	b.t.Helper()
	cmd := exec.Command(b.j.fundus, words...)
	cmd.Env = append(os.Environ(), "FUNDUS_BENCH="+b.dir)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

func (b *bench) must(words ...string) {
	b.t.Helper()
	if out, code := b.run(words...); code != 0 {
		b.t.Fatalf("fundus %s: exit %d\n%s", strings.Join(words, " "), code, out)
	}
}

func (b *bench) image() string { return filepath.Join(b.dir, "disks", "sdb.img") }

// memoryDir is where files cost no disk: what is gone with a test need not be
// written.
func memoryDir() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return os.TempDir()
}
