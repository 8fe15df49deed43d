package view

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// helpWidth is that of a terminal that nobody has made larger.
const helpWidth = 80

// Hang prints a term and what it means, in a column of its own.
func Hang(w io.Writer, term, meaning string, at int) {
	lines := strings.Split(text.WrapSoft(meaning, helpWidth-at), "\n")
	if len(term) > at-2 {
		fmt.Fprintln(w, term)
		term = ""
	}
	for i, line := range lines {
		if i > 0 {
			term = ""
		}
		fmt.Fprintf(w, "%-*s%s\n", at, term, strings.TrimRight(line, " "))
	}
}

// Paragraphs breaks paragraphs anew.
func Paragraphs(long string) string {
	var out []string
	for paragraph := range strings.SplitSeq(long, "\n\n") {
		lines := strings.Split(text.WrapSoft(strings.Join(strings.Fields(paragraph), " "), helpWidth), "\n")
		for i := range lines {
			lines[i] = strings.TrimRight(lines[i], " ")
		}
		out = append(out, strings.Join(lines, "\n"))
	}
	return strings.Join(out, "\n\n")
}
