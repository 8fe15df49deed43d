// Package probe recognises the kinds that have no package of their own: each is
// a file with the places and checks of its format, and names the header or the
// specification that they are from. A probe reads no more than it must, and
// believes nothing that a checksum or a second field contradicts.
package probe
