package workspace

import (
	"slices"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/tap"
)

// Tap stands between real devices and their broker.
type Tap struct {
	Name             string
	Listen           []string
	Broker, Listener string // "" for the first
	// Device is whose name what comes through has, whatever its client identifier; "" for that.
	Device string
	Rules  []tap.Rule
}

var tapShape = shape[Tap]{
	"tap",
	"What stands between real devices and their broker: a device dials it in place of the broker, and all that goes over is recorded and judged.",
	[]key[Tap]{
		own(
			"listen",
			"list of string",
			"Where devices dial: mqtt://0.0.0.0:1884, mqtts://, ws:// or wss://; for TLS it shows a certificate of the workspace's own CA.",
			func(_ *loader, t *Tap, v node) {
				for _, x := range v.list() {
					url := x.str("listen")
					if _, err := link.Parse(url); err != nil {
						x.fail("", "%v", err)
						continue
					}
					t.Listen = append(t.Listen, url)
				}
			},
		).must(),
		own(
			"to",
			"string",
			"BROKER or BROKER/LISTENER that it dials; the first of each by default.",
			func(l *loader, t *Tap, v node) {
				d := &Device{Broker: t.Broker}
				l.deviceBroker(d, v)
				t.Broker, t.Listener = d.Broker, d.Listener
			},
		),
		own(
			"device",
			"string",
			"The device, such as pen-2, that everything is which comes through; by its client identifier without it.",
			func(l *loader, t *Tap, v node) {
				var all []string
				for _, d := range l.w.Devices {
					for n := range max(1, d.Count) {
						all = append(all, DeviceName(d, n+1))
					}
				}
				if v.exists() {
					t.Device, _ = v.known("device", all)
				}
			},
		),
		all(
			"rules",
			"any",
			"What disturbs it: {drop: PUBACK, toward: device, nth: 3}; see 'hodstone tap --help'.",
			func(_ *loader, t *Tap, v node) {
				if r, ok := tapRule(v); ok {
					t.Rules = append(t.Rules, r)
				}
			},
		),
	},
}

// tapRule reads a rule of a tap.
func tapRule(v node) (r tap.Rule, ok bool) {
	given, is := v.plain().(map[string]any)
	if !is {
		v.fail("write {drop: PUBACK, toward: device, nth: 3}", "that is no rule")
		return r, false
	}
	r, err := tap.RuleOf(given)
	if err != nil {
		v.fail("", "%v", err)
	}
	return r, err == nil
}

func (l *loader) tap(e entry) {
	t := &Tap{Name: e.key}
	if len(l.w.Brokers) > 0 {
		t.Broker = l.w.Brokers[0].Name
	}
	told := len(e.at.r.problems)
	tapShape.read(l, e.value, "tap "+e.key, t)
	if len(t.Listen) > 0 && len(e.at.r.problems) == told {
		l.w.Taps = append(l.w.Taps, t)
	}
}

// real reads which of a kind of device are real: true, or their numbers.
func (l *loader) real(d *Device, v node) {
	if !v.exists() {
		return
	}
	if is, one := v.plain().(bool); one {
		d.AllReal = is
		return
	}
	for _, x := range v.list() {
		if n, ok := x.integer("real", 1, max(1, d.Count)); ok {
			d.Real = append(d.Real, n)
		}
	}
}

// IsReal tells whether the device with the number is not played: the real one is there.
func (d *Device) IsReal(number int) bool {
	return d.AllReal || slices.Contains(d.Real, number)
}
