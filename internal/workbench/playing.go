package workbench

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

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
	real map[string]bool // who was replaced by the real one, or is played again, in place of what the workspace says
	at   string          // BROKER/LISTENER that all speak to, in place of what the workspace says; "" for that
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
	if at := b.At(); at != "" {
		moved := *kind
		moved.Broker, moved.Listener, _ = strings.Cut(at, "/")
		kind = &moved
	}
	b.play.mu.Lock()
	real, said := b.play.real[device.Name(kind, number)]
	b.play.mu.Unlock()
	if said {
		other := *kind
		if other.AllReal, other.Real = false, nil; real {
			other.Real = []int{number}
		}
		kind = &other
	}
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
		if out[i] = d.State(); out[i].Phase == device.Real {
			b.obs.seen(&out[i])
		}
	}
	return out
}

// At is where all devices speak to, in place of what the workspace says; "" for that.
func (b *Bench) At() string {
	b.play.mu.Lock()
	defer b.play.mu.Unlock()
	return b.play.at
}

// moveTo sets it, and tells where there is no such way.
func (b *Bench) moveTo(where string) error {
	if where != "" {
		broker, listener, _ := strings.Cut(where, "/")
		if _, _, err := b.address(broker, listener); err != nil {
			return err
		}
	}
	b.play.mu.Lock()
	b.play.at = where
	b.play.mu.Unlock()
	return nil
}

// Move lets all devices speak to BROKER/LISTENER from now on, or, with "", to what the workspace says. They say goodbye
// before, and come again; who was switched off stays so. It returns when they have been started.
func (b *Bench) Move(where string) error {
	if err := b.moveTo(where); err != nil {
		return err
	}
	before := b.play.all()
	off := map[string]bool{}
	var wg sync.WaitGroup
	for _, d := range before {
		st := d.State()
		off[st.Name] = st.Phase == device.Off
		wg.Go(d.Stop)
	}
	wg.Wait()
	var list []*device.Device
	for _, kind := range b.Workspace().Devices {
		for n := range max(1, kind.Count) {
			list = append(list, b.newDevice(kind, n+1))
		}
	}
	b.play.mu.Lock()
	b.play.list = list
	b.play.mu.Unlock()
	b.observe()
	for _, o := range b.observers.all() {
		o.waitReady(b.ctx, time.Second)
	}
	for _, d := range list {
		if b.ctx.Err() == nil && !off[d.State().Name] {
			d.Start()
		}
	}
	return nil
}

// Replace lets the real one stand in a device's place from now on: it is not played, but watched and judged under its
// name; or it is played again. It returns once the played one has said goodbye, or has been started.
func (b *Bench) Replace(name string, real bool) error {
	b.editing.Lock()
	defer b.editing.Unlock()
	old := b.Device(name)
	kind, number, err := b.kindOf(name)
	if err != nil || old == nil {
		return fmt.Errorf("there is no device %s", name)
	}
	old.Stop()
	b.play.mu.Lock()
	if b.play.real == nil {
		b.play.real = map[string]bool{}
	}
	b.play.real[name] = real
	b.play.mu.Unlock()
	d := b.newDevice(kind, number)
	b.play.mu.Lock()
	if i := slices.Index(b.play.list, old); i >= 0 {
		b.play.list[i] = d
	}
	b.play.mu.Unlock()
	d.Start()
	return nil
}
