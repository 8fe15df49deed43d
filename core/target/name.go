package target

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"fundus/core/inventory"
)

// NameOf gives the word by which the device is named best: a disk by what it says of itself, a
// partition by its disk and its number, an image by its path. Each word is tried before it is given:
// of two disks with one serial number that number names neither. Where nothing stable is left, it is
// the name that the kernel gave.
func NameOf(v *inventory.Inventory, n inventory.Node) inventory.Called {
	return namesOf(v).of(n)
}

// Called gives the words for each of the devices, with one look at all.
func Called(v *inventory.Inventory, nodes []inventory.Node) map[string]inventory.Called {
	out, by := map[string]inventory.Called{}, namesOf(v)
	for _, n := range nodes {
		out[n.Name] = by.of(n)
	}
	return out
}

// names tells which words mean one device, and how many devices say the same of themselves.
type names struct {
	v    *inventory.Inventory
	by   *inventory.Resolver
	says map[string]int
}

func namesOf(v *inventory.Inventory) names {
	says := map[string]int{}
	for _, n := range v.Nodes {
		disk := n
		if n.Parent != "" {
			disk, _ = v.Node(n.Parent)
		}
		says["SERIAL="+strings.ToUpper(disk.Hardware.Serial)+number(n)]++
		says["WWN="+strings.ToUpper(disk.Hardware.WWN)+number(n)]++
	}
	return names{v, v.Resolver(), says}
}

func (s names) of(n inventory.Node) inventory.Called {
	disk := n
	if n.Parent != "" {
		disk, _ = s.v.Node(n.Parent)
	}
	out := inventory.Called{Lose: Lose(s.v, n)}
	ids := n.Identifiers()
	for _, tag := range []string{"PARTUUID", "UUID", "LABEL", "PARTLABEL"} {
		if word := tag + "=" + ids[tag]; ids[tag] != "" && s.means(word, n) {
			out.Also = append(out.Also, word)
		}
	}
	var words []string
	if disk.Form == inventory.Image {
		words = append(words, disk.Path+number(n))
	}
	for _, word := range []string{"WWN=" + disk.Hardware.WWN, "SERIAL=" + disk.Hardware.Serial} {
		_, value, _ := strings.Cut(word, "=")
		whole := strings.ToUpper(word)
		if value != "" && s.says[whole] == 1 && s.says[whole+number(n)] == 1 {
			words = append(words, word+number(n))
		}
	}
	for _, l := range n.Links {
		if (strings.HasPrefix(l, "/dev/disk/by-id/") || strings.HasPrefix(l, "/dev/mapper/")) && s.means(l, n) {
			words = append(words, l)
		}
	}
	for _, w := range out.Also {
		if !strings.HasPrefix(w, "LABEL=") && !strings.HasPrefix(w, "PARTLABEL=") { // which people change
			words = append(words, w)
		}
	}
	words = append(words, "")
	out.Word, out.Stable = cmp.Or(words[0], n.Name), words[0] != ""
	out.Also = slices.DeleteFunc(out.Also, func(w string) bool { return w == out.Word })
	return out
}

// number is what stands behind the word for a disk to mean its partition.
func number(n inventory.Node) string {
	if n.Parent == "" {
		return ""
	}
	return ":" + strconv.Itoa(n.Number)
}

func (s names) means(word string, n inventory.Node) bool {
	found := s.by.Resolve(word)
	return len(found) == 1 && found[0].Name == n.Name
}
