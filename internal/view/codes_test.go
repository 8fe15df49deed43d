package view

import (
	"os"
	"regexp"
	"testing"
)

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
		data, err := os.ReadFile(c.file)
		if err != nil {
			t.Fatal(err)
		}
		found := regexp.MustCompile(`(?m)^\t\w+ +`+c.typ+` += "([^"]+)"`).FindAllStringSubmatch(string(data), -1)
		if len(found) < c.least {
			t.Errorf("%s has %d words of type %s", c.file, len(found), c.typ)
		}
		had := map[string]string{}
		for _, m := range found {
			code := c.codes[m[1]]
			if code == "" || had[code] != "" {
				t.Errorf("%s %q has the code %q, which %q has too", c.typ, m[1], code, had[code])
			}
			had[code] = m[1]
		}
	}
}
