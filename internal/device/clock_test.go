package device_test

import (
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"hodstone/internal/device"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// fast is a clock that began in 1970 and runs sixty times as fast; it counts who waits by it.
type fast struct {
	begun time.Time
	waits atomic.Int64
}

func (c *fast) Now() time.Time { return time.Unix(0, 0).UTC().Add(60 * time.Since(c.begun)) }

func (c *fast) Timer(d time.Duration) (<-chan time.Time, func() bool) {
	c.waits.Add(1)
	t := time.NewTimer((d + 59) / 60) // never too early
	return t.C, t.Stop
}

// oneDevice starts a device of the text's first kind on a stand-in, by the clock.
func oneDevice(t *testing.T, text string, c device.Clock) (*site, *device.Device) {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	s, _ := standin.New(standin.Options{Anonymous: true})
	x := &site{t: t, s: s, log: trace.NewLog(10_000), at: 1}
	d := device.New(device.Options{
		Kind: w.Devices[0], Number: 1, Contract: w.Contract, Dial: s.Dial, Logs: []*trace.Log{x.log}, Clock: c,
	})
	x.ds = append(x.ds, d)
	d.Start()
	synctest.Wait()
	return x, d
}

const clockHead = `hodstone: 1
brokers: {quay: {stand-in: {}}}
contract:
  parties: {pen: , shore: }
  clauses:
    tick: {topic: v/tick, from: pen, payload: {format: text}}
    set: {topic: v/set, from: shore, to: pen, payload: {format: json}}
    lamp: {topic: v/lamp, from: pen, payload: {format: text}}
`

// TestADeviceLivesByTheClockItIsGiven: its timers, its signals, its answers and what it says of
// the time.
func TestADeviceLivesByTheClockItIsGiven(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x, d := oneDevice(t, clockHead+`devices:
  pen:
    plays: pen
    signals: {made: {wave: counter, every: 30s}}
    publishes: [{clause: tick, every: 10s, payload: "= now() + ' ' + string(int(made))"}, {clause: lamp, payload: lit}]
    reactions: [{when: set, after: 6s, publish: lamp}]
`, &fast{begun: time.Now()})
		defer x.close()
		time.Sleep(2*time.Second - time.Millisecond) // two minutes of its own
		said := strings.Fields(x.said())
		if n := len(said) / 2; n != 12 || !strings.HasPrefix(said[0], "tick=1970-01-01T00:00:0") ||
			!strings.HasPrefix(said[22], "tick=1970-01-01T00:01:5") || said[23] != "3" {
			t.Errorf("said in two minutes: %q", said)
		}
		d.Stop()
		d.Start()
		x.said()
		x.command("v/set", `{}`)
		time.Sleep(99 * time.Millisecond)
		if got := x.said(); strings.Contains(got, "lamp") {
			t.Errorf("within 5.94 s: %q", got)
		}
		time.Sleep(2 * time.Millisecond)
		if got := x.said(); !strings.Contains(got, "lamp=lit") {
			t.Errorf("within 6.06 s: %q", got)
		}
		if st := d.State(); st.Since.Year() != 1970 {
			t.Errorf("on since %s", st.Since)
		}
	})
}

// TestADeviceAtRestCostsNoWakeUps: without waves and timers it waits for messages alone; a signal
// that is set is looked at soon, once.
func TestADeviceAtRestCostsNoWakeUps(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := &fast{begun: time.Now()}
		x, d := oneDevice(t, clockHead+`devices:
  pen:
    plays: pen
    signals: {lit: {start: false}}
    publishes: [{clause: lamp, when-changed: {signal: lit}, payload: "= lit ? 'on' : 'off'"}]
    reactions: [{when: set, set: {lit: "= payload.lit"}}]
`, c)
		defer x.close()
		before := c.waits.Load()
		time.Sleep(time.Hour)
		if n := c.waits.Load() - before; n != 0 {
			t.Errorf("%d waits in an hour at rest", n)
		}
		x.command("v/set", `{"lit": true}`)
		time.Sleep(time.Second)
		x.expect("once a message has set the signal", "lamp=on")
		if err := d.Set("lit", false); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Second)
		x.expect("once it is set by hand", "lamp=off")
		if n := c.waits.Load() - before; n == 0 || n > 6 {
			t.Errorf("%d waits for two changes", n)
		}
	})
}
