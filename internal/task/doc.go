// Package task holds the use cases, one file an intention. A request is plain
// data; planning it on a stage appends steps and gives a draft, the same for
// the same request, seed, clock and machine. Looks give reports.
package task
