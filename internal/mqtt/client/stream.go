package client

import "time"

// The figures of a stream of messages.
const (
	// span is how long what comes is counted until it is told whether that is a stream, and streamed the packets that
	// make one, in such a span.
	span     = 8 * time.Millisecond
	streamed = 32
	// streamEnds is how long nothing must come for a stream's end: it may come in bursts.
	streamEnds = 50 * time.Millisecond
	// patience is how long a stream is left to gather, so that it costs a read for many messages, not two for each:
	// so much later, at most a millisecond by the system's clock, its messages are seen.
	patience = 250 * time.Microsecond
	// Where less than half as much comes as before, and less than plenty in a second, what comes may wait for what we
	// answer: it is let alone for so long, each time for longer, until one has lasted.
	plenty      = 32_000
	letAlone    = 100 * time.Millisecond
	letAloneMax = 3200 * time.Millisecond
	lasts       = time.Second
)

// stream tells whether what comes over a connection comes as a stream, by how much it is. Times are since the
// connection began.
type stream struct {
	on      bool
	since   time.Duration // it is one
	rate    float64       // packets a second, before it was one
	alone   time.Duration // how long it was let alone last
	until   time.Duration // it is
	began   time.Duration // a span
	packets uint32        // that had come by then
}

// count counts what has come by now, with the pause before the last of it, and tells whether it is a stream.
func (s *stream) count(now, pause time.Duration, packets uint32) bool {
	if pause > streamEnds {
		s.on, s.began, s.packets = false, now, packets
		return false
	}
	took := now - s.began
	if took < span {
		return s.on
	}
	if pause > span { // it came in a burst: as if that had filled the span
		took = span
	}
	n := packets - s.packets
	rate := float64(n) / took.Seconds()
	s.began, s.packets = now, packets
	switch {
	case s.on && rate < min(s.rate/2, plenty):
		if now-s.since > lasts {
			s.alone = 0
		}
		s.alone = min(max(letAlone, 2*s.alone), letAloneMax)
		s.on, s.until = false, now+s.alone
	case !s.on && now >= s.until && rate >= streamed/span.Seconds():
		s.on, s.since, s.rate = true, now, rate
	}
	return s.on
}
