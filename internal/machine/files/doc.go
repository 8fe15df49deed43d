// Package files reads a machine's text files into its inventory: fstab and the other files that name
// devices, systemd's units and settings, the lists of accounts, and the places that all of them
// name. Whatever a machine is, a Reader gives them.
package files
