// Package all joins the requests of every family, so that a stored one is read back.
// Each family gives its own; it imports package task and no other family.
package all

import (
	"encoding/json"
	"fmt"
	"slices"

	"fundus/internal/draft"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
	"fundus/internal/task/past"
	"fundus/internal/task/prepare"
	"fundus/internal/task/several"
	"fundus/internal/task/space"
)

// Requests lists one empty request of each kind.
func Requests() []task.Request {
	return slices.Concat(disk.Requests(), content.Requests(), space.Requests(), boot.Requests(), mount.Requests(),
		past.Requests(), prepare.Requests(), several.Requests())
}

// Decode gives a stored request back.
func Decode(r draft.Request) (task.Request, error) {
	for _, known := range Requests() {
		if known.Verb() == r.Verb {
			return known, json.Unmarshal(r.Args, known)
		}
	}
	return nil, fmt.Errorf("this release does not know the request %q", r.Verb)
}
