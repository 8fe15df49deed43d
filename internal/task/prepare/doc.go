// Package prepare plans the whole road from an empty disk, or a gap of one, to a place that is used
// at each boot: table, partition, file system, line or unit, mount, owner and link. It writes nothing
// by a way of its own. Each stretch is a request of another family, planned on the same stage behind
// those before it, so that the draft, the deed and its undo are those of the single commands.
//
// The order is that of the risks: what lies on devices first, then what names it, then what uses it.
// A road that was cut short ends before a line names what is not there. The same words again look for
// what is there by now, by its place or its label, and go on from there; what is there otherwise than
// the words say is refused, with the command for each difference.
package prepare

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request { return []task.Request{&Prepare{}} }
