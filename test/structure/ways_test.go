package structure

import (
	"go/ast"
	"go/token"
	"strings"
	"testing"
)

// TestCommandLinesAreMadeInOnePlace: whoever knows a command that leads on makes a step of it; a
// line is written by package way alone. What packages cli and view print beside that, such as the
// examples of the help, is held against the commands there.
func TestCommandLinesAreMadeInOnePlace(t *testing.T) {
	for _, s := range sources(t) {
		if under(s.pkg, "fundus/core/way", "fundus/internal/cli", "fundus/internal/view", "fundus/test", "fundus/cmd") || strings.HasSuffix(s.path, "_test.go") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && strings.HasPrefix(l.Value[1:], "fundus ") {
				t.Errorf("%s: %s: make it with package way", s.files.Position(l.Pos()), l.Value)
			}
			return true
		})
	}
}
