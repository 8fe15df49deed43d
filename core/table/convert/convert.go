// Package convert writes a partition table in the other scheme: every partition stays
// where it is. It is arithmetic alone; what text files and the kernel make of the change is
// for whoever asks.
package convert

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Remark is what somebody who converts a table should know.
type Remark struct {
	Warning bool
	Text    string
}

type converting struct {
	from    *table.Table
	into    table.Editor
	step    quantity.Bytes
	fresh   func() string
	remarks []Remark
}

// Into puts the partitions of a table into an empty one of the other scheme. Step is the
// alignment in bytes; fresh gives a new random UUID at each call. Where a partition has no
// place, no type or no number there, nothing is said to have worked: table.ErrPlace and
// table.ErrValue.
func Into(into table.Editor, from *table.Table, step quantity.Bytes, fresh func() string) ([]Remark, error) {
	c := &converting{from: from, into: into, step: step, fresh: fresh}
	run := c.toMBR
	if into.Model().Scheme == table.GPT {
		run = c.toGPT
	}
	err := run()
	return c.remarks, err
}

func (c *converting) say(warning bool, format string, args ...any) {
	c.remarks = append(c.remarks, Remark{warning, fmt.Sprintf(format, args...)})
}

// toGPT gives every partition but the extended one an entry of its own number.
//
// Numbers stay, since kernel names stand in text files; 5 and above are free to be used in
// a GPT. Its two arrays need room at both ends of the disk, where an MBR lets partitions
// lie.
func (c *converting) toGPT() error {
	m, fresh := c.from, c.into
	room := fresh.Model().Usable
	for _, part := range m.Parts {
		if part.Role == table.Extended {
			c.say(false,
				"extended partition %d is not needed any more: logical partitions become partitions of their own with the same numbers",
				part.Number)
			continue
		}
		typ, err := otherType(m, part, table.GPT)
		if err != nil {
			return err
		}
		if !room.Contains(part.Span) {
			return fmt.Errorf("partition %d: sectors %v: %w: a GPT needs the first and the last sectors of the disk, %v are left; make it smaller, or move it",
				part.Number, part.Span, table.ErrPlace, room)
		}
		now := table.Partition{Number: part.Number, Span: part.Span, Type: typ, UUID: c.fresh()}
		if t, _ := table.FindType(table.MBR, part.Type); t.Value(table.GPT) == "" && t.Holds != nil {
			c.say(false, "partition %d: its type %s becomes data: a GPT has one type for all that Windows mounts",
				part.Number, table.TypeWords(m, part.Type))
		}
		if part.Attributes&table.Boot(table.MBR) != 0 {
			now.Attributes = table.Boot(table.GPT)
			c.say(true,
				"partition %d is marked for booting: old firmware that starts by the code in sector 0 may not start from a GPT; the code stays where it is",
				part.Number)
		}
		if err := fresh.Add(now); err != nil {
			return err
		}
	}
	return nil
}

// toMBR makes partitions 1 to 4 primary, and the others logical where there is a
// free sector before each of them.
//
// By number, not by place: a partition that keeps its number keeps its name. The extended
// partition takes an entry itself, which must be one of the four.
func (c *converting) toMBR() error {
	m, fresh := c.from, c.into
	var primary, logical []table.Partition
	for _, part := range m.Parts {
		if part.Number <= 4 {
			primary = append(primary, part)
		} else {
			logical = append(logical, part)
		}
	}
	if len(logical) > 0 && len(primary) > 3 {
		return fmt.Errorf("%d partitions: %w: an MBR has four entries, and logical partitions need one of them",
			len(m.Parts), table.ErrValue)
	}
	add := func(part table.Partition, number int) error {
		typ, err := otherType(m, part, table.MBR)
		if err != nil {
			return err
		}
		now := table.Partition{Number: number, Span: part.Span, Type: typ}
		if part.Attributes&table.Boot(table.GPT) != 0 && number > 0 {
			now.Attributes = table.Boot(table.MBR)
		}
		if words := lostWords(m.Scheme, part); words != "" {
			c.say(true, "partition %d: an MBR does not keep %s", part.Number, words)
		}
		return fresh.Add(now)
	}
	for _, part := range primary {
		if err := add(part, part.Number); err != nil {
			return err
		}
	}
	if len(logical) == 0 {
		return nil
	}
	outer, err := around(m, logical, uint64(c.step/m.Sector))
	if err != nil {
		return err
	}
	extended, _ := table.ParseType(table.MBR, "extended")
	if err := fresh.Add(table.Partition{Span: outer, Type: extended}); err != nil {
		return err
	}
	for _, part := range logical {
		if err := add(part, 0); err != nil {
			return err
		}
	}
	return nil
}

// around is the span of an extended partition for the partitions: from a free
// sector before the first one to the end of the last.
func around(m *table.Table, logical []table.Partition, step uint64) (extent.Span, error) {
	first, end := logical[0].Span.Start, uint64(0)
	for _, part := range logical {
		first, end = min(first, part.Span.Start), max(end, part.Span.End())
	}
	for _, gap := range m.Gaps() {
		if gap.End() == first {
			start := max(gap.Start, first-min(step, first))
			return extent.Span{Start: start, Count: end - start}, nil
		}
	}
	return extent.Span{}, fmt.Errorf("sector %d: %w: a logical partition needs a free sector before it", first, table.ErrPlace)
}

// otherType is the type in the other scheme: the one of the same name, else a
// common one for what fits into both.
//
// What has no type in the other scheme is refused and not made plain: whoever looks for it
// by its type, such as a firmware, would not find it any more.
func otherType(m *table.Table, part table.Partition, s table.Scheme) (string, error) {
	t, known := table.FindType(m.Scheme, part.Type)
	if known && t.Value(s) != "" {
		return t.Value(s), nil
	}
	if known && t.ForLinux() {
		return table.ParseType(s, "linux")
	}
	data, err := table.ParseType(s, "data")
	if all, _ := table.FindType(s, data); known && err == nil && s == table.GPT && t.Holds != nil &&
		!slices.ContainsFunc(t.Holds, func(h string) bool { return !slices.Contains(all.Holds, h) }) {
		return data, nil // of cards and sticks
	}
	return "", fmt.Errorf("partition %d: type %s: %w: %s has no such type; give it another one first: fundus partition edit",
		part.Number, table.TypeWords(m, part.Type), table.ErrValue, strings.ToUpper(string(s)))
}

func lostWords(s table.Scheme, part table.Partition) string {
	var words []string
	if part.Name != "" {
		words = append(words, fmt.Sprintf("its name %q", part.Name))
	}
	if rest := part.Attributes &^ table.Boot(s); rest != 0 {
		words = append(words, "its attributes "+table.AttributeWords(s, rest))
	}
	return strings.Join(words, " and ")
}
