// Package act does what changes the running system and is no draft, since nothing of it could be
// shown before or taken back: files are put together, everything that fstab says is mounted or
// swapped on one after the other, a disk is asked for its size, and what a way back begins with is let
// go of.
package act
