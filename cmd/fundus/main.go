// Command fundus looks at disks and prepares them; see package cli.
package main

import (
	"context"
	"crypto/rand"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"fundus/internal/cli"
	"fundus/internal/config"
	"fundus/internal/machine/live"
	"fundus/internal/oscall"
)

func main() {
	if live.FirstRead(os.Args, os.Stdout) {
		return
	}
	if code, child := live.GiveUpSwap(os.Args); child {
		os.Exit(code)
	}
	debug.SetGCPercent(400) // what it allocates, a look soon drops as a whole
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	width, height, terminal := oscall.IsTerminal(os.Stdout)
	_, _, typed := oscall.IsTerminal(os.Stdin)
	env := &cli.Env{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Now: time.Now, Random: rand.Reader, Getenv: os.Getenv,
		Ask: terminal && typed, Terminal: terminal, Width: width, Height: height, Shield: shield, Configured: config.System,
	}
	os.Exit(cli.Run(ctx, env, os.Args[1:]))
}

// shield keeps a lost terminal from ending the program in mid-commit.
func shield() func() {
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	return func() { signal.Reset(syscall.SIGHUP, syscall.SIGPIPE) }
}
