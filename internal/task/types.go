package task

import "fundus/core/table"

// PartitionType is a partition type as both schemes write it.
type PartitionType = table.Type

// TypeWords is how a type is shown: as the table writes it, with its meaning
// where it has one.
func TypeWords(t *table.Table, value string) string {
	if t == nil {
		return value
	}
	if known, ok := table.FindType(t.Scheme, value); ok {
		return value + " (" + known.Name + ": " + known.Meaning + ")"
	}
	return value
}
