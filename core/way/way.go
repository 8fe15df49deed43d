package way

import (
	"errors"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// program is what every command begins with.
const program = "fundus"

// Step is one command that leads on, or a sentence where no command does; the zero value is none.
type Step struct {
	Words []string // as a program would be started with them, its own name first
	Asks  []string // those of the words that stand for what a person has still to decide
	Text  string   // what is to be done by hand; with words, when they are right
}

// None is no step at all.
func None() Step { return Step{} }

// Empty reports whether there is no step.
func (s Step) Empty() bool { return len(s.Words) == 0 && s.Text == "" }

// Is reports whether it is a command of the verb: "fstab disable".
func (s Step) Is(verb string) bool {
	words := append([]string{program}, strings.Fields(verb)...)
	return len(s.Words) >= len(words) && slices.Equal(s.Words[:len(words)], words)
}

// Line is the command as a shell takes it; without one, empty.
func (s Step) Line() string {
	quoted := make([]string, len(s.Words))
	for i, w := range s.Words {
		quoted[i] = Quoted(w)
	}
	return strings.Join(quoted, " ")
}

// String is the line, or the sentence; both where the command has a condition.
func (s Step) String() string {
	switch line := s.Line(); {
	case line == "":
		return s.Text
	case s.Text == "":
		return line
	default:
		return line + ", " + s.Text
	}
}

// Asking says of words that they stand for something that a person has to decide.
func (s Step) Asking(words ...string) Step {
	s.Asks = append(slices.Clip(s.Asks), words...)
	return s
}

// Where adds when the command is the right one: "where it is a copy".
func (s Step) Where(text string) Step {
	s.Text = text
	return s
}

// And adds words to the command.
func (s Step) And(words ...string) Step {
	s.Words = append(slices.Clip(s.Words), words...)
	return s
}

// ByHand is what no command of the program does.
func ByHand(text string) Step { return Step{Text: text} }

// Typed is a command line that somebody typed, put right.
func Typed(words ...string) Step { return step("", words) }

// Other is a command of another program, which the system has.
func Other(words ...string) Step { return Step{Words: words} }

// N is a number as a word: a line of fstab, a deed.
func N(n int) string { return strconv.Itoa(n) }

// Quoted is the word as a shell reads it back.
func Quoted(w string) string {
	special := func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("/.,:=+-_@%", r)
	}
	if w != "" && !strings.ContainsFunc(w, special) {
		return w
	}
	return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
}

// Error is a refusal with the step that leads on. The step is not part of the text: whoever shows
// the error puts it where it can be copied.
type Error struct {
	Err  error
	Step Step
}

func (e *Error) Error() string { return e.Err.Error() }

// Unwrap gives the refusal itself.
func (e *Error) Unwrap() error { return e.Err }

// Way is the step.
func (e *Error) Way() Step { return e.Step }

// To adds the step that leads on to an error.
func To(err error, s Step) error { return &Error{err, s} }

// Next is the step that leads on from an error; none where it names none.
func Next(err error) Step {
	var w interface {
		error
		Way() Step
	}
	if errors.As(err, &w) {
		return w.Way()
	}
	return Step{}
}
