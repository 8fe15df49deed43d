// Package stack plans a change of size through all that lies one in the other: a table entry,
// what is in it, and what is in that. It knows no kind by name; each layer says what sizes it
// can have, and how it gets them.
//
// What grows does so from the outside in, what shrinks from the inside out, so that at no
// moment anything is larger than what holds it.
package stack
