package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Prepared is what a machine is given before its systemd starts: it lies on its last disk.
type Prepared struct {
	Files  map[string]string // by path: contents, "-> TARGET" for a link, "/" for a directory
	Ask    []string          // words of fundus, whose answer is what was foretold
	NoBoot bool              // that is all
}

// Reported is what became of a boot.
type Reported struct {
	Units  map[string]map[string]string // properties by name
	Mounts string                       // /proc/self/mountinfo
	Swaps  string                       // /proc/swaps
	Jobs   []Ended                      // that failed
}

// Ended is a job that did not come about, in microseconds from the start of the kernel.
type Ended struct {
	Unit, How string
	At        int64
}

// Where the program finds what it is given, and where it lies itself.
const (
	preparedAt = "FERNHILL" // in the environment: the kernel puts words of its command line there
	ownPath    = "/init"
)

// copySystem copies a minimal Debian from the host onto a file system, without what no boot needs, and
// this program and fundus with it: DEVICE BASE.
func copySystem(w []string) string {
	const from, to = "/src", "/mnt"
	err := errors.Join(os.MkdirAll(from, 0o755), syscall.Mount("none", from, "hostfs", syscall.MS_RDONLY, w[1]),
		syscall.Mount("/dev/"+w[0], to, "ext4", 0, ""))
	if err == nil {
		err = errors.Join(copyTree(from, to), copyTree("/extra", to))
	}
	for _, program := range []string{ownPath, "/bin/fundus"} {
		data, errRead := os.ReadFile(program)
		err = errors.Join(err, errRead, os.WriteFile(to+program, data, 0o755))
	}
	err = errors.Join(err, syscall.Unmount(to, 0), syscall.Unmount(from, 0))
	return fmt.Sprintf("filled%s", fine(err))
}

// needless lists what no boot needs.
func needless() []string {
	return []string{"usr/share/doc", "usr/share/man", "usr/share/locale", "usr/share/perl", "usr/share/zoneinfo",
		"usr/share/info", "usr/share/lintian", "usr/lib/udev/hwdb.d", "usr/lib/udev/hwdb.bin",
		"usr/lib/apt", "var/cache", "var/lib/apt", "var/lib/dpkg", "etc/fstab", "usr/lib/x86_64-linux-gnu/perl-base",
		"usr/lib/x86_64-linux-gnu/gconv", "usr/share/bash-completion", "usr/share/zsh"}
}

func copyTree(from, to string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil || rel == "." {
			return err
		}
		if slices.Contains(needless(), rel) {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch mode := info.Mode(); {
		case mode.IsDir():
			return errors.Join(os.MkdirAll(target, 0o755), os.Chmod(target, mode.Perm()|mode&os.ModeSticky))
		case mode&os.ModeSymlink != 0:
			link, err := os.Readlink(path)
			return errors.Join(err, os.Symlink(link, target))
		case mode.IsRegular():
			data, err := os.ReadFile(path)
			return errors.Join(err, os.WriteFile(target, data, mode.Perm()))
		}
		return nil
	})
}

// prepare gives a machine its files, has fundus foretell its boot, and goes over to systemd.
func prepare(device string) {
	var p Prepared
	err := onDevice("/dev/"+device, func(f *os.File) error { return json.NewDecoder(f).Decode(&p) })
	mounts, errMounts := os.ReadFile("/proc/mounts")
	readOnly := bytes.Contains(mounts, []byte(" / ext4 ro"))
	err = errors.Join(err, errMounts, syscall.Mount("", "/", "", syscall.MS_REMOUNT, ""))
	for path, text := range p.Files {
		_ = os.RemoveAll(path)
		err = errors.Join(err, os.MkdirAll(filepath.Dir(path), 0o755))
		switch link, is := strings.CutPrefix(text, "-> "); {
		case is:
			err = errors.Join(err, os.Symlink(link, path))
		case text == "/":
			err = errors.Join(err, os.MkdirAll(path, 0o755))
		default:
			err = errors.Join(err, os.WriteFile(path, []byte(text), 0o644))
		}
	}
	if readOnly {
		err = errors.Join(err, syscall.Mount("", "/", "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	}
	cmd := exec.Command("/bin/fundus", p.Ask...)
	cmd.Env = []string{"PATH=/bin:/sbin", "HOME=/root", "GOMAXPROCS=1"}
	out, _ := cmd.Output() // findings have an exit code of their own
	var line bytes.Buffer
	err = errors.Join(err, json.Compact(&line, out))
	fmt.Printf("\nFORETOLD %s\n", line.String())
	if err != nil {
		fmt.Println("preparing:", err)
	}
	if p.NoBoot || err != nil {
		_ = syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF)
	}
	fmt.Println("starting systemd:", syscall.Exec("/lib/systemd/systemd", []string{"/sbin/init"},
		[]string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}))
	_ = syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF)
}

