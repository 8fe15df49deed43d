// Command guest is the first program of the machine in which the kernel proof
// runs, or a service of the systemd there. It does what the file /proof.json asks
// for, prints one JSON line with what the kernel said, and switches the machine
// off. With words it is a helper process of itself.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"fundus/internal/machine/live"
)

// Task is what the host asks for.
type Task struct {
	Modules []string // of the kernel, in the order of their dependencies
	Devices []string // such as "ubda"
	Use     bool     // write a tree, read it back, fill, empty
	Options string   // of the mounts
	Run     []string // before that, commands of fundus; see run
}

// Answer is what the kernel said of one device.
type Answer struct {
	Device     string
	Partitions []string // "number start size", in sectors
	Mounts     []string // for each partition, else the disk itself: "name mounted" or the error
	Used       []string // what using it gave
	Log        []string // lines of the kernel's log that speak of errors
	Said       []string // by the commands
	Kernel     []string // the whole log, to explain a failure
}

func main() {
	if live.FirstRead(os.Args, os.Stdout) {
		return
	}
	if code, child := live.GiveUpSwap(os.Args); child { // of the machine that runs in this program
		os.Exit(code)
	}
	if len(os.Args) > 1 && os.Getpid() != 1 {
		help(os.Args[1:])
		return
	}
	if os.Getpid() == 1 {
		for _, m := range [][2]string{{"proc", "/proc"}, {"sysfs", "/sys"}, {"devtmpfs", "/dev"}} {
			if err := syscall.Mount(m[0], m[1], m[0], 0, ""); err != nil && err != syscall.EBUSY {
				fmt.Println("mounting", m[1], err)
			}
		}
	}
	_ = syscall.Sethostname([]byte("fernhill")) // only for what is read
	if device := os.Getenv(preparedAt); device != "" && os.Getpid() == 1 {
		prepare(device)
		return
	}
	var task Task
	data, err := os.ReadFile("/proof.json")
	if err == nil {
		err = json.Unmarshal(data, &task)
	}
	if err != nil {
		fmt.Println("no task:", err)
	}
	for _, m := range task.Modules {
		if err := load(m); err != nil {
			fmt.Println("module", m, err)
		}
	}
	log := openLog()
	log.errors() // what the kernel says of its own start is not ours
	log.all = nil
	said := run(task.Run)
	var answers []Answer
	for _, d := range task.Devices {
		answers = append(answers, judge(d, task.Use, task.Options))
	}
	if len(answers) > 0 {
		answers[len(answers)-1].Said = said
		answers[len(answers)-1].Log = log.errors()
		answers[len(answers)-1].Kernel = log.all
	}
	line, err := json.Marshal(answers)
	fmt.Println("\nANSWER", string(line), err)
	_ = syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF)
}

// load puts a module of the kernel's into it, with the parameters behind its name.
func load(name string) error {
	name, parameters, _ := strings.Cut(name, " ")
	f, err := os.Open(filepath.Join("/modules", name))
	if err != nil {
		return err
	}
	defer f.Close()
	err = unix.FinitModule(int(f.Fd()), parameters, 0)
	if err == syscall.EEXIST {
		return nil
	}
	return err
}

func judge(device string, use bool, options string) Answer {
	a := Answer{Device: device}
	parts, _ := filepath.Glob("/sys/block/" + device + "/" + device + "*")
	sort.Strings(parts)
	var names []string
	for _, p := range parts {
		a.Partitions = append(a.Partitions, fmt.Sprintf("%s %s %s", read(p, "partition"), read(p, "start"), read(p, "size")))
		names = append(names, filepath.Base(p))
	}
	if len(names) == 0 {
		names = []string{device} // without a table, the disk itself may hold something
	}
	for _, n := range names {
		err := syscall.Mount("/dev/"+n, "/mnt", "ext4", 0, options)
		if err != nil {
			a.Mounts = append(a.Mounts, n+" "+err.Error())
			continue
		}
		a.Mounts = append(a.Mounts, n+" mounted")
		if use {
			a.Used = append(a.Used, exercise("/dev/"+n, options)...)
		}
		if err := syscall.Unmount("/mnt", 0); err != nil {
			a.Used = append(a.Used, "unmount: "+err.Error())
		}
	}
	return a
}

func read(dir, name string) string {
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return err.Error()
	}
	return strings.TrimSpace(string(data))
}

// kernelLog reads the kernel's log, which is never waited for.
type kernelLog struct {
	fd  int
	err error
	all []string
}

func openLog() *kernelLog {
	fd, err := syscall.Open("/dev/kmsg", syscall.O_RDONLY|syscall.O_NONBLOCK, 0)
	return &kernelLog{fd: fd, err: err}
}

// errors gives the new lines of errors and worse, and those of ext4 that warn.
func (l *kernelLog) errors() (out []string) {
	if l.err != nil {
		return []string{l.err.Error()}
	}
	buf := make([]byte, 8192)
	for {
		n, err := syscall.Read(l.fd, buf)
		if err != nil || n <= 0 {
			return out
		}
		var level int
		line, _, _ := strings.Cut(string(buf[:n]), "\n")
		l.all = append(l.all, line)
		if _, err := fmt.Sscanf(line, "%d,", &level); err == nil && (level&7 <= 3 || level&7 == 4 && strings.Contains(line, "EXT4-fs")) {
			out = append(out, strings.TrimSpace(line))
		}
	}
}
