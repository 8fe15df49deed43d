// Package problem has what went wrong as data: an identifier of a closed list, the device, what is
// needed, what leads on, and in which state things are. Which error stands for which identifier is
// decided beside the exit codes, in package cli; the words and the document are the view's.
package problem
