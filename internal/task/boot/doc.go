// Package boot holds the tasks on what a machine mounts and swaps on at each boot: the lines of
// fstab, and the units of systemd that do the same. They write text files, and tell systemd of
// them; the running system's mounts are the neighbour's, task/mount. What a boot comes to is
// foretold by core/boot.
package boot

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request {
	return []task.Request{
		&FstabAdd{}, &FstabEdit{}, &FstabRemove{}, &FstabDisable{}, &FstabEnable{}, &FstabSort{}, &FstabRestore{},
		&UnitAdd{}, &UnitRemove{}, &FromUnit{},
	}
}
