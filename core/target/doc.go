// Package target finds the device that a word means: a name, a path, a mount point, or
// an identifier such as UUID=…. A word that fits two devices is refused, since whoever
// types it may destroy the other one; a word that fits none is answered with the names
// that come nearest.
package target
