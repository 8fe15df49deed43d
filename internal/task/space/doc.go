// Package space holds the tasks that give or take room: resizing.
package space

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request { return []task.Request{&Resize{}} }
