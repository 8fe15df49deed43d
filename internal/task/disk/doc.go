// Package disk holds the tasks on partition tables: making, repairing, converting, saving
// and restoring one, searching for a lost one, and the partitions in it.
package disk

import "fundus/internal/task"

// Requests lists one empty request of each kind.
func Requests() []task.Request {
	return []task.Request{
		&TableNew{}, &TableRepair{}, &TableConvert{}, &TableRestore{}, &TableRebuild{}, &TableEdit{}, &PartitionAdd{},
		&PartitionRemove{}, &PartitionEdit{},
	}
}
