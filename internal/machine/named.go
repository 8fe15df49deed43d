package machine

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/fs/swap"
	"fundus/core/inventory"
	"fundus/core/mountopt"
	"fundus/core/mounts"
	"fundus/internal/oscall"
)

// Account is a user or a group as the system's lists have it.
type Account struct {
	Number uint32
	Group  string // of a user, the number of the group; "" where the machine does not know it
}

// Lists of accounts.
const (
	Users  = "/etc/passwd"
	Groups = "/etc/group"
)

// FindAccount looks a name or a number up in one of the lists.
func FindAccount(list string, data []byte, word string) (Account, bool) {
	for line := range strings.Lines(string(data)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 4 || f[0] != word && f[2] != word {
			continue
		}
		id, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil {
			continue
		}
		a := Account{Number: uint32(id)}
		if list == Users {
			a.Group = f[3]
		}
		return a, true
	}
	return Account{}, false
}

// Numbered are the options with the numbers of users and groups in place of their names, which
// the kernel does not know.
func Numbered(r Reader, options []string) []string {
	out := make([]string, len(options))
	for i, o := range options {
		out[i] = o
		if list, word := accountOf(o); list != "" {
			if state, err := r.ReadFile(list); err == nil {
				if a, ok := FindAccount(list, state.Data, word); ok {
					name, _, _ := strings.Cut(o, "=")
					out[i] = name + "=" + strconv.FormatUint(uint64(a.Number), 10)
				}
			}
		}
	}
	return out
}

// accountOf is the list in which the value of an option is a name; "" where it is none.
func accountOf(o string) (list, word string) {
	if !mountopt.Account(o) {
		return "", ""
	}
	name, value, _ := strings.Cut(o, "=")
	return map[string]string{"uid": Users, "gid": Groups}[name], value
}

// lookAtNames fills in which users and groups of the options the machine knows.
func lookAtNames(v *inventory.Inventory, r Reader, options []string) {
	for _, o := range options {
		list, word := accountOf(o)
		if list == "" {
			continue
		}
		if state, err := r.ReadFile(list); err == nil && !state.Missing {
			if v.Names == nil {
				v.Names = map[string]bool{}
			}
			_, v.Names[o] = FindAccount(list, state.Data, word)
		}
	}
}

// lookAtSwapFile says what the kernel would have against swapping on the file at the path, which
// is the host's; told is false where it could not be looked into. It takes a plain file with a
// signature, of which every block is there (mm/swapfile.c, fs/iomap/swapfile.c of Linux 6.1).
func lookAtSwapFile(at string) (why string, told bool) {
	st, err := os.Stat(at)
	switch {
	case os.IsNotExist(err): // it is only planned
		return "", true
	case err != nil:
		return "", false
	case !st.Mode().IsRegular():
		return "it is no plain file", true
	}
	dev, err := file.Open(at, false, block.DefaultGeometry)
	if err != nil {
		return "", false
	}
	defer dev.Close()
	c, err := swap.Probe(dev)
	switch {
	case err != nil:
		return "", false
	case c == nil:
		return "it has no signature of swap", true
	case c.State == fs.Damaged:
		return "its header is damaged", true
	case mounts.WrongPage(*c) != "":
		return mounts.WrongPage(*c), true
	case c.State == fs.Asleep: // a system sleeps in it
		return "", true
	case int64(c.Size) > dev.Size():
		return "it is shorter than its header says", true
	}
	return holeIn(at, uint64(c.Size)), true
}

// holeIn says where the first bytes of a file have no place; "" where all have one, and where the
// file system does not say it.
func holeIn(at string, size uint64) string {
	f, err := os.Open(at)
	if err != nil {
		return ""
	}
	defer f.Close()
	list, err := oscall.Extents(f, false)
	if err != nil {
		return ""
	}
	next := uint64(0)
	for _, e := range list { // what is given and not written yet is no hole
		if e.Logical > next {
			break
		}
		next = e.Logical + e.Length
	}
	if next < size {
		return fmt.Sprintf("it has a hole at byte %d: every block of such a file has to be there", next)
	}
	return ""
}
