package table

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// attributes are the bits of a partition by name.
//
// Source: UEFI Specification 2.10, table 5.8, for the lower ones; the Discoverable
// Partitions Specification for those that belong to the type; for an MBR table 5.2.
func attributes(s Scheme) map[string]uint64 {
	if s == MBR {
		return map[string]uint64{"boot": Boot(MBR)}
	}
	return map[string]uint64{
		"required":      1 << 0,
		"no-firmware":   1 << 1,
		"boot":          Boot(GPT),
		"grows":         1 << 59,
		"read-only":     1 << 60,
		"not-by-itself": 1 << 63,
	}
}

// Named are all bits of a scheme that have a name.
func Named(s Scheme) (bits uint64) {
	for _, bit := range attributes(s) {
		bits |= bit
	}
	return bits
}

// ParseAttribute gives the bit of the name.
func ParseAttribute(s Scheme, word string) (uint64, error) {
	ofSpecification := map[string]string{
		"sd_gpt_flag_growfs": "grows", "sd_gpt_flag_read_only": "read-only", "sd_gpt_flag_no_auto": "not-by-itself",
	}
	word = strings.ToLower(word)
	if bit, ok := attributes(s)[cmp.Or(ofSpecification[word], word)]; ok {
		return bit, nil
	}
	return 0, fmt.Errorf("attribute %q: %w: use %s", word, ErrValue, strings.Join(AttributeNames(s, ^uint64(0)), ", "))
}

// AttributeNames names the bits that are set, in alphabetical order; those without
// a name are in hexadecimal.
func AttributeNames(s Scheme, bits uint64) (names []string) {
	named := uint64(0)
	for name, bit := range attributes(s) {
		if bits&bit != 0 {
			names = append(names, name)
		}
		named |= bit
	}
	slices.Sort(names)
	if rest := bits &^ named; rest != 0 && bits != ^uint64(0) {
		names = append(names, fmt.Sprintf("%#x", rest))
	}
	return names
}

// AttributeWords names the attributes that are set, in the order of the alphabet.
func AttributeWords(s Scheme, bits uint64) string {
	words := AttributeNames(s, bits)
	if len(words) == 0 {
		return "none"
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}
