// Package past holds the tasks on what was done: taking it back.
package past

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request { return []task.Request{&Undo{}} }
