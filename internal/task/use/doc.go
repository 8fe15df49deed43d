// Package use holds the tasks on how a machine uses its devices: mounts, now and at each
// boot.
package use

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request {
	return []task.Request{&FstabAdd{}, &FstabEdit{}, &FstabRemove{}, &FstabDisable{}, &FstabEnable{}, &FstabSort{}, &FstabRestore{}, &Mount{}, &Remount{}, &Unmount{}, &SwapOn{}, &SwapOff{}, &SwapAdd{}, &UnitAdd{}, &UnitRemove{}, &FromUnit{}}
}
