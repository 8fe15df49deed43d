package main

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"syscall"
	"time"
)

// stuck waits for a lock that is never given.
func stuck([]string) string {
	var held [2]*os.File
	var err error
	for i := range held {
		f, errOpen := os.OpenFile("/held", os.O_CREATE|os.O_RDWR, 0o600)
		held[i], err = f, errors.Join(err, errOpen)
	}
	if err == nil {
		err = errors.Join(syscall.Flock(int(held[0].Fd()), syscall.LOCK_EX), syscall.Flock(int(held[1].Fd()), syscall.LOCK_EX))
	}
	return fine(err)
}

// loop computes for ever, without a word.
func loop([]string) string {
	for n := uint32(1); n != 0; n = n*3 | 1 { // odd, so never 0
	}
	return "ended"
}

// counting is N: it says so many lines, a few a second.
func counting(words []string) string {
	n, err := strconv.Atoi(words[0])
	for i := range n {
		progress("counting: %d of %d", i+1, n)
		time.Sleep(200 * time.Millisecond)
	}
	return fmt.Sprintf("counted%s", fine(err))
}
