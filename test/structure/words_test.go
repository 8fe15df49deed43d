package structure

import (
	"go/ast"
	"go/token"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// dropped are words that were in the program's sentences and made them hard to read: each has a plain
// one in its place (predicted, again, turn off, old, recognised as, is, after, besides, space, repair).
func dropped() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(foretold|foretells?|anew|g[ai]ven? up|gives? up|giving up|of before|so many|for so long|that long|taken for|takes? it for|stands? in|further in|held against|beside|lies|lie|(?:^|[^-])room|the way out|mends?|mended|whose (it|they|its|each)|behind|to be had|topmost|the whole road|go(es)? by|for reading alone|the words are wrong)\b`)
}

// TestPlainWords: nothing that is printed has a word that was dropped: no text of the program, and not
// the first pages that people read.
func TestPlainWords(t *testing.T) {
	bad := dropped()
	for _, sentence := range []string{"it lies behind the end", "made anew", "no room for it", "what was foretold"} {
		if !bad.MatchString(sentence) {
			t.Errorf("%q passes", sentence)
		}
	}
	texts, tags := 0, map[*ast.BasicLit]bool{}
	for _, s := range sources(t) {
		if strings.HasPrefix(s.path, "test/") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec:
				return false
			case *ast.Field: // a tag is a name
				if n.Tag != nil {
					tags[n.Tag] = true
				}
			case *ast.BasicLit:
				words, err := strconv.Unquote(n.Value)
				if n.Kind != token.STRING || tags[n] || err != nil || !strings.Contains(words, " ") {
					return true
				}
				texts++
				if found := bad.FindString(words); found != "" {
					t.Errorf("%v: %q in %q", s.files.Position(n.Pos()), found, words)
				}
			}
			return true
		})
	}
	for _, page := range []string{"README.md", "docs/guide.md", "docs/commands.md"} {
		data, err := os.ReadFile("../../" + page)
		if err != nil {
			t.Fatal(err)
		}
		for i, line := range strings.Split(string(data), "\n") {
			if found := bad.FindString(line); found != "" {
				t.Errorf("%s:%d: %q in %q", page, i+1, found, line)
			}
		}
	}
	if texts < 3000 {
		t.Errorf("only %d texts were looked at", texts)
	}
}
