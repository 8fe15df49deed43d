// Package advice decides what may be advised for a device, from what it holds or may hold.
//
// Whoever reads an error message at night types what it says. So a command that destroys
// is named only for a device that is empty as far as anybody can see; for every other one
// there is the command that looks, the one that brings back, or none. All messages and
// findings that lead on to another command for a device ask here.
package advice
