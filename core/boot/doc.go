// Package boot works through what the next boot would do with the machine's disks, on an
// inventory alone, and says whether it comes up.
//
// It does what systemd does. Facts are turned into units: the generator's of fstab and of the
// kernel's command line, those that people and packages keep, those of crypttab, and those of
// partitions that are found by their types. Units become a graph: who requires whom, who waits
// for whom, with all that systemd adds by itself. One walk over it says what is started, what
// fails and when, and from that follow the verdict and what becomes of each line and unit. No
// rule of the walk knows fstab.
//
// What cannot be told is unknown, with the reason: a wrong "comes up" costs more than none.
//
// Source: systemd.unit(5), systemd.mount(5), systemd.swap(5), systemd.automount(5),
// systemd.device(5), systemd.special(7), bootup(7), kernel-command-line(7),
// systemd-fstab-generator(8), systemd-gpt-auto-generator(8), crypttab(5) of systemd 252; each
// rule was seen in a real boot by a test, or says that it was not.
package boot
