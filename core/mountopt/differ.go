package mountopt

import (
	"slices"
	"strings"
)

// Differ says how a mount differs from what was asked for: attributes of the mount and
// options of the superblock as the kernel lists them. What the kernel does not list where it
// is the default, nobody can tell: only another value of the same option differs.
func (t Table) Differ(asked []string, attributes, superblock string) (words []string) {
	s := t.Sort(asked)
	have := strings.Split(attributes, ",")
	super := Listed(superblock)
	for _, o := range s.Attributes {
		row, _ := t.Find(o)
		if listed(o) && !slices.Contains(have, o) || row.Default && listed(row.Not) && slices.Contains(have, row.Not) {
			words = append(words, "without "+o)
		}
	}
	for _, o := range have {
		if row, ok := t.Find(o); listed(o) && !slices.Contains(s.Attributes, o) && !(ok && slices.Contains(s.Attributes, row.Not)) {
			words = append(words, "with "+o)
		}
	}
	wanted, is := slices.Contains(s.Superblock, "ro"), slices.Contains(have, "ro") || slices.Contains(super, "ro")
	switch {
	case wanted && !is:
		words = append(words, "rw")
	case is && !wanted:
		words = append(words, "ro")
	}
	for _, o := range s.Own {
		name := Name(o)
		for _, h := range super {
			if Name(h) == name && h != o && name != h { // another value; one that is alone may be the default
				words = append(words, "with "+h)
			}
		}
	}
	return words
}

// listed reports whether the kernel lists the attribute for every mount that has it.
func listed(o string) bool {
	return slices.Contains([]string{"noatime", "nodiratime", "nosuid", "nodev", "noexec", "nosymfollow"}, o)
}

// Listed splits a list of the kernel's.
func Listed(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, ",")
}
