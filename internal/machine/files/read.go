package files

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"strings"

	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
)

// Read fills in the text files and the mount points that they name.
func Read(v *inventory.Inventory, r machine.Reader) error {
	state, err := r.ReadFile(fstab.Path)
	switch {
	case err != nil:
		v.Files[fstab.Path] = inventory.File{Problem: err.Error()}
	case state.Dir:
		v.Files[fstab.Path] = inventory.File{Problem: "it is a directory"}
	default:
		v.Files[fstab.Path] = inventory.File{Data: state.Data, Missing: state.Missing}
	}
	readPlaces(v, r)
	readUnits(v, r)
	v.Keep()
	return LookAtPlaces(v, r)
}

// LookAtPlaces fills in where the mount points of fstab lead, whether they are there, and
// whether the files are that it names. What was looked at stays. A place that is mounted at
// the first access is there, and is not looked at: that would be the first access.
func LookAtPlaces(v *inventory.Inventory, r machine.Reader) error {
	for _, l := range v.Fstab().Entries() {
		if l.Entry.Network() { // a dead server's mount point is not looked at: that can hang
			continue
		}
		dir := fstab.FromRoot(l.Entry.Dir)
		if v.Awaits(dir) {
			continue
		}
		if _, known := v.Leads[dir]; !known && strings.Contains(l.Entry.Dir, "/") {
			if at, err := r.Place(dir); err == nil && at.Path != dir {
				v.Leads[dir] = at.Path
			}
		}
	}
	for _, l := range v.Loaded() {
		where := l.Where()
		_, looked := v.Dirs[where]
		if looked || !strings.HasPrefix(where, "/") || !l.Kept() || (fstab.Entry{Type: l.Get("Mount", "Type"), Options: l.Options()}).Network() {
			continue
		}
		there := v.Awaits(where) // a look would be the first access
		if !there {
			state, err := r.ReadFile(where)
			there = err == nil && state.Dir
		}
		v.Dirs[where] = there
	}
	for _, u := range v.Units() {
		if v.Awaits(u.Where) {
			v.Dirs[u.Where] = true
		}
		if _, looked := v.Dirs[u.Where]; !looked && u.Where != "" && u.None == "" && !u.Entry.Network() {
			state, err := r.ReadFile(u.Where)
			v.Dirs[u.Where] = err == nil && state.Dir
			if at, errPlace := r.Place(u.Where); !v.Dirs[u.Where] && errPlace == nil && at.There {
				v.Blocked = blocked(v.Blocked, u.Where)
			}
		}
		if strings.HasPrefix(u.What, "/") && !fstab.IsNode(u.What) && !u.Entry.Network() {
			at, err := r.Place(u.What)
			v.Sources[u.What] = err == nil && at.There
			if u.Entry.IsSwap() && v.Sources[u.What] {
				if v.SwapFiles == nil {
					v.SwapFiles = map[string]string{}
				}
				if why, told := lookAtSwapFile(at.Full); told {
					v.SwapFiles[u.What] = why
				}
			}
		}
		lookAtNames(v, r, u.Entry.Options)
	}
	return nil
}

// blocked adds a place.
func blocked(places map[string]bool, where string) map[string]bool {
	out := maps.Clone(places)
	if out == nil {
		out = map[string]bool{}
	}
	out[where] = true
	return out
}

// mostText is how much of a text file is read.
const mostText = 4 << 20

// readPlaces reads every file that may name devices and is there. One that cannot
// be read says why, and hides nothing else.
func readPlaces(v *inventory.Inventory, r machine.Reader) {
	for _, p := range refs.Places() {
		paths := []string{p.Path}
		if p.Dir() {
			names, err := r.List(p.Path)
			if err != nil {
				v.Files[p.Path] = inventory.File{Problem: err.Error()}
			}
			paths = nil
			for _, name := range names {
				if strings.HasSuffix(name, p.Suffix) {
					paths = append(paths, path.Join(p.Path, name))
				}
			}
		}
		for _, path := range paths {
			if _, known := v.Files[path]; known {
				continue
			}
			state, err := r.ReadFile(path)
			switch {
			case err != nil:
				v.Files[path] = inventory.File{Problem: err.Error()}
			case !state.Missing && !state.Dir && len(state.Data) <= mostText:
				v.Files[path] = inventory.File{Data: state.Data}
			}
		}
	}
}

// ListDir names the files of a directory of this system, and the directories in it with a slash
// behind them.
func ListDir(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var names []string
	for _, e := range entries {
		name := e.Name()
		if e.IsDir() {
			name += "/"
		}
		names = append(names, name)
	}
	return names, err
}
