// Package view is everything that a person or a program reads: survey, drafts,
// findings, histories, and the JSON documents. It is given results and computes
// nothing but their looks.
package view

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/core/quantity"
	"fundus/core/way"
)

// Printer knows where and how to print.
type Printer struct {
	Out      io.Writer
	Width    int  // columns
	Height   int  // rows of the terminal, 0 where unknown
	Terminal bool // bars are drawn on terminals only
	UTF8     bool
	Colour   bool
	JSON     bool
	Quiet    bool
	Sizes    quantity.Style
}

// Report is what a command answers: one document for programs, or words for people.
type Report interface {
	// Document is what --json prints.
	Document() any
	// Words prints the same for a person to read.
	Words(p *Printer)
}

// Show prints a report in the form that was asked for. Errors are those of the output.
func (p *Printer) Show(r Report) error {
	if p.JSON {
		return p.document(r.Document())
	}
	out := &strict{w: p.Out}
	q := *p
	q.Out = out
	if p.Quiet && answers(r) {
		var words bytes.Buffer
		q.Out, q.Width = &words, 1<<20
		r.Words(&q)
		first, _, _ := strings.Cut(words.String(), "\n")
		_, err := fmt.Fprintln(out, first)
		return err
	}
	r.Words(&q)
	return out.err
}

// answers reports whether the first line of a report is its answer, and all that --quiet leaves of it.
func answers(r Report) bool {
	switch r.(type) {
	case Survey, Verification, Rehearsal, Fstab, FstabCheck, Units, Inspection, Swap:
		return true
	}
	return false
}

// strict remembers the first error of the output, which whoever prints line by line does
// not ask for: half an answer must not pass for a whole one.
type strict struct {
	w   io.Writer
	err error
}

func (s *strict) Write(b []byte) (int, error) {
	if s.err != nil {
		return 0, s.err
	}
	n, err := s.w.Write(b)
	if s.err = err; err != nil {
		s.err = fmt.Errorf("the answer cannot be written: %w", err)
	}
	return n, err
}

// State is what a colour marks.
type State int

// The states.
const (
	Plain State = iota
	InUse
	Changed
	Lost
	Free
	Strong
)

func (p *Printer) paint(s State, words string) string {
	if !p.Colour || words == "" {
		return words
	}
	colours := map[State]text.Colors{
		InUse:   {text.FgGreen},
		Changed: {text.Bold},
		Lost:    {text.FgRed, text.Bold},
		Free:    {text.FgHiBlack},
		Strong:  {text.Bold},
	}
	c, ok := colours[s]
	if !ok {
		return words
	}
	return text.Escape(words, c.EscapeSeq())
}

// printf writes one line or more; an error of the output is the writer's.
func (p *Printer) printf(format string, args ...any) {
	fmt.Fprint(p.Out, p.plain(fmt.Sprintf(format, args...)))
}

// plain turns signs into ASCII where the terminal has no UTF-8.
func (p *Printer) plain(s string) string {
	if p.UTF8 {
		return s
	}
	s = strings.NewReplacer("·", "-", "×", "x", "…", "...", "█", "#", "▓", "+", "▁", "_", "░", ".", "│", "|", "▕", "|",
		"▏", "|", "→", "->").Replace(s)
	var b strings.Builder
	for _, r := range s {
		if r > unicode.MaxASCII {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// visible makes control and direction characters of a text from a disk
// visible, so that it cannot play tricks on a terminal.
func visible(s string) string {
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, "\\x%02x", s[0])
		} else if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteRune(r)
		}
		s = s[n:]
	}
	return b.String()
}

// size prints a number of bytes in the style that was asked for.
func (p *Printer) size(b quantity.Bytes, sector int64) string {
	return p.Sizes.Format(b, quantity.Bytes(sector))
}

// sum is a number of bytes of no one device, in a sentence; its sectors are then those that are usual.
func (p *Printer) sum(b quantity.Bytes) string {
	words := p.size(b, 512)
	if p.Sizes == quantity.Exact {
		words += " bytes"
	}
	return words
}

// styled rewrites the sizes of a text that are known in full into the style that was asked for: whoever
// made the text did not know of it.
func (p *Printer) styled(words string, sizes ...quantity.Bytes) string {
	if p.Sizes == quantity.IEC {
		return words
	}
	for _, b := range sizes { // 1.0 GiB stands in 21.0 GiB, too
		whole := regexp.MustCompile(`(^|[^0-9.,])` + regexp.QuoteMeta(b.String()) + `\b`)
		words = whole.ReplaceAllString(words, "${1}"+p.sum(b))
	}
	return words
}

// cell is a number of bytes in a table whose heading has the unit, where all have the same.
func (p *Printer) cell(b quantity.Bytes, sector int64) string {
	words := p.size(b, sector)
	if p.Sizes == quantity.Sectors || p.Sizes == quantity.Exact {
		words, _, _ = strings.Cut(words, " ")
	}
	return words
}

// unit is a heading with the unit of its cells, where all have the same.
func (p *Printer) unit(heading string) string {
	if p.Sizes == quantity.Sectors || p.Sizes == quantity.Exact {
		return heading + ", " + string(p.Sizes)
	}
	return heading
}

// columns lays rows out below each other, indented, without borders; the columns that give
// are cut where a line does not fit. Columns
// whose heading begins with ">" are right-aligned.
func (p *Printer) columns(indent int, heading []string, rows [][]string, give ...int) {
	narrow := *p
	narrow.Width -= indent
	for _, line := range narrow.fitted(heading, rows, give...) {
		p.printf("%s\n", strings.TrimRight(strings.Repeat(" ", indent)+line, " "))
	}
}

