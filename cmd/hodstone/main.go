// Hodstone defines MQTT contracts, plays the devices of a site, and proves what a broker
// guarantees.
package main

import (
	"os"

	"github.com/charmbracelet/x/term"

	"hodstone/internal/cli"
	"hodstone/internal/tui"
)

func main() {
	os.Exit(cli.Main(cli.Env{
		Args: os.Args[1:], Out: os.Stdout, ErrOut: os.Stderr, Screens: tui.Run,
		Terminal: term.IsTerminal(os.Stdin.Fd()) && term.IsTerminal(os.Stdout.Fd()),
	}))
}
