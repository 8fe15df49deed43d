package advice

import (
	"errors"
	"fmt"
)

// Error is a refusal with the one command that leads on. The command is not part of the
// text: whoever shows the error puts it where it can be copied.
type Error struct {
	Err  error
	Next string // "fundus recover 9"
}

func (e *Error) Error() string { return e.Err.Error() }

// Unwrap gives the refusal itself.
func (e *Error) Unwrap() error { return e.Err }

// Way is the command.
func (e *Error) Way() string { return e.Next }

// Way adds the command that leads on to an error.
func Way(err error, format string, args ...any) error {
	return &Error{err, fmt.Sprintf(format, args...)}
}

// Next is the command that leads on from an error, empty where it names none.
func Next(err error) string {
	var w interface {
		error
		Way() string
	}
	if errors.As(err, &w) {
		return w.Way()
	}
	return ""
}
