// Hodstone defines MQTT contracts, plays the devices of a site, and proves what a broker
// guarantees.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"

	"github.com/charmbracelet/x/term"

	"hodstone/internal/cli"
	"hodstone/internal/tui"
)

// gcPercent lets the heap grow to four times what is in use before it is collected: the
// trace's ring is most of it and lives on, so that looking through it often finds nothing.
const gcPercent = 300

func main() {
	tune()
	os.Exit(cli.Main(cli.Env{
		Args: os.Args[1:], In: os.Stdin, Out: os.Stdout, ErrOut: os.Stderr, Screens: tui.Run,
		Terminal: term.IsTerminal(os.Stdin.Fd()) && term.IsTerminal(os.Stdout.Fd()), AskSecret: asker(),
	}))
}

// asker asks for a secret on the terminal, without echo; it is nil where there is none.
func asker() func(string) (string, error) {
	if !term.IsTerminal(os.Stdin.Fd()) {
		return nil
	}
	return func(prompt string) (string, error) {
		fmt.Fprint(os.Stderr, prompt)
		b, err := term.ReadPassword(os.Stdin.Fd())
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
}

// The bounds of what the heap is kept below where that can be: as it comes near, what is not in use is collected sooner.
// It follows what lives, at twice that, so that a site of a thousand devices stays small, and a busy one is not slowed.
const (
	leastLimit = 150 << 20
	mostLimit  = 448 << 20
)

// limitEvery is how often the limit follows what lives.
const limitEvery = 2 * time.Second

// limited keeps the limit of the heap.
func limited() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		metrics.Read(live)
		debug.SetMemoryLimit(min(max(leastLimit, 2*int64(live[0].Value.Uint64())), mostLimit))
		time.Sleep(limitEvery)
	}
}

func tune() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(leastLimit)
		go limited()
	}
}
