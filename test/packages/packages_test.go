//go:build proof

package packages

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fundus/test/amount"
)

// at is the second of the commit that is packed here.
const at = "1772352000"

// ran runs a program, and gives what it printed.
func ran(t *testing.T, dir, program string, args ...string) string {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "CGO_ENABLED=0", "LC_ALL=C.UTF-8")
	var out, complaints bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &complaints
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s %s: %v\n%s%s", program, strings.Join(args, " "), err, out.String(), complaints.String())
	}
	return out.String()
}

// packer builds what packs, and the program of a version.
func packer(t *testing.T) (top, pack string, build func(version string) string) {
	t.Helper()
	top, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	pack = filepath.Join(dir, "pack")
	ran(t, filepath.Join(top, "packaging"), "go", "build", "-o", pack, ".")
	return top, pack, func(version string) string { return buildIn(t, top, dir, version) }
}

// buildIn builds the program of a tree into a directory.
func buildIn(t *testing.T, top, dir, version string) string {
	t.Helper()
	program := filepath.Join(dir, version)
	ran(t, top, "go", "build", "-trimpath", "-ldflags=-s -w -X fundus/internal/cli.Version="+version+" -X fundus/internal/cli.Date=2026-03-01", "-o", program, "./cmd/fundus")
	return program
}

// TestProofPackages: one program packed twice, at two times in two places, gives the same bytes; the
// checkers find nothing; and installed on a fresh Debian it is read about, completed, run, upgraded with a
// deed in its store, and removed, with nothing left but that.
func TestProofPackages(t *testing.T) {
	top, pack, build := packer(t)
	first, second, third := t.TempDir(), t.TempDir(), t.TempDir()
	program := build("0.1.0")
	ran(t, top, pack, "-top", top, "-program", program, "-version", "0.1.0", "-at", at, "-out", first)
	ran(t, second, pack, "-top", top, "-program", program, "-version", "0.1.0", "-at", at, "-out", second)
	ran(t, top, pack, "-top", top, "-program", build("0.1.1"), "-version", "0.1.1", "-at", at, "-out", third)
	sums, err := os.ReadFile(filepath.Join(first, "SHA256SUMS"))
	again, errAgain := os.ReadFile(filepath.Join(second, "SHA256SUMS"))
	if err != nil || errAgain != nil || !bytes.Equal(sums, again) || bytes.Count(sums, []byte("\n")) != 4 {
		t.Errorf("packed twice: %v %v\n%s\n%s", err, errAgain, sums, again)
	}
	ran(t, first, "sha256sum", "--quiet", "--strict", "-c", "SHA256SUMS")
	if amount.Soak() { // built once more, in another place
		copied := filepath.Join(t.TempDir(), "copy")
		ran(t, "", "cp", "-a", top, copied)
		other := buildIn(t, copied, filepath.Join(copied, "bin"), "0.1.0")
		if one, two := ran(t, "", "sha256sum", program), ran(t, "", "sha256sum", other); one[:64] != two[:64] {
			t.Errorf("built in two places: %s and %s", one, two)
		}
	}
	parts(t, top, program, first)
	t.Run("checkers", func(t *testing.T) { checked(t, first) })
	installed(t, filepath.Join(first, "fundus_0.1.0-1_amd64.deb"), filepath.Join(third, "fundus_0.1.1-1_amd64.deb"))
}

// checked asks the checkers of both worlds, and looks at what the archive says of its files.
func checked(t *testing.T, dir string) {
	t.Helper()
	left := t.TempDir() // the checkers leave files of their own
	t.Setenv("HOME", left)
	t.Setenv("TMPDIR", left)
	if said := ran(t, dir, "lintian", "--pedantic", "--fail-on", "none", "fundus_0.1.0-1_amd64.deb"); said != "" {
		t.Errorf("lintian: %s", said)
	}
	if said := ran(t, dir, "rpm", "-K", "--nosignature", "fundus-0.1.0-1.x86_64.rpm"); !strings.Contains(said, "digests OK") {
		t.Errorf("rpm: %s", said)
	}
	if said := ran(t, dir, "rpm", "-qp", "--qf", "%{BUILDHOST} %{LICENSE}\n[%{FILENAMES} %{FILEUSERNAME} %{FILEMTIMES}\n]", "fundus-0.1.0-1.x86_64.rpm"); !strings.HasPrefix(said, "fernhill not decided\n") || !strings.Contains(said, "/usr/bin/fundus root "+at+"\n") || strings.Count(said, " root "+at) != strings.Count(said, "\n/") {
		t.Errorf("rpm: %s", said)
	}
	overrides, err := os.ReadFile(filepath.Join("..", "..", "packaging", "debian", "overrides"))
	if err != nil || bytes.Count(overrides, []byte("\n# "))+1 != bytes.Count(overrides, []byte("\nfundus: ")) {
		t.Errorf("an override has no reason, %v:\n%s", err, overrides)
	}
	for line := range strings.Lines(ran(t, dir, "tar", "--utc", "--full-time", "-tvzf", "fundus_0.1.0_linux_amd64.tar.gz")) {
		if f := strings.Fields(line); f[1] != "root/root" || f[3]+" "+f[4] != "2026-03-01 08:00:00" || !strings.HasPrefix(f[5], "fundus-0.1.0/") {
			t.Errorf("the archive: %s", line)
		}
	}
}

