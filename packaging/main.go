// Command packaging puts the program into packages: of Debian, of RPM, and an archive. It is a module of
// its own, so that the program does not depend on what makes them. Everything in a package has the time
// of the commit and belongs to root, and nothing names the machine that built it: the same commit gives
// the same bytes.
package main

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// release is what is packed.
type release struct {
	program string    // path of the built program
	version string    // "0.1.0+g0123456789ab"
	at      time.Time // of the commit
	arch    string    // as Go calls it
	top     string    // of the repository
	out     string    // where the packages go
}

func main() {
	log.SetFlags(0)
	var r release
	seconds := flag.Int64("at", 0, "second of the commit")
	flag.StringVar(&r.program, "program", "bin/fundus", "the program")
	flag.StringVar(&r.version, "version", "", "its version")
	flag.StringVar(&r.arch, "arch", "amd64", "its architecture")
	flag.StringVar(&r.top, "top", ".", "the repository")
	flag.StringVar(&r.out, "out", "dist", "where the packages go")
	flag.Parse()
	r.at = time.Unix(*seconds, 0).UTC()
	if err := r.pack(); err != nil {
		log.Fatal(err)
	}
}

// pack makes all packages, and the lists of what they are and of what is in the program.
func (r release) pack() error {
	if err := os.MkdirAll(r.out, 0o755); err != nil {
		return err
	}
	own, err := r.own()
	if err != nil {
		return err
	}
	var names []string
	for _, kind := range []string{"deb", "rpm"} {
		list, err := r.of(kind, own)
		if err != nil {
			return fmt.Errorf("%s: %w", kind, err)
		}
		name, err := r.nfpm(kind, list)
		if err != nil {
			return fmt.Errorf("%s: %w", kind, err)
		}
		names = append(names, name)
	}
	archive := fmt.Sprintf("fundus_%s_linux_%s.tar.gz", r.version, r.arch)
	if err := r.archive(archive, own); err != nil {
		return err
	}
	modules, err := r.modules()
	if err == nil {
		err = os.WriteFile(filepath.Join(r.out, "modules.txt"), modules, 0o644)
	}
	if err != nil {
		return err
	}
	return r.sums(append(names, archive, "modules.txt"))
}

// item is a file of a package.
type item struct {
	path string // from the root
	mode os.FileMode
	data []byte
}

// own are the files that every package has: what the program says of itself.
func (r release) own() (list []item, err error) {
	program, err := os.ReadFile(r.program)
	if err != nil {
		return nil, err
	}
	list = append(list, item{"/usr/bin/fundus", 0o755, program})
	pages, err := os.MkdirTemp("", "fundus-pages-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(pages)
	if out, err := exec.Command(r.program, "manual", pages).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("the manual pages: %w\n%s", err, out)
	}
	found, err := filepath.Glob(filepath.Join(pages, "*"))
	if err != nil {
		return nil, err
	}
	for _, at := range found {
		text, err := os.ReadFile(at)
		if err != nil {
			return nil, err
		}
		name := filepath.Base(at)
		list = append(list, item{"/usr/share/man/man" + name[len(name)-1:] + "/" + name + ".gz", 0o644, zipped(text)})
	}
	for shell, at := range map[string]string{
		"bash": "/usr/share/bash-completion/completions/fundus",
		"zsh":  "/usr/share/zsh/vendor-completions/_fundus",
		"fish": "/usr/share/fish/vendor_completions.d/fundus.fish",
	} {
		text, err := exec.Command(r.program, "completion", shell).Output()
		if err != nil {
			return nil, fmt.Errorf("the completion of %s: %w", shell, err)
		}
		list = append(list, item{at, 0o644, text})
	}
	slices.SortFunc(list, func(a, b item) int { return strings.Compare(a.path, b.path) })
	return list, nil
}

