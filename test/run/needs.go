package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"

	"fundus/test/kit"
)

// need is something of the system without which proofs cannot run.
type need struct {
	what    string // for people
	program string // by whose presence it is told
	pkg     string // of Debian
	forWhat string
}

func needs() []need {
	list := []need{
		{
			"a Linux kernel that runs as a process", "linux.uml", "user-mode-linux",
			"everything that a kernel judges (or name another one in FUNDUS_TEST_KERNEL)",
		},
		{"what makes a minimal Debian", "mmdebstrap", "mmdebstrap", "everything beside systemd and udev, and boots"},
		{"the boot loader's reader", "grub-fstest", "grub-common", "file systems and labels as a boot loader finds them"},
		{"a validator of JSON Schemas", "/usr/bin/jsonschema", "python3-minimal python3-jsonschema", "documents before another program"},
		{"a C compiler", "gcc", "gcc libc6-dev", "the race detector"},
		{"bash", "bash", "bash", "its completions"},
		{"zsh", "zsh", "zsh", "its completions"},
		{"a checker of packages", "lintian", "lintian", "the package of Debian"},
		{"a reader of RPM packages", "rpm", "rpm", "the other package: its digests and its list"},
		{"a reader of manual pages", "mandoc", "mandoc", "manual pages: their source, and as they are read"},
		{"the usual reader of manual pages", "man", "man-db groff-base", "manual pages: warnings, and what apropos finds"},
	}
	if os.Getenv("FUNDUS_TEST_KERNEL") != "" {
		list = list[1:]
	}
	return list
}

// missing are the needs that the system does not meet.
func missing() []need {
	return slices.DeleteFunc(needs(), func(n need) bool {
		_, err := exec.LookPath(n.program)
		return err == nil
	})
}

// install gets what is missing from Debian, where it may. What then is missing is the error.
func install() error {
	list := missing()
	root := os.Getuid() == 0
	if _, err := exec.LookPath("apt-get"); err == nil && root && len(list) > 0 {
		var pkgs []string
		for _, n := range list {
			pkgs = append(pkgs, strings.Fields(n.pkg)...)
		}
		fmt.Println("installing from Debian:", strings.Join(pkgs, " "))
		for _, words := range [][]string{{"update", "-q"}, append([]string{"install", "-qy"}, pkgs...)} {
			cmd := exec.Command("apt-get", words...)
			cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
			if out, err := cmd.CombinedOutput(); err != nil { // it shows in the list
				fmt.Printf("apt-get %s: %v\n%s", words[0], err, out)
			}
		}
		list = missing()
	}
	var lines []string
	for _, n := range list {
		lines = append(lines, fmt.Sprintf("  %s, for %s: apt-get install %s", n.what, n.forWhat, n.pkg))
	}
	if !root {
		lines = append(lines, "  root, for systems in which proofs run, and for files that are given away: run it as root")
	}
	if len(lines) == 0 {
		return nil
	}
	return fmt.Errorf("no proof was begun; what is missing:\n%s", strings.Join(lines, "\n"))
}

// prepare makes what the proofs share.
func (p *place) prepare() error {
	fmt.Println("making the programs of the guest, and the Debian that it boots")
	_, err := kit.Build(p.top, p.in("built"))
	if err != nil {
		return err
	}
	for _, entry := range p.env {
		if dir, is := strings.CutPrefix(entry, kit.Cache+"="); is {
			err = errors.Join(err, os.Setenv(kit.Cache, dir))
		}
	}
	_, errDebian := kit.Debian()
	return errors.Join(err, errDebian)
}
