// Package place works out where partitions go: from what was asked for (a size, a place,
// a gap) and a table it makes spans of sectors, on the alignment step, and says every
// rounding. It knows tables as plain data, and no scheme.
package place
