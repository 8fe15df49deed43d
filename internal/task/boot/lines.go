package boot

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// picked is a line that words mean, and what they say of it.
type picked struct {
	fstab.Line
}

// pick finds the line that the words mean: by its number, its mount point, its own words for
// the device, or a device that it names. Of a disabled line, was is what it holds.
func pick(v *inventory.Inventory, table *fstab.File, word string, disabled bool) (picked, error) {
	if number, err := strconv.Atoi(word); err == nil {
		l, ok := table.Line(number)
		was, is := l, ok && (l.Entry != nil || l.Lost)
		if disabled {
			was, is = l.Was(known)
		}
		if !is {
			return picked{}, way.To(fmt.Errorf("line %d: %w", number, ErrNoLine), way.FstabList())
		}
		return picked{Line: was}, nil
	}
	place := word
	if strings.HasPrefix(word, "/") {
		place = fstab.FromRoot(word)
	}
	n, errNode := target.Resolve(v, word)
	var exact, found []fstab.Line
	by := v.Resolver()
	for _, l := range table.Lines {
		was := l
		if disabled {
			was, _ = l.Was(known)
		}
		if was.Entry == nil {
			continue
		}
		names := func() bool {
			return errNode == nil && (!strings.HasPrefix(word, "/") || strings.HasPrefix(word, "/dev/")) &&
				slices.ContainsFunc(by.Resolve(was.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		}
		switch e := was.Entry; {
		case e.Spec == word:
			exact = append(exact, was)
			found = append(found, was)
		case strings.Contains(e.Dir, "/") && fstab.FromRoot(e.Dir) == place, names():
			found = append(found, was)
		}
	}
	if len(exact) == 1 { // the words of the line itself
		found = exact
	}
	switch len(found) {
	case 0:
		return picked{}, way.To(fmt.Errorf("%s: %w", word, ErrNoLine), way.FstabList())
	case 1:
		return picked{Line: found[0]}, nil
	}
	return picked{}, way.To(fmt.Errorf("%s fits lines %d and %d; name one by its number", word, found[0].Number,
		found[1].Number), way.FstabList())
}

// known are the kinds by which a comment is told to have been a line.
func known(typ string) bool {
	return typ == "auto" || typ == "none" || typ == fstab.Swap || kind.IsMounted(typ)
}
