// Package way has what leads on from a refusal or a finding, as data: a command with its words, or
// what somebody has to do by hand.
//
// A step is made where it is known, with a function for each verb, and put into a line where it is
// shown: no package writes a command line of its own, so that none is misspelt, none quoted wrongly,
// and a program can take the words as they are. Whether a step may be advised at all is decided by
// package advice.
package way
