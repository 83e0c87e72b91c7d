package workbench

import (
	"crypto/tls"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// tapping holds the taps of the workspace.
type tapping struct {
	mu   sync.Mutex // guards what follows
	taps []*tapped
	err  error // why one could not be opened
}

// all returns the taps at work.
func (t *tapping) all() []*tapped {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.taps)
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

// startTaps opens the taps of the workspace, and brings those that are open in line with it: rules alone change under who
// goes through; what listens elsewhere, or leads elsewhere, is opened anew, and who went through has to dial again. Rules
// that were switched on by hand stay on.
func (b *Bench) startTaps() {
	var errs []error
	before := map[string]*tapped{}
	for _, x := range b.tapping.all() {
		before[x.def.Name] = x
	}
	var now []*tapped
	for _, def := range b.Workspace().Taps {
		x := before[def.Name]
		if x != nil && x.leadsAs(def) {
			delete(before, def.Name)
			now = append(now, x.as(def))
		}
	}
	for _, x := range before { // before others listen where they did
		x.tap.Close()
		if x.def.Device != "" {
			b.obs.standsFor(x.def.Device, -1)
		}
	}
	for _, def := range b.Workspace().Taps {
		if slices.ContainsFunc(now, func(x *tapped) bool { return x.def == def }) {
			continue
		}
		x, err := b.openTap(def)
		if err != nil {
			errs = append(errs, fmt.Errorf("tap %s: %w", def.Name, err))
		}
		now = append(now, x)
	}
	err := errors.Join(errs...)
	b.tapping.mu.Lock()
	b.tapping.taps, b.tapping.err = now, err
	b.tapping.mu.Unlock()
	if err != nil {
		b.Log.Add(trace.Event{At: time.Now(), Client: "tap", Role: trace.RoleLog, Kind: trace.Line, Text: err.Error()})
	}
}

// leadsAs tells whether a tap is as it is defined now, but for its rules.
func (x *tapped) leadsAs(def *workspace.Tap) bool {
	return slices.Equal(x.def.Listen, def.Listen) && x.def.Broker == def.Broker && x.def.Listener == def.Listener &&
		x.def.Device == def.Device && len(x.at) == len(def.Listen)
}

// as is the tap with the rules of another definition in force.
func (x *tapped) as(def *workspace.Tap) *tapped {
	if !reflect.DeepEqual(x.def.Rules, def.Rules) {
		all := slices.Clone(def.Rules)
		for _, r := range x.tap.Rules() {
			if !r.Over &&
				!slices.ContainsFunc(x.def.Rules, func(was tap.Rule) bool { return reflect.DeepEqual(was, r.Rule) }) {
				all = append(all, r.Rule)
			}
		}
		x.tap.Set(all...)
	}
	return &tapped{def, x.tap, x.at}
}

// openTap opens a tap. Where it does not get to listen everywhere, the error says why.
func (b *Bench) openTap(def *workspace.Tap) (*tapped, error) {
	o := tap.Options{
		Dial:     b.dialer(def.Broker, def.Listener, nil),
		Broker:   def.Broker,
		Log:      b.Log,
		Announce: b.opt.Tell,
	}
	if def.Device != "" {
		o.Names = func(string) string { return def.Device }
		b.obs.standsFor(def.Device, 1)
	}
	x := &tapped{def: def, tap: tap.New(o)}
	x.tap.Set(def.Rules...)
	for _, url := range def.Listen {
		var config *tls.Config
		if e, err := link.Parse(url); err == nil && e.TLS {
			ca, err := b.Authority()
			if err != nil {
				return x, err
			}
			pair, err := ca.Issue(trust.Request{CommonName: "Hodstone tap", Names: trust.LocalNames(e.Host)})
			if err != nil {
				return x, err
			}
			config = &tls.Config{Certificates: []tls.Certificate{pair}}
		}
		at, err := x.tap.Listen(url, config)
		if err != nil {
			return x, err
		}
		x.at = append(x.at, at)
	}
	return x, nil
}

func (b *Bench) closeTaps() {
	for _, x := range b.tapping.all() {
		x.tap.Close()
	}
}

// Taps returns the taps as they stand, and why one could not be opened.
func (b *Bench) Taps() (out []TapState, err error) {
	b.tapping.mu.Lock()
	defer b.tapping.mu.Unlock()
	for _, x := range b.tapping.taps {
		out = append(out, TapState{x.def.Name, x.def.Device, x.at, x.tap.Rules()})
	}
	return out, b.tapping.err
}

// Tap returns the tap with the name, for its rules; nil for none.
func (b *Bench) Tap(name string) *tap.Tap {
	for _, x := range b.tapping.all() {
		if x.def.Name == name {
			return x.tap
		}
	}
	return nil
}
