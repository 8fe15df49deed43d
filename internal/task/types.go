package task

import "fundus/core/table"

// PartitionType is a partition type as both schemes write it.
type PartitionType = table.Type
