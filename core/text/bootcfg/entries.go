package bootcfg

import (
	"path"
	"regexp"
	"strings"
)

// Entry is what a boot loader offers to start.
type Entry struct {
	Path  string // of the file
	Line  int    // where it begins
	Title string // as the menu shows it
	Words string // the kernel's command line
	// SortKey and Version are what an entry in a file of its own is put in order by.
	SortKey, Version string
	// Initrd is set where an initial file system is loaded with the kernel.
	Initrd bool
}

// ID is how an entry in a file of its own is called.
func (e Entry) ID() string {
	if strings.HasSuffix(e.Path, ".conf") && strings.Contains(e.Path, "/entries/") {
		return strings.TrimSuffix(path.Base(e.Path), ".conf")
	}
	return ""
}

// title of an entry in a boot menu: in quotes, behind its word.
var title = regexp.MustCompile(`^\s*(?:menuentry\s+(?:'([^']*)'|"([^"]*)"|(\S+))|(?i:label)\s+(\S.*?)\s*$)`)

// Entries lists what a file offers: a menu of several, or a file of its own for one.
//
// Source: the Boot Loader Specification; the manuals of boot loaders whose menus name a kernel
// behind the word linux, or give it words behind append.
func Entries(file string, data []byte) (out []Entry) {
	one := strings.Contains(file, "/entries/") // a file of its own
	if one {
		out = []Entry{{Path: file, Line: 1, Title: strings.TrimSuffix(path.Base(file), ".conf")}}
	}
	number := 0
	for line := range strings.Lines(string(data)) {
		number++
		if m := title.FindStringSubmatch(line); m != nil && !one {
			out = append(out, Entry{Path: file, Line: number, Title: strings.Join(m[1:], "")})
			continue
		}
		if len(out) == 0 {
			continue
		}
		e := &out[len(out)-1]
		word, rest := cutWord(line)
		switch strings.ToLower(word) {
		case "title":
			if one && rest != "" {
				e.Title = rest
			}
		case "sort-key":
			e.SortKey = rest
		case "version":
			e.Version = rest
		case "options", "append":
			e.Words = strings.TrimSpace(e.Words + " " + rest)
			for _, w := range strings.Fields(rest) {
				e.Initrd = e.Initrd || strings.HasPrefix(w, "initrd=")
			}
		case "linux", "linuxefi", "linux16":
			if _, words := cutWord(rest); !one {
				e.Words = words
			}
		case "initrd", "initrdefi", "initrd16":
			e.Initrd = e.Initrd || rest != ""
		}
	}
	kernels := out[:0]
	for _, e := range out {
		if one || e.Words != "" {
			kernels = append(kernels, e)
		}
	}
	return kernels
}

func cutWord(line string) (word, rest string) {
	line = strings.TrimSpace(line)
	at := strings.IndexAny(line, " \t")
	if at < 0 {
		return line, ""
	}
	return line[:at], strings.TrimSpace(line[at:])
}
