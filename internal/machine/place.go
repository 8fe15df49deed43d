package machine

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fundus/core/text"
	"fundus/core/way"
	"fundus/internal/oscall"
)

// Place is where a text file lies that is to be read or replaced, and what is in the way of
// replacing it.
type Place struct {
	Path     string      // in the machine, links followed
	Full     string      // on this system
	Links    []text.Link // that led there
	Mounted  bool        // the file itself is a mount point: nothing can be renamed over it
	Fixed    string      // "immutable" or "append-only"
	There    bool        // something is there
	Names    int         // hard links: another name keeps the old contents
	ReadOnly bool        // the file system that holds it
	Volatile string      // the kind of that, where it is in memory and gone with the next boot
}

// ErrNowhere is a path whose links lead nowhere.
var ErrNowhere = errors.New("its links cannot be followed")

// Below finds the place of a path of the system below a root. Links lead within that root,
// as they would for the system itself.
func Below(root, path string) (Place, error) {
	real, links, ok := text.Follow(path, func(at string) text.Found { return found(filepath.Join(root, at)) })
	if !ok {
		return Place{}, fmt.Errorf("%s: %w", path, ErrNowhere)
	}
	return Place{Path: real, Full: filepath.Join(root, real), Links: links}, nil
}

func found(full string) text.Found {
	info, err := os.Lstat(full)
	if err != nil {
		return text.Found{Missing: true}
	}
	if info.Mode()&os.ModeSymlink == 0 {
		return text.Found{Dir: info.IsDir()}
	}
	link, err := os.Readlink(full)
	if err != nil {
		return text.Found{Missing: true}
	}
	return text.Found{Link: link}
}

// Known fills in what the kernel says of the place. What lies in memory is gone with the next
// boot, where it is the boot's own root that is meant.
func (p Place) Known(root string) Place {
	f := oscall.FactsOf(p.Full)
	p.There, p.Names, p.Mounted, p.Fixed, p.ReadOnly = f.There, f.Names, f.Mounted, f.Fixed, f.ReadOnly
	if strings.Trim(root, "/") == "" {
		p.Volatile = f.Memory
	}
	return p
}

// Refuse says why the file cannot be replaced, or nil. In place means that it is written
// over where it lies, which is not safe at a power cut.
func (p Place) Refuse(path string, inPlace bool) *Refusal {
	name := path
	if p.Path != path {
		name = path + " (" + p.Path + ")"
	}
	no := func(next, format string, args ...any) *Refusal {
		return &Refusal{Rule: RuleFile, Thing: name, Text: fmt.Sprintf(format, args...), Next: way.ByHand(next)}
	}
	switch {
	case p.ReadOnly:
		return no("mount it for writing first", "the file system that holds it is read-only")
	case p.Volatile != "":
		return no("change the one that the boot reads, with --root", "it is on a %s, which is gone with the next boot", p.Volatile)
	case p.Fixed != "":
		return no("take the attribute off first, if whoever set it agrees", "it is %s: the file attribute forbids every change", p.Fixed)
	case p.Mounted && !inPlace:
		return no("--in-place overwrites it; if interrupted, half a file is left",
			"it is a mount point itself: no other file can take its place")
	}
	return nil
}