// parts: the list of modules is what the program is made of, and each is under a licence of a short list.
func parts(t *testing.T, top, program, dir string) {
	t.Helper()
	list, err := os.ReadFile(filepath.Join(dir, "modules.txt"))
	if err != nil {
		t.Fatal(err)
	}
	inside := 0
	for line := range strings.Lines(ran(t, top, "go", "version", "-m", program)) {
		if f := strings.Fields(line); len(f) > 2 && f[0] == "dep" {
			inside++
			if !strings.Contains("\n"+string(list), "\n"+f[1]+" "+f[2]+"\n") {
				t.Errorf("modules.txt lacks %s %s", f[1], f[2])
			}
		}
	}
	if inside == 0 || inside != strings.Count(string(list), "\n") {
		t.Errorf("%d modules, and modules.txt has\n%s", inside, list)
	}
	marks := []string{"CC0 1.0 Universal", "MIT License", "Permission is hereby granted, free of charge", "Redistribution and use in source and binary forms", "Apache License", "Licensed under the Apache License"}
	for module := range strings.Lines(string(list)) {
		dir := strings.TrimSpace(ran(t, top, "go", "list", "-m", "-f", "{{.Dir}}", strings.Fields(module)[0]))
		found, _ := filepath.Glob(filepath.Join(dir, "[LC][IO][CP][EYI]*")) // LICENSE, LICENCE, COPYING
		known := slices.ContainsFunc(found, func(at string) bool {
			text, err := os.ReadFile(at)
			return err == nil && slices.ContainsFunc(marks, func(m string) bool { return bytes.Contains(text, []byte(m)) })
		})
		if !known {
			t.Errorf("%s: no licence of those that are known in %v", strings.TrimSpace(module), found)
		}
	}
}

// life is what becomes of a package on a machine; each line that it prints is held.
const life = `set -e
dpkg -i /first.deb > /dev/null
mandb -q > /dev/null 2>&1
man fundus-format | grep -q 'file system on a partition'; echo read
apropos partition | grep -c '^fundus-\(format\|partition\|resize\) ' | sed 's/^/apropos /'
bash -c 'source /usr/share/bash-completion/bash_completion; _completion_loader fundus; complete -p fundus > /dev/null' && echo bash
zsh -f -c 'autoload -Uz compinit; compinit -u; [[ $_comps[fundus] == _fundus ]]' && echo zsh
fish -c 'complete -C "fundus prep"' | grep -q '^prepare' && echo fish
fundus demo > /dev/null && echo demo
truncate -s 64M /root/card.img
fundus prepare /root/card.img --as ext4 --label FIELDCARD --commit --quiet > /dev/null && echo prepared
dpkg -i /second.deb > /dev/null
fundus version --json | grep -q '"0.1.1"' && echo upgraded
fundus undo --commit --quiet > /dev/null && echo undone
ls /etc/systemd/system/*fundus* /usr/lib/systemd/system/*fundus* 2> /dev/null || echo 'no unit'
dpkg --purge fundus > /dev/null 2>&1
find / -xdev -name '*fundus*' -not -path '/proc/*' -not -path '/var/lib/fundus*' -not -path '/var/cache/man/*' -not -path '/var/log/*' | sed 's/^/left: /'
ls /var/lib/fundus/deeds | wc -l | sed 's/^/deeds /'
`

func installed(t *testing.T, first, second string) {
	t.Helper()
	tree := filepath.Join(t.TempDir(), "tree")
	ran(t, "", "mmdebstrap", "-q", "--variant=minbase", "--include=man-db,bash-completion,zsh,fish", "bookworm", tree)
	for from, to := range map[string]string{first: "first.deb", second: "second.deb"} {
		ran(t, "", "cp", from, filepath.Join(tree, to))
	}
	if err := os.WriteFile(filepath.Join(tree, "life"), []byte(life), 0o755); err != nil {
		t.Fatal(err)
	}
	ran(t, "", "mount", "--bind", "/proc", filepath.Join(tree, "proc"))
	defer ran(t, "", "umount", filepath.Join(tree, "proc"))
	got := ran(t, "", "env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "TERM=dumb", "chroot", tree, "/bin/bash", "/life")
	want := "read\napropos 3\nbash\nzsh\nfish\ndemo\nprepared\nupgraded\nundone\nno unit\ndeeds 2\n"
	if got != want {
		t.Errorf("on a fresh Debian:\n%s\nand not\n%s", got, want)
	}
	fmt.Printf("packages: installed, read about, completed by three shells, upgraded over a deed and removed: %v\n", got == want)
}
