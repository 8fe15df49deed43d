package files

import (
	"strconv"
	"strings"

	"fundus/core/inventory"
	"fundus/core/mountopt"
	"fundus/internal/machine"
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
func Numbered(r machine.Reader, options []string) []string {
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
func lookAtNames(v *inventory.Inventory, r machine.Reader, options []string) {
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
