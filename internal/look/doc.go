// Package look holds the use cases that change nothing, one file each: they read a
// machine, have core compute, and give a report. They know no stage and no deed.
package look
