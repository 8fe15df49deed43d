package gpt

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
)

// Type is a partition type with its short name.
type Type struct {
	Name, GUID, Meaning string
}

// Types lists the types that have a short name: those of the UEFI
// specification (5.3.3) and of the Discoverable Partitions Specification that
// a road from a blank disk to a mounted file system needs.
func Types() []Type {
	return []Type{
		{"linux", "0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux file system"},
		{"root", "4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "Linux root on x86-64"},
		{"home", "933ac7e1-2eb4-4f13-b844-0e14e2aef915", "Linux /home"},
		{"srv", "3b8f8425-20e0-4f3b-907f-1a25a76f98e8", "Linux /srv"},
		{"swap", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
		{"efi", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system partition"},
	}
}

// ParseType reads a short name or a GUID.
func ParseType(word string) (uuid.UUID, error) {
	var names []string
	for _, t := range Types() {
		if t.Name == strings.ToLower(word) {
			return uuid.Parse(t.GUID)
		}
		names = append(names, t.Name)
	}
	id, err := uuid.Parse(word)
	if err != nil || id == uuid.Nil {
		return uuid.Nil, fmt.Errorf("%q is not a partition type: use %s, or a GUID", word, strings.Join(names, ", "))
	}
	return id, nil
}
