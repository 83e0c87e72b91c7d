package workbench

import (
	"slices"
	"sync"

	"golang.org/x/time/rate"

	"hodstone/internal/device"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// playing holds the devices.
type playing struct {
	gate *rate.Limiter // bounds how many connect a second

	mu   sync.Mutex // guards what follows
	list []*device.Device
}

// all returns the devices as they are now.
func (p *playing) all() []*device.Device {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.list)
}

// newDevice makes a device of a kind.
func (b *Bench) newDevice(kind *workspace.Device, number int) *device.Device {
	w := b.Workspace()
	login := w.Login(workspace.FillIn(kind.Login, number))
	return device.New(
		device.Options{
			Kind:     kind,
			Number:   number,
			Contract: w.Contract,
			Dial:     b.dialer(kind.Broker, kind.Listener, login),
			Login:    login,
			Broker:   kind.Broker,
			Logs:     []*trace.Log{b.Log},
			Gate:     b.play.gate,
			Seed:     b.opt.Seed,
		},
	)
}

// Device returns the device with the name, or nil.
func (b *Bench) Device(name string) *device.Device {
	for _, d := range b.play.all() {
		if d.State().Name == name {
			return d
		}
	}
	return nil
}

// Devices returns all devices as they stand.
func (b *Bench) Devices() []device.State {
	all := b.play.all()
	out := make([]device.State, len(all))
	for i, d := range all {
		out[i] = d.State()
	}
	return out
}
