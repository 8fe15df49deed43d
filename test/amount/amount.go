// Package amount says how much of a proof runs, and from which seed. make test runs a
// sample that repeats with the seed below; make soak runs the full count, from the day's
// date. Both print the seed, and FUNDUS_SEED sets it.
package amount

import (
	"math/rand/v2"
	"os"
	"strconv"
	"time"
)

// seed is moved on by hand, so that make test sees other cases from time to time.
const seed = 20261125

// Soak reports whether the full count is to run.
func Soak() bool { return os.Getenv("FUNDUS_SOAK") != "" }

// Of is the sample, or the full count.
func Of(sample, full int) int {
	if Soak() {
		return full
	}
	return sample
}

// Seed is what all random cases start from.
func Seed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("FUNDUS_SEED"), 10, 64); err == nil {
		return n
	}
	if Soak() {
		day, err := strconv.ParseUint(time.Now().UTC().Format("20060102"), 10, 64)
		if err == nil {
			return day
		}
	}
	return seed
}

// Rand is the source of the n-th random case.
func Rand(n int) *rand.Rand { return rand.New(rand.NewPCG(Seed(), uint64(n))) }

// Turn reports whether it is the turn of the i-th case, each one in of times: the number of
// the turn is that of the run, so that all come in the end.
func Turn(i, of int) bool {
	n, err := strconv.Atoi(os.Getenv("FUNDUS_TEST_TURN"))
	return err != nil || n%of == i%of
}

// Sample is all cases, or the first of them, which are the corners, and so many of the others
// as the n-th random source draws.
func Sample[C any](all []C, corners, more, n int) []C {
	if Soak() {
		return all
	}
	rng, sample := Rand(n), all[:corners:corners]
	for range more {
		sample = append(sample, all[corners+rng.IntN(len(all)-corners)])
	}
	return sample
}
