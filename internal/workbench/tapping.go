package workbench

import (
	"crypto/tls"
	"fmt"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/tap"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// tapping holds the taps of the workspace, as it was opened.
type tapping struct {
	taps []*tapped
	err  error // why one could not be opened
}

// tapped is a tap at work.
type tapped struct {
	def *workspace.Tap
	tap *tap.Tap
	at  []string
}

// TapState is a tap as it stands.
type TapState struct {
	Name, Device string
	// At are the URLs by which it is reached.
	At    []string
	Rules []tap.State
}

// startTaps opens the taps of the workspace.
func (b *Bench) startTaps() error {
	for _, def := range b.opened.Taps {
		o := tap.Options{
			Dial:     b.dialer(def.Broker, def.Listener, nil),
			Broker:   def.Broker,
			Log:      b.Log,
			Announce: b.opt.Tell,
		}
		if def.Device != "" {
			o.Names = func(string) string { return def.Device }
			b.obs.standsFor(def.Device)
		}
		x := &tapped{def: def, tap: tap.New(o)}
		b.tapping.taps = append(b.tapping.taps, x)
		x.tap.Set(def.Rules...)
		for _, url := range def.Listen {
			var config *tls.Config
			if e, err := link.Parse(url); err == nil && e.TLS {
				ca, err := b.Authority()
				if err != nil {
					return err
				}
				pair, err := ca.Issue(trust.Request{CommonName: "Hodstone tap", Names: trust.LocalNames(e.Host)})
				if err != nil {
					return err
				}
				config = &tls.Config{Certificates: []tls.Certificate{pair}}
			}
			at, err := x.tap.Listen(url, config)
			if err != nil {
				return fmt.Errorf("tap %s: %w", def.Name, err)
			}
			x.at = append(x.at, at)
		}
	}
	return nil
}

func (b *Bench) closeTaps() {
	for _, x := range b.tapping.taps {
		x.tap.Close()
	}
}

// Taps returns the taps as they stand, and why one could not be opened.
func (b *Bench) Taps() (out []TapState, err error) {
	for _, x := range b.tapping.taps {
		out = append(out, TapState{x.def.Name, x.def.Device, x.at, x.tap.Rules()})
	}
	return out, b.tapping.err
}

// Tap returns the tap with the name, for its rules; nil for none.
func (b *Bench) Tap(name string) *tap.Tap {
	for _, x := range b.tapping.taps {
		if x.def.Name == name {
			return x.tap
		}
	}
	return nil
}
