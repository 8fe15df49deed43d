// Package packages has the packages of the program be judged by what installs them: Debian's checker and
// installer, RPM, the readers of manual pages, and the shells that complete.
package packages
