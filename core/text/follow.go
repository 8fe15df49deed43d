package text

import (
	"slices"
	"strings"
)

// Found is what stands at a path, itself and not what it leads to.
type Found struct {
	Missing bool
	Link    string // where a symbolic link leads
	Dir     bool
}

// Link is a symbolic link on the way of a path.
type Link struct{ At, To string }

// Follow follows the symbolic links of a path within one root: an absolute one begins there
// again, and nothing leads out of it. What is missing at the end stays as written, so that a
// link to what is yet to be made leads there; systemd's reader of fstab takes mount points
// so. ok is false where the path cannot be followed: too many links, a file where a
// directory is wanted, two dots behind what is missing.
func Follow(path string, look func(path string) Found) (real string, links []Link, ok bool) {
	const most = 32 // links on the way
	var done []string
	todo := strings.Split(path, "/")
	for len(todo) > 0 {
		part := todo[0]
		todo = todo[1:]
		switch part {
		case "", ".":
			continue
		case "..":
			done = done[:max(len(done)-1, 0)]
			continue
		}
		at := "/" + strings.Join(append(slices.Clone(done), part), "/")
		switch f := look(at); {
		case f.Missing:
			rest := slices.DeleteFunc(append([]string{part}, todo...), func(p string) bool { return p == "" || p == "." })
			return "/" + strings.Join(append(done, rest...), "/"), links, !slices.Contains(rest, "..")
		case f.Link != "":
			if links = append(links, Link{at, f.Link}); len(links) > most {
				return "", links, false
			}
			if strings.HasPrefix(f.Link, "/") {
				done = nil
			}
			todo = append(strings.Split(f.Link, "/"), todo...)
		case !f.Dir && slices.ContainsFunc(todo, func(p string) bool { return p != "" && p != "." }):
			return "", links, false
		default:
			done = append(done, part)
		}
	}
	return "/" + strings.Join(done, "/"), links, true
}
