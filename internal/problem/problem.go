package problem

import (
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/way"
	"fundus/internal/draft"
)

// State says in which state things are after an error.
type State string

// The states.
const (
	Untouched State = "untouched" // nothing was changed
	Drafted   State = "drafted"   // nothing was changed; a draft waits for its commit
	Stopped   State = "midway"    // in part: recover
)

// Problem is what went wrong, as data: views put it into words and documents.
type Problem struct {
	Code   int // with which the program ends
	ID     refused.ID
	Text   string
	State  State
	Rule   string            // the finer word, where there is one: of the rules, a finding, a setting's key
	Device string            // that it is about
	Target *inventory.Called // of that device
	Needs  []draft.Need      // without which it does not go ahead
	Next   way.Step          // what leads on
	Now    *draft.Draft      // what takes the place of a stale one, stored
}
