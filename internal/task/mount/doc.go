// Package mount holds the tasks on how a running system uses its devices: mounts, whose a
// mounted file system is, and swap. What is to be so at each boot as well is the neighbour's,
// task/boot: a mount that is to last plans a line there, and nothing there plans a mount of
// these.
package mount

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request {
	return []task.Request{&Mount{}, &Remount{}, &Unmount{}, &SwapOn{}, &SwapOff{}, &SwapAdd{}}
}