// layout gives the heading and a line for each row.
func layout(heading []string, rows [][]string) []string {
	t := table.NewWriter()
	var buf bytes.Buffer
	t.SetOutputMirror(&buf)
	style := table.StyleDefault
	style.Box = table.BoxStyle{PaddingRight: "  "}
	style.Options = table.Options{}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	var head table.Row
	var configs []table.ColumnConfig
	for i, h := range heading {
		align := text.AlignLeft
		if strings.HasPrefix(h, ">") {
			h, align = h[1:], text.AlignRight
		}
		head = append(head, h)
		configs = append(configs, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, r := range rows {
		var row table.Row
		for i := range heading {
			if i < len(r) {
				row = append(row, r[i])
			} else {
				row = append(row, "")
			}
		}
		t.AppendRow(row)
	}
	t.Render()
	var lines []string
	for line := range strings.Lines(buf.String()) {
		lines = append(lines, strings.TrimRight(line, " \n"))
	}
	return lines
}

// fitted is a layout that keeps to the width, as far as the cells of some columns can give,
// the first of them before the next: what does not fit of these is cut. Where that is not
// enough each row is written below its first cell.
func (p *Printer) fitted(heading []string, rows [][]string, give ...int) (lines []string) {
	head, each := p.laid(heading, rows, give...)
	if head != "" {
		lines = append(lines, head)
	}
	return append(lines, slices.Concat(each...)...)
}

// laid gives the heading, empty for none, and the lines of each row.
func (p *Printer) laid(heading []string, rows [][]string, give ...int) (head string, each [][]string) {
	over := func(lines []string) (most int) {
		for _, l := range lines {
			most = max(most, text.StringWidthWithoutEscSequences(l)-p.Width)
		}
		return most
	}
	lines, cut := layout(heading, rows), rows
	for _, column := range give {
		if over(lines) <= 0 {
			break
		}
		cut = p.cut(cut, column, over(lines))
		lines = layout(heading, cut)
	}
	if over(lines) > 0 && p.Width > 0 {
		for _, r := range rows {
			each = append(each, p.stacked(heading, r))
		}
		return "", each
	}
	for _, l := range lines[1:] {
		each = append(each, []string{l})
	}
	return lines[0], each
}

// stacked is a row for a narrow terminal: its first cell, and below that what the others are and
// say.
func (p *Printer) stacked(heading, row []string) []string {
	first := 0
	for first < len(heading)-1 && strings.TrimPrefix(heading[first], ">") == "" {
		first++
	}
	var lead, rest []string
	for i, cell := range row {
		cell = strings.TrimSpace(cell)
		switch name := strings.TrimPrefix(heading[i], ">"); {
		case cell == "":
		case i <= first:
			lead = append(lead, cell)
		case name == "":
			rest = append(rest, cell)
		default:
			rest = append(rest, name+" "+cell)
		}
	}
	const margin = 12
	begin, words := strings.Join(lead, " "), strings.Join(rest, ", ")
	if text.StringWidthWithoutEscSequences(begin) <= margin {
		return p.broken(0, begin+"  ", words)
	}
	return append([]string{begin}, p.broken(4, "", words)...)
}

// cut makes the cells of a column narrower by as much as it is over, or as can be.
func (p *Printer) cut(rows [][]string, column, over int) [][]string {
	const least = 8
	most := 0
	for _, r := range rows {
		if column < len(r) {
			most = max(most, text.StringWidthWithoutEscSequences(r[column]))
		}
	}
	if most <= least {
		return rows
	}
	cut := make([][]string, len(rows))
	for i, r := range rows {
		cut[i] = slices.Clone(r)
		if column < len(r) {
			cut[i][column] = text.Snip(r[column], max(most-over, least), p.ellipsis())
		}
	}
	return cut
}

// wrap prints a text in lines of the printer's width.
func (p *Printer) wrap(indent int, first, words string) {
	for _, line := range p.broken(indent, first, words) {
		p.printf("%s\n", line)
	}
}

// hang prints a term with its meaning beside it, wrapped at a margin; a term that is too long
// has a line of its own.
func (p *Printer) hang(lead, term, meaning string, width int) {
	if n := text.StringWidth(term); n > width-2 {
		p.printf("%s%s\n", lead, term)
		lead, term = strings.Repeat(" ", len(lead)), ""
	}
	p.wrap(0, lead+text.Pad(term, width, ' '), meaning)
}

// broken breaks a text into lines of the printer's width, as columns are counted: colours
// take none, and some characters two.
func (p *Printer) broken(indent int, first, words string) (lines []string) {
	lead := strings.Repeat(" ", indent) + first
	line, empty := lead, true
	for word := range strings.FieldsSeq(words) {
		if !empty && text.StringWidthWithoutEscSequences(line)+1+text.StringWidthWithoutEscSequences(word) > p.Width {
			lines = append(lines, line)
			line, empty = strings.Repeat(" ", text.StringWidthWithoutEscSequences(lead)), true
		}
		if !empty {
			line += " "
		}
		line, empty = line+word, false
	}
	return append(lines, line)
}

// Next prints the command that leads on, alone and whole on its line, so that it can be
// copied.
func (p *Printer) Next(s way.Step) {
	if len(s.Words) == 0 {
		p.printf("  %s\n", visible(s.Text))
		return
	}
	p.printf("  %s\n", p.paint(Strong, visible(s.Line())))
	if s.Text != "" {
		p.printf("  (%s)\n", visible(s.Text))
	}
}

// Failure prints an error for people.
func (p *Printer) Failure(words string) { p.wrap(0, "fundus: ", visible(words)) }
