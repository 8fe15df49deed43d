//go:build proof

package kernel

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"fundus/test/amount"
)

// proveDocuments has a program that knows documents alone prepare three disks under the kernel:
// with all the changes, and again with none after a boot that gave the disks other names; and after
// one in which they are larger, have them grown, mounted as they are.
func proveDocuments(t *testing.T, j *judge) {
	root := j.debian(t)
	// The language is the system's own: its program and its library, without what is installed besides.
	for _, name := range []string{"usr/bin/python3.11", "usr/lib/python3.11"} {
		if out, err := exec.Command("cp", "-a", "/"+name, filepath.Join(root, name)).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	script, err := os.ReadFile(filepath.Join("..", "program", "testdata", "drive.py"))
	err = errors.Join(err, os.Symlink("python3.11", filepath.Join(root, "usr/bin/python3")), os.WriteFile(filepath.Join(root, "drive.py"), script, 0o644))
	if err != nil {
		t.Fatal(err)
	}
	const size = 512 << 20
	all := []string{"ext4", "xfs", "swap"}
	var kinds []string // one of them by turns, beside disks that nobody asked for
	for i, kind := range all {
		if amount.Turn(i, len(all)) {
			kinds = append(kinds, kind)
		}
	}
	images := []string{blank(t, size), blank(t, size), blank(t, size)}
	boot := func(how string, changes int) {
		t.Helper()
		var commands []string
		var want [][]string
		for i, kind := range kinds {
			commands = append(commands, fmt.Sprintf("python /drive.py /bin/fundus - name=ubd%c %s /srv/%s %s", 'a'+i, kind, kind, how))
			want = append(want, []string{fmt.Sprintf(`"changes": %d}`, changes)})
		}
		a := j.run(t, start{root: root, systemd: true, images: images, commands: commands})
		says(t, a[len(images)-1].Said, want)
	}
	boot("", 5)
	slices.Reverse(images)
	boot("", 0)
	for _, image := range images {
		if err := os.Truncate(image, 2*size); err != nil {
			t.Fatal(err)
		}
	}
	boot("grow", 1)
	boot("grow", 0)
}
