package refs

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/bootcfg"
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
//
// A name that is changed on the disk and not in the files is a machine that does not boot;
// and one that is changed in the files first names nothing until the disk follows. So
// whoever changes an identifier plans both in one draft.
func Rewrite(v *inventory.Inventory, old, new string) (files []Rewritten, left []string) {
	old = Normal(old)
	var paths []string
	for _, r := range Named(v, old) {
		if !r.Fixed && !slices.Contains(paths, r.Path) { // of a fixed one the next boot has another
			paths = append(paths, r.Path)
		}
	}
	for _, path := range paths {
		place, _ := placeOf(path)
		f := Rewritten{Path: path, Data: v.Files[path].Data, Place: place}
		for _, line := range f.rewrite(old, new) {
			left = append(left, fmt.Sprintf("%s:%d: %s cannot be written in this file; name the device there by its UUID", path, line, new))
		}
		if len(f.Lines) > 0 {
			files = append(files, f)
		}
	}
	return files, left
}

// Forgotten gives every file of the references without those that say from what the kernel
// resumes, and the other references.
func Forgotten(v *inventory.Inventory, list []Reference) (files []Rewritten, left []Reference) {
	for _, r := range slices.Backward(list) { // of a file from its end: then what is before stays in its place
		i := slices.IndexFunc(files, func(f Rewritten) bool { return f.Path == r.Path })
		f := Rewritten{Path: r.Path, Data: v.Files[r.Path].Data, Place: r.Place}
		if i >= 0 {
			f = files[i]
		}
		data, gone := bootcfg.Forget(f.Data, r.Mention)
		switch {
		case !gone || r.Fixed:
			left = append(left, r)
			continue
		case i < 0:
			files = append(files, f)
			i = len(files) - 1
		}
		files[i].Data, files[i].Lines = data, append(f.Lines, r.Line)
	}
	slices.Reverse(files)
	slices.Reverse(left)
	return files, left
}

// rewrite changes the places one after the other, since each may be written in a form of
// its own, and gives the lines of those where the new name cannot stand.
func (f *Rewritten) rewrite(old, new string) (left []int) {
	for done := 0; ; done++ {
		list := f.Syntax.Mentions(f.Data)
		for done < len(list) && Normal(list[done].Spec) != old {
			done++
		}
		if done >= len(list) {
			return left
		}
		m := list[done]
		data, err := f.Syntax.Say(f.Data, m, form(m.Spec, new))
		if err != nil {
			left = append(left, m.Line)
			continue
		}
		f.Data, f.Lines = data, append(f.Lines, m.Line)
	}
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