// report says what became of the boot when all of it has ended, and switches off.
func report() {
	r := Reported{Units: map[string]map[string]string{}}
	for range 300 { // until nothing is left to be done
		out, _ := exec.Command("systemctl", "list-jobs", "--no-legend", "--plain", "--full").Output()
		left := slices.DeleteFunc(strings.Split(strings.TrimSpace(string(out)), "\n"), func(l string) bool {
			return l == "" || strings.Contains(l, "No jobs") || strings.Contains(l, "report") ||
				!strings.HasSuffix(strings.TrimSpace(l), "running")
		})
		if len(left) == 0 {
			break
		}
		fmt.Println("AT waiting for", left)
		time.Sleep(300 * time.Millisecond)
	}
	out, err := exec.Command("systemctl", "show", "*.mount", "*.automount", "*.swap", "*.target", "*.service",
		"--property=Id,LoadState,ActiveState,Result,FragmentPath,ActiveEnterTimestampMonotonic").Output()
	for block := range strings.SplitSeq(string(out), "\n\n") {
		unit := map[string]string{}
		for line := range strings.Lines(block) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
			unit[key] = value
		}
		r.Units[unit["Id"]] = unit
	}
	mounts, errMounts := os.ReadFile("/proc/self/mountinfo")
	swaps, errSwaps := os.ReadFile("/proc/swaps")
	r.Mounts, r.Swaps = string(mounts), string(swaps)
	var log string
	r.Jobs, log = jobs()
	line, errLine := json.Marshal(r)
	fmt.Printf("\nLOG %s\nREPORT %s\n", log, line)
	if err := errors.Join(err, errMounts, errSwaps, errLine); err != nil {
		fmt.Println("reporting:", err)
	}
	_ = syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF)
}

// jobs finds in the kernel's log, where systemd writes as well, what did not come about.
func jobs() (out []Ended, log string) {
	fd, err := unix.Open("/dev/kmsg", unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err.Error()
	}
	defer unix.Close(fd)
	var all []string
	buf := make([]byte, 8192)
	for {
		n, err := unix.Read(fd, buf)
		if err != nil || n <= 0 {
			break
		}
		head, text, _ := strings.Cut(string(buf[:n]), ";")
		text, _, _ = strings.Cut(text, "\n")
		fields := strings.Split(head, ",")
		var at int64
		if len(fields) > 2 {
			_, _ = fmt.Sscan(fields[2], &at)
		}
		text = strings.ReplaceAll(text, `\x5c`, `\`) // as the kernel writes a backslash
		_, said, is := strings.Cut(text, "systemd[1]: ")
		if strings.Contains(text, "Failed at step") || strings.Contains(text, "EXT4-fs") ||
			strings.Contains(text, "error") { // of a child, and of the kernel
			all = append(all, fmt.Sprint(at, " ", text))
		}
		if !is {
			continue
		}
		all = append(all, said)
		unit, how, is := strings.Cut(said, ": Job ")
		if _, end, ok := strings.Cut(how, "/start "); is && ok {
			end = strings.TrimSuffix(end, ".")
			if _, result, ok := strings.Cut(end, "'"); ok {
				end = strings.TrimSuffix(result, "'")
			}
			out = append(out, Ended{unit, end, at})
		}
	}
	words, err := json.Marshal(all)
	if err != nil {
		return out, err.Error()
	}
	return out, string(words)
}
