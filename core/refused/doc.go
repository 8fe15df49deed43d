// Package refused has the kinds of refusals and failures, one closed list of identifiers by which a
// program tells them apart. Errors that have a type or a sentinel are told by those, beside the exit
// codes; one that is only a text says its kind where it is made.
package refused
