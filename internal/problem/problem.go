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
	Partly    State = "partly"    // in part, which stays: what acts at once has no deed
)

// Problem is what went wrong, as data: views put it into words and documents.
type Problem struct {
	Code    int // with which the program ends
	ID      refused.ID
	Text    string
	State   State
	Rule    string            // the finer word, where there is one: of the rules, a finding, a setting's key
	Thing   string            // that it is about: a device, a place, a file
	Device  string            // that one, by its name now
	Target  *inventory.Called // of that device
	Needs   []draft.Need      // without which it does not go ahead
	Next    way.Step          // what leads on
	Remarks []string          // what was done beside, such as that a disk was asked for its size
	Now     *draft.Draft      // what takes the place of a stale one, stored
	Looks   bool              // of a command that never changes anything
}
