package view

import (
	"os"
	"regexp"
	"slices"
	"testing"
)

// TestClosedListsAreWhole: every constant that the sources declare is in its list.
func TestClosedListsAreWhole(t *testing.T) {
	for _, c := range []struct {
		file, typ, list string
		least           int
	}{
		{"../../core/inventory/inventory.go", "Form", "form", 5}, {"../../core/inventory/inventory.go", "How", "use", 3}, {"../../core/finding/finding.go", "Severity", "severity", 3},
		{"../../core/refused/refused.go", "ID", "error", 40}, {"../draft/needs.go", "NeedID", "need", 3}, {"../draft/result.go", "ResultRole", "role", 10}, {"../draft/draft.go", "Grade", "undo", 7},
		{"../draft/step.go", "StepKind", "step", 6}, {"../problem/problem.go", "State", "state", 4}, {"../../core/table/table.go", "Scheme", "scheme", 2},
	} {
		found := declared(t, c.file, c.typ)
		if len(found) < c.least {
			t.Errorf("%s has %d words of type %s", c.file, len(found), c.typ)
		}
		for _, word := range found {
			if !slices.Contains(Closed()[c.list], word) {
				t.Errorf("%s %q is not in the list %s", c.typ, word, c.list)
			}
		}
	}
}

// declared are the words that constants of the type have in the source.
func declared(t *testing.T, file, typ string) (words []string) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`(?m)^\t\w+ +`+typ+` += "([^"]+)"`).FindAllStringSubmatch(string(data), -1) {
		words = append(words, m[1])
	}
	return words
}

// TestEverySentenceHasACode: of each type whose words documents have codes for, every constant that
// its source declares has one, and no two have the same.
func TestEverySentenceHasACode(t *testing.T) {
	for _, c := range []struct {
		file, typ string
		codes     map[string]string
		least     int
	}{
		{"../../core/boot/report.go", "Verdict", verdicts(), 7}, {"../../core/boot/report.go", "Outcome", outcomes(), 9}, {"../../core/fs/content.go", "State", contentStates(), 7},
		{"../../core/fs/content.go", "Class", contentClasses(), 6}, {"../act/all.go", "Outcome", jobResults(), 6}, {"../deed/recover.go", "Direction", directions(), 3},
	} {
		found := declared(t, c.file, c.typ)
		if len(found) < c.least {
			t.Errorf("%s has %d words of type %s", c.file, len(found), c.typ)
		}
		had := map[string]string{}
		for _, word := range found {
			code := c.codes[word]
			if code == "" || had[code] != "" {
				t.Errorf("%s %q has the code %q, which %q has too", c.typ, word, code, had[code])
			}
			had[code] = word
		}
	}
}
