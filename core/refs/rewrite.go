package refs

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/bootcfg"
	"fundus/core/fstab"
	"fundus/core/inventory"
	"fundus/core/unit"
)

// Rewritten is a file with another name in it.
type Rewritten struct {
	Path  string
	Data  []byte
	Lines []int // that changed, from 1
	Place
}

// Rewrite gives every file that says the old identifier with the new one in its
// place, and the references that could not be changed, with the reason. A link of
// udev's stays a link.
func Rewrite(v *inventory.Inventory, old, new string) (files []Rewritten, left []string) {
	old = Normal(old)
	var paths []string
	for _, r := range Named(v, old) {
		where := fmt.Sprintf("%s:%d", r.Path, r.Line)
		switch {
		case r.Fixed: // the next boot has another one
		case r.Path != fstab.Path && !isUnit(r.Place) && !bootcfg.Fits(new):
			left = append(left, fmt.Sprintf("%s: %s cannot stand in this file; name the device there by its UUID", where, new))
		case !slices.Contains(paths, r.Path):
			paths = append(paths, r.Path)
		}
	}
	for _, path := range paths {
		place, _ := placeOf(path)
		f := Rewritten{Path: path, Place: place}
		data := v.Files[path].Data
		switch {
		case path == fstab.Path:
			f.Data, f.Lines = rewriteFstab(data, old, new)
		case isUnit(place):
			u := unit.Parse(data)
			s, _ := u.What()
			f.Data, f.Lines = u.Set(s, form(s.Value, new)).Bytes(), []int{s.Line}
		default:
			f.Data, f.Lines = rewriteWords(data, old, new)
		}
		files = append(files, f)
	}
	return files, left
}

// form writes the new name as the old one was written: as a link where it was
// one.
func form(was, new string) string {
	tag, value, _ := strings.Cut(new, "=")
	if strings.HasPrefix(was, "/dev/disk/by-") {
		return "/dev/disk/by-" + strings.ToLower(tag) + "/" + value
	}
	return new
}

func rewriteFstab(data []byte, old, new string) ([]byte, []int) {
	f, lines := fstab.Parse(data), []int{}
	for _, l := range f.Entries() {
		if Normal(l.Entry.Spec) == old && f.SetSpec(l.Number, form(l.Entry.Spec, new)) == nil {
			lines = append(lines, l.Number)
		}
	}
	return f.Bytes(), lines
}

func rewriteWords(data []byte, old, new string) ([]byte, []int) {
	var lines []int
	for done := 0; ; { // one after the other, since each may be written in a form of its own
		list := bootcfg.Scan(data)
		i := done
		for i < len(list) && Normal(list[i].Spec) != old {
			i++
		}
		if i == len(list) {
			return data, lines
		}
		data, lines, done = bootcfg.Replace(data, list[i:i+1], form(list[i].Spec, new)), append(lines, list[i].Line), i+1
	}
}
