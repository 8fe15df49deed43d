// Package units knows what systemd has for mounts, automounts, swap and devices: the units that
// lie in its directories, with their precedence, drop-ins, masks and the links that pull them
// in, and those that its generator makes of fstab at each boot.
//
// It computes on data alone: a Tree is what lies in a directory of units, a Set is what counts
// of several. Reading and writing of one file is core/text/unit's.
//
// Source: systemd.unit(5), systemd.mount(5), systemd.automount(5), systemd.swap(5) and
// systemd-fstab-generator(8) of systemd 252, held against its generator by a test.
package units
