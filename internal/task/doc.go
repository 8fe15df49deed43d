// Package task is what every change has in common: a request is plain data; planning it
// on a stage appends steps and gives a draft, the same for the same request, seed, clock
// and machine. Here are the planner and what several families need: losses, tables that
// are written, text files that follow. The requests are in the folders below, one file an
// intention; a family imports this package and no other family.
package task