// of are the files of one kind of package.
func (r release) of(kind string, own []item) (list []item, err error) {
	list = slices.Clone(own)
	changes, err := os.ReadFile(filepath.Join(r.top, "CHANGELOG.md"))
	if err != nil {
		return nil, err
	}
	doc := "/usr/share/doc/fundus/"
	if kind == "rpm" {
		for i := range list { // where the others look for what a package brings
			list[i].path = strings.Replace(list[i].path, "/zsh/vendor-completions/", "/zsh/site-functions/", 1)
		}
		return append(list, item{doc + "CHANGELOG.md", 0o644, changes}), nil
	}
	for from, to := range map[string]string{"copyright": doc + "copyright", "overrides": "/usr/share/lintian/overrides/fundus"} {
		text, err := os.ReadFile(filepath.Join(r.top, "packaging", "debian", from))
		if err != nil {
			return nil, err
		}
		list = append(list, item{to, 0o644, text})
	}
	debian := fmt.Sprintf("fundus (%s-1) unstable; urgency=medium\n\n  * Packed from %s; changelog.gz says what changed.\n\n -- %s  %s\n",
		r.version, r.version, maintainer, r.at.Format(time.RFC1123Z))
	return append(list, item{doc + "changelog.gz", 0o644, zipped(changes)}, item{doc + "changelog.Debian.gz", 0o644, zipped([]byte(debian))}), nil
}

const maintainer = "The developers of Fundus <fundus@fernhill.example>"

// What a package says of itself.
const (
	summary     = "prepare disks: partition tables, file systems, mounts and fstab"
	description = "Fundus shows each change as a draft before anything is written, keeps what was\n" +
		"there for an undo, and predicts whether the next boot comes up."
)

// zipped is the text as packages have it: without a name or a time.
func zipped(text []byte) []byte {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err == nil {
		_, err = z.Write(text)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		panic(err) // into memory
	}
	return b.Bytes()
}

// nfpm makes one package, and gives its name.
func (r release) nfpm(kind string, list []item) (string, error) {
	stage, err := os.MkdirTemp("", "fundus-stage-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(stage)
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "fundus", Arch: r.arch, Platform: "linux", Version: r.version, VersionSchema: "none", Release: "1",
		Section: "admin", Priority: "optional", Maintainer: maintainer, License: "not decided", MTime: r.at,
		Description: summary + "\n" + description,
		Overridables: nfpm.Overridables{
			Recommends: []string{"udev"}, Suggests: []string{"systemd"},
			Deb: nfpm.Deb{Compression: "xz"},
			RPM: nfpm.RPM{BuildHost: "fernhill", Group: "System Environment/Base", Summary: summary},
		},
	})
	if kind == "rpm" {
		info.Description = description
		info.Recommends = []string{"systemd-udev"}
	}
	for i, it := range list {
		at := filepath.Join(stage, fmt.Sprint(i))
		if err := os.WriteFile(at, it.data, it.mode); err != nil {
			return "", err
		}
		if err := os.Chtimes(at, r.at, r.at); err != nil {
			return "", err
		}
		info.Contents = append(info.Contents, &files.Content{
			Source: at, Destination: it.path,
			FileInfo: &files.ContentFileInfo{Owner: "root", Group: "root", Mode: it.mode, MTime: r.at},
		})
	}
	packer, err := nfpm.Get(kind)
	if err != nil {
		return "", err
	}
	name := packer.ConventionalFileName(info)
	f, err := os.Create(filepath.Join(r.out, name))
	if err != nil {
		return "", err
	}
	defer f.Close()
	return name, packer.Package(info, f)
}

// modules are those that the program is made of, as it says itself.
func (r release) modules() ([]byte, error) {
	text, err := exec.Command("go", "version", "-m", r.program).Output()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) > 2 && f[0] == "dep" {
			fmt.Fprintf(&out, "%s %s\n", f[1], f[2])
		}
	}
	return out.Bytes(), nil
}

// sums lists the digests.
func (r release) sums(names []string) error {
	var out bytes.Buffer
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(r.out, name))
		if err != nil {
			return err
		}
		fmt.Fprintf(&out, "%x  %s\n", sha256.Sum256(data), name)
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), out.Bytes(), 0o644)
}
