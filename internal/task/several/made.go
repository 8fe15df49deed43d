package several

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fundus/core/inventory"
)

// made is a word of a request for what an earlier one of the list makes: "made:2" is the first
// device of the second request, "made:2.3" its third one, and "made:2.3.uuid" the identifier of
// what that holds by then. It stands for a whole word, and for nothing within one.
var made = regexp.MustCompile(`^made:([0-9]{1,6})(?:\.([0-9]{1,6}))?(?:\.(uuid|label|partuuid|partlabel))?$`)

// devices are the arguments that name a device, by an identifier too: there alone the words are
// filled in, for a label may begin the same way.
var devices = []string{"target", "targets", "disk", "device", "line", "from_fstab"}

// filled puts what was made in the place of such words.
func filled(v *inventory.Inventory, args json.RawMessage, by [][]string) (json.RawMessage, error) {
	if !bytes.Contains(args, []byte(`"made:`)) {
		return args, nil
	}
	read := json.NewDecoder(bytes.NewReader(args))
	read.UseNumber()
	var all any
	if err := read.Decode(&all); err != nil {
		return nil, err
	}
	all, err := fill(v, all, by, "")
	if err != nil {
		return nil, err
	}
	return json.Marshal(all)
}

// fill fills in a value, of the argument with that key.
func fill(v *inventory.Inventory, x any, by [][]string, key string) (any, error) {
	var err error
	switch x := x.(type) {
	case string:
		if strings.HasPrefix(x, "made:") && slices.Contains(devices, key) {
			return word(v, x, by)
		}
	case []any:
		for i := range x {
			if x[i], err = fill(v, x[i], by, key); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for key := range x {
			if x[key], err = fill(v, x[key], by, key); err != nil {
				return nil, err
			}
		}
	}
	return x, nil
}

// word is what such a word stands for. Errors: ErrMade.
func word(v *inventory.Inventory, text string, by [][]string) (string, error) {
	m := made.FindStringSubmatch(text)
	if m == nil {
		return "", fmt.Errorf("%q: %w: write made:PART, made:PART.NUMBER or made:PART.NUMBER.uuid", text, ErrMade)
	}
	part, _ := strconv.Atoi(m[1])
	number := 1
	if m[2] != "" {
		number, _ = strconv.Atoi(m[2])
	}
	switch {
	case part < 1 || part > len(by):
		return "", fmt.Errorf("%q: %w: %d parts come before", text, ErrMade, len(by))
	case number < 1 || number > len(by[part-1]):
		return "", fmt.Errorf("%q: %w: part %d makes %d devices", text, ErrMade, part, len(by[part-1]))
	}
	name := by[part-1][number-1]
	if m[3] == "" {
		return name, nil
	}
	n, _ := v.Node(name)
	id := n.Identifiers()[strings.ToUpper(m[3])]
	if id == "" {
		return "", fmt.Errorf("%q: %w: %s has no %s", text, ErrMade, name, strings.ToUpper(m[3]))
	}
	return id, nil
}
