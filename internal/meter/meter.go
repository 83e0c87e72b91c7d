// Package meter counts events and tells how many there were a second.
package meter

import "time"

// Window is over how many seconds a rate is told.
const Window = 3

// Meter counts events, and those of the last seconds by second. The zero value has
// counted nothing. It is not safe for concurrent use.
type Meter struct {
	// Total is how many there were in all.
	Total  int
	second int64
	slots  [Window + 1]uint32
}

// Add counts an event.
func (m *Meter) Add(at time.Time) { m.AddSecond(at.Unix()) }

// AddSecond counts an event at a second since 1970, for whoever has it at hand.
func (m *Meter) AddSecond(second int64) {
	m.turn(second)
	m.Total++
	m.slots[second%int64(len(m.slots))]++
}

// turn clears the slots of the seconds since the last event.
func (m *Meter) turn(second int64) {
	for m.second < second {
		m.second = max(m.second+1, second-Window)
		m.slots[m.second%int64(len(m.slots))] = 0
	}
}

// Rate tells how many events there were a second, over the last [Window] that are complete.
func (m *Meter) Rate(now time.Time) float64 {
	second := now.Unix()
	m.turn(second)
	n := uint32(0)
	for i, s := range m.slots {
		if int64(i) != second%int64(len(m.slots)) {
			n += s
		}
	}
	return float64(n) / Window
}
