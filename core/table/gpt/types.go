package gpt

import (
	"github.com/google/uuid"

	"fundus/core/table"
)

// ParseType reads a short name or a GUID.
func ParseType(word string) (uuid.UUID, error) {
	value, err := table.ParseType(table.GPT, word)
	if err != nil {
		return uuid.Nil, err
	}
	return uuid.Parse(value)
}
