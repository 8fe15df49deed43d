// Package kernel puts what Fundus made before a real Linux kernel, which runs
// as a user process: Debian's package user-mode-linux, or the kernel that
// FUNDUS_TEST_KERNEL names. Where the kernel refuses what Fundus made, Fundus
// is wrong.
package kernel

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// Answer is what the guest says of one device; see the guest.
type Answer struct {
	Device     string
	Partitions []string
	Mounts     []string
	Used       []string
	Log        []string
	Said       []string
}

// judge is a kernel with all that it needs to run.
type judge struct {
	kernel, guest, fundus string
	preload               string // for processors that the kernel does not know
	passed                atomic.Int32
}

// newJudge finds the kernel. Without one the proof is left out, unless
// FUNDUS_NEED_KERNEL is set, as make test does.
func newJudge(t *testing.T) *judge {
	t.Helper()
	j := &judge{kernel: os.Getenv("FUNDUS_TEST_KERNEL")}
	if j.kernel == "" {
		path, err := exec.LookPath("linux.uml")
		if err != nil && os.Getenv("FUNDUS_NEED_KERNEL") != "" {
			t.Fatal("no linux.uml; make test installs Debian's package user-mode-linux")
		}
		if err != nil {
			t.Skip("left out: no user-mode-linux and no FUNDUS_TEST_KERNEL")
		}
		j.kernel = path
	}
	dir := t.TempDir()
	j.guest, j.fundus = filepath.Join(dir, "guest"), filepath.Join(dir, "fundus")
	build(t, j.guest, "./guest")
	build(t, j.fundus, "../../cmd/fundus")
	if cpu, err := os.ReadFile("/proc/cpuinfo"); err == nil && bytes.Contains(cpu, []byte(" amx_tile")) {
		j.preload = filepath.Join(dir, "xstate.so")
		if out, err := exec.Command("gcc", "-shared", "-fPIC", "-O2", "-o", j.preload, "xstate/xstate.c").CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	return j
}

func build(t *testing.T, into, pkg string) {
	t.Helper()
	cmd := exec.Command("go", "build", "-o", into, pkg)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// ask boots the kernel with the images as disks and gives its answers.
func (j *judge) ask(t *testing.T, use bool, images ...string) []Answer {
	t.Helper()
	return j.boot(t, use, nil, images...)
}

// boot also runs commands of fundus in the guest.
func (j *judge) boot(t *testing.T, use bool, commands []string, images ...string) []Answer {
	t.Helper()
	return j.bootIn(t, j.root(t), use, commands, images...)
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

// machine is the guest's kernel, ready to start.
func (j *judge) machine(ctx context.Context, t *testing.T, root string, use bool, commands, images []string) *exec.Cmd {
	t.Helper()
	var devices, words []string
	for i, image := range images {
		devices = append(devices, fmt.Sprintf("ubd%c", 'a'+i))
		words = append(words, fmt.Sprintf("ubd%d=%s", i, image))
	}
	task, err := json.Marshal(map[string]any{"Devices": devices, "Use": use, "Run": commands})
	if err := errors.Join(err, os.WriteFile(filepath.Join(root, "proof.json"), task, 0o644)); err != nil {
		t.Fatal(err)
	}
	cmd := exec.CommandContext(ctx, j.kernel, append([]string{"mem=384M", "root=/dev/root", "rootfstype=hostfs", "rootflags=" + root, "rw", "init=/init",
		"con=null", "con0=fd:0,fd:1", "quiet", "panic=-1"}, words...)...)
	cmd.Env = append(os.Environ(), "TMPDIR="+root)
	if j.preload != "" {
		cmd.Env = append(cmd.Env, "LD_PRELOAD="+j.preload)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return cmd
}

func (j *judge) bootIn(t *testing.T, root string, use bool, commands []string, images ...string) []Answer {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	console, err := j.machine(ctx, t, root, use, commands, images).CombinedOutput()
	for line := range strings.Lines(string(console)) {
		text, ok := strings.CutPrefix(strings.TrimSpace(line), "ANSWER ")
		if !ok {
			continue
		}
		var answers []Answer
		if err := json.NewDecoder(strings.NewReader(text)).Decode(&answers); err != nil || len(answers) != len(images) {
			t.Fatalf("answer %q: %v", text, err)
		}
		return answers
	}
	t.Fatalf("the guest gave no answer (%v); its console:\n%s", err, console)
	return nil
}

// endHard starts the command in the guest, waits until the log of its deed is
// there, and ends the guest after the delay, as if its power were lost.
func (j *judge) endHard(t *testing.T, root, command, image string, delay time.Duration) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := j.machine(ctx, t, root, false, []string{"begin", command}, []string{image})
	console, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(console)
	for lines.Scan() && !strings.Contains(lines.Text(), "BEGIN") {
	}
	logs := func() int {
		found, _ := filepath.Glob(filepath.Join(root, "var/lib/fundus/deeds/*/log"))
		return len(found)
	}
	for had, until := logs(), time.Now().Add(5*time.Second); logs() == had && time.Now().Before(until); {
		time.Sleep(200 * time.Microsecond)
	}
	time.Sleep(delay)
	if err := syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait() // it was killed
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
