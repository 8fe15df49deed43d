// Package kit makes what the proofs before a kernel need beside it: the two programs that
// run in the guest, and a minimal Debian. It is made once for all proofs, or by a proof
// that is run by itself.
package kit

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
)

// Made is the environment variable that names a directory with a kit.
const Made = "FUNDUS_TEST_KIT"

// Cache is the environment variable that names the directory in which the Debian is kept.
const Cache = "FUNDUS_TEST_CACHE"

// Kit is where the programs are.
type Kit struct {
	Guest, Fundus string
	Preload       string // for processors that the kernel does not know; "" where it is not needed
}

// In names the files of a kit in the directory.
func In(dir string) Kit {
	k := Kit{Guest: filepath.Join(dir, "guest"), Fundus: filepath.Join(dir, "fundus")}
	if cpu, err := os.ReadFile("/proc/cpuinfo"); err == nil && bytes.Contains(cpu, []byte(" amx_tile")) {
		k.Preload = filepath.Join(dir, "xstate.so")
	}
	return k
}

// Build makes a kit from the project below top.
func Build(top, dir string) (Kit, error) {
	k := In(dir)
	commands := [][]string{{"go", "build", "-o", k.Guest, "./test/kernel/guest"}, {"go", "build", "-o", k.Fundus, "./cmd/fundus"}}
	if k.Preload != "" {
		commands = append(commands, []string{"gcc", "-shared", "-fPIC", "-O2", "-o", k.Preload, "test/kernel/xstate/xstate.c"})
	}
	for _, words := range commands {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir, cmd.Env = top, append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return k, fmt.Errorf("%v: %w\n%s", words, err, out)
		}
	}
	return k, nil
}

// Debian is a minimal Debian with systemd and udev, made once and kept. Whoever comes while
// another makes it waits.
func Debian() (base string, err error) {
	cache := os.Getenv(Cache)
	if cache == "" {
		if cache, err = os.UserCacheDir(); err != nil {
			return "", err
		}
		cache = filepath.Join(cache, "fundus-test")
	}
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return "", err
	}
	lock, err := os.OpenFile(filepath.Join(cache, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return "", err
	}
	base = filepath.Join(cache, "debian-systemd-1")
	if _, err := os.Stat(filepath.Join(base, "sbin", "init")); err == nil {
		return base, nil
	}
	fresh := base + ".new"
	_ = os.RemoveAll(fresh) // what was left unfinished
	out, err := exec.Command("mmdebstrap", "--variant=minbase",
		"--include=systemd,systemd-sysv,udev,dbus,libpam-systemd,kmod", "bookworm", fresh).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("mmdebstrap: %w\n%s", err, out)
	}
	return base, errors.Join(os.Rename(fresh, base))
}
