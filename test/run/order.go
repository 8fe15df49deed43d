package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// record is the file, which git ignores, that keeps what each proof took last.
const record = ".proofs"

// past is what is known of a proof from the last time.
type past struct {
	Seconds   float64 `json:"seconds"`
	Processor float64 `json:"processor_seconds"`
	LeftOut   bool    `json:"left_out,omitempty"` // it was not begun
}

func (p *place) recorded() map[string]past {
	out := map[string]past{}
	text, err := os.ReadFile(filepath.Join(p.top, record))
	if err == nil {
		_ = json.Unmarshal(text, &out) // what cannot be read is not known
	}
	return out
}

func (p *place) keep(all map[string]past) error {
	text, err := json.MarshalIndent(all, "", "\t")
	return errors.Join(err, os.WriteFile(filepath.Join(p.top, record), append(text, '\n'), 0o644))
}

// lastCommits is how many of them count as the last.
const lastCommits = 3

// touched are the files that the last commits changed, and those that are not committed.
func (p *place) touched() (out []string) {
	for _, words := range [][]string{
		{"log", "-" + string('0'+rune(lastCommits)), "--format=", "--name-only"},
		{"diff", "HEAD", "--name-only"},
	} {
		cmd := exec.Command("git", words...)
		cmd.Dir = p.top
		text, err := cmd.Output()
		if err == nil { // without git none is known
			out = append(out, strings.Fields(string(text))...)
		}
	}
	return out
}

// commit is a number that the commit's name makes, for turns.
func (p *place) commit() int {
	cmd := exec.Command("git", "rev-parse", "HEAD")
	cmd.Dir = p.top
	text, _ := cmd.Output() // without git it is always the same
	return int(crc32.ChecksumIEEE(text) >> 1)
}

// ordered puts the proofs in the order in which they are begun: first what the last commits
// touched, then what was left out the last time, then the others, by turns of the commit's
// name. So a machine that is too slow for all of them comes to each in the end.
func ordered(list []proof, touched []string, known map[string]past, turn int) []proof {
	class := func(p proof) int {
		on := func(folder string) bool {
			return slices.ContainsFunc(touched, func(f string) bool { return strings.HasPrefix(f, folder+"/") })
		}
		switch {
		case slices.ContainsFunc(p.on, on):
			return 0
		case known[p.name].LeftOut:
			return 1
		}
		return 2
	}
	turned := slices.Clone(list)
	if n := len(list); n > 0 {
		turned = slices.Concat(list[turn%n:], list[:turn%n])
	}
	slices.SortStableFunc(turned, func(a, b proof) int { return cmp.Compare(class(a), class(b)) })
	return turned
}
