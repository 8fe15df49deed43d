// Package content holds the tasks on what a device holds: making a file system, its
// label, other settings, and taking off what it is known by.
package content

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request { return []task.Request{&Format{}, &Label{}, &Adjust{}, &Erase{}} }
