package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strings"
	"time"

	"fundus/internal/cli"
	"fundus/internal/config"
)

// here is WORDS: the program's command in this process, with the program's own way of reading
// words. A process of its own takes this kernel half a second to begin.
func here(words []string) string {
	var out bytes.Buffer
	env := &cli.Env{
		In: strings.NewReader(""), Out: &out, Err: &out, Now: time.Now, Random: rand.Reader, Getenv: os.Getenv, Width: 80, Height: 24,
		Shield: func() func() { return func() {} }, Configured: config.System,
	}
	if code := cli.Run(context.Background(), env, words); code != 0 {
		return fmt.Sprintf("%s[exit status %d]", out.String(), code)
	}
	return out.String() + "[<nil>]"
}
