package merge_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fundus/core/text/merge"
)

// Somebody added a line behind the one that goes.
func Example() {
	before := "root\n"
	after := "root\nherbarium\n"
	now := "root\nherbarium\n# mine\nseeds\n"
	text, ok := merge.Back(before, after, now)
	fmt.Printf("%q %v\n", text, ok)
	// Output: "root\n# mine\nseeds\n" true
}

func TestBack(t *testing.T) {
	for _, c := range []struct{ before, after, now, want string }{
		{"a\nb\n", "a\nb\n", "a\nb\n", "a\nb\n"},
		{"a\nb\nc\n", "a\nc\n", "x\na\nc\nd\n", "x\na\nb\nc\nd\n"}, // a line that was taken out comes back to its place
		{"a\nb\n", "a\nB\n", "z\na\nB\ny\n", "z\na\nb\ny\n"},       // one that was edited
		{"", "a\n", "a\nmine\n", "mine\n"},
		{"a\n", "", "", "a\n"},
		{"a", "a\nb\n", "a\nb\nc\n", "-"},    // what ended without a newline would run into the next line
		{"a\nb\n", "a\nB\n", "a\nB2\n", "-"}, // the line was edited since
		{"a\nb\n", "a\n", "z\n", "-"},        // nobody knows where the line belongs
		{"a\nb\n", "a\n", "", "-"},
		{"", "a\na\n", "a\n", "-"},
	} {
		got, ok := merge.Back(c.before, c.after, c.now)
		if ok != (c.want != "-") || ok && got != c.want {
			t.Errorf("%q %q %q: %q, %v, not %q", c.before, c.after, c.now, got, ok, c.want)
		}
	}
}

// TestStrangersStay: whatever lines somebody else puts in or takes out elsewhere, after the
// change was taken back they are as he left them, and the rest is as before.
func TestStrangersStay(t *testing.T) {
	done := 0
	for i := range 3000 {
		rng := rand.New(rand.NewPCG(7, uint64(i)))
		var before []string
		for k := range 3 + rng.IntN(12) {
			before = append(before, fmt.Sprintf("line %d\n", k/2*2)) // some of them twice
		}
		ours := slices.Clone(before)
		for range 1 + rng.IntN(2) {
			at := rng.IntN(len(ours))
			switch rng.IntN(3) {
			case 0:
				ours = slices.Insert(ours, at, fmt.Sprintf("ours %d\n", rng.IntN(99)))
			case 1:
				ours = slices.Delete(ours, at, at+1)
			default:
				ours[at] = fmt.Sprintf("edited %d\n", rng.IntN(99))
			}
			if len(ours) == 0 {
				break
			}
		}
		now := slices.Clone(ours)
		strangers := 1 + rng.IntN(3)
		for k := range strangers {
			now = slices.Insert(now, rng.IntN(len(now)+1), fmt.Sprintf("theirs %d\n", k))
		}
		got, ok := merge.Back(strings.Join(before, ""), strings.Join(ours, ""), strings.Join(now, ""))
		if !ok {
			continue
		}
		done++
		var kept, rest []string
		for l := range strings.Lines(got) {
			if strings.HasPrefix(l, "theirs") {
				kept = append(kept, l)
			} else {
				rest = append(rest, l)
			}
		}
		if len(kept) != strangers || !slices.Equal(rest, before) {
			t.Fatalf("case %d: before %q, ours %q, now %q: %q", i, before, ours, now, got)
		}
	}
	if done < 2000 {
		t.Errorf("only %d could be taken back", done)
	}
}
