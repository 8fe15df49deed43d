// Package several plans a list of requests as one: on one stage, as one draft and one deed. Each
// goes by the machine as it would be after those before it, and may name what they make.
package several

import "fundus/internal/task"

// Requests lists one empty request of each kind of this family.
func Requests() []task.Request { return []task.Request{&List{}} }
