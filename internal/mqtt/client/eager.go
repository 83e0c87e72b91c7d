package client

import (
	"io"
	"time"
)

// The figures of [patient].
const (
	// busyWithin is how soon one read follows another in a stream of messages; at less
	// than ten thousand a second nothing changes.
	busyWithin = 100 * time.Microsecond
	// busyReads is how many such reads in a row make a stream.
	busyReads = 64
	// patience is how long a stream is left to gather: so much later, at most a
	// millisecond by the system's clock, its messages are seen.
	patience = 50 * time.Microsecond
)

// patient reads from a link so that a dense stream of small messages costs a read for
// many, not two for each. A session that is less busy is read at once.
type patient struct {
	r    io.Reader
	last time.Time
	row  int
}

func (p *patient) Read(b []byte) (int, error) {
	if p.row >= busyReads {
		time.Sleep(patience)
	}
	n, err := p.r.Read(b)
	now := time.Now()
	if wait := now.Sub(p.last); wait < busyWithin || p.row >= busyReads && wait < 10*busyWithin {
		p.row++
	} else {
		p.row = 0
	}
	p.last = now
	return n, err
}
