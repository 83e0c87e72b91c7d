package standin

import (
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
)

// Pace makes a stand-in slow, as a small broker is.
type Pace struct {
	// Rate is how many messages it takes a second in all; 0 for any number.
	Rate float64
	// Backlog is how many messages may wait for their turn, where it has a rate: one more at QoS 0 is lost, one at QoS 1
	// or 2 holds up its connection. 0 for any number.
	Backlog int
	// It stands still for Pause in the middle of each Every; 0 for never.
	Pause, Every time.Duration
}

// Counts are how many messages a stand-in took from clients, and how many of them were lost for want of room ([Pace]).
type Counts struct{ Taken, Lost int }

// pacer keeps the pace.
type pacer struct {
	mu     sync.Mutex // guards what follows
	began  time.Time
	next   time.Time // when the next message may be taken
	counts Counts
}

// Counts returns how many messages it took from clients.
func (s *Server) Counts() Counts {
	s.pacer.mu.Lock()
	defer s.pacer.mu.Unlock()
	return s.pacer.counts
}

// paced waits until a packet may be acted upon; false where it is lost.
func (s *Server) paced(p packet.Packet) bool {
	m, is := p.(*packet.Publish)
	if !is {
		return true
	}
	o := &s.opt.Pace
	s.pacer.mu.Lock()
	s.pacer.counts.Taken++
	if *o == (Pace{}) {
		s.pacer.mu.Unlock()
		return true
	}
	now := time.Now()
	if s.pacer.began.IsZero() {
		s.pacer.began, s.pacer.next = now, now
	}
	due := now
	if o.Rate > 0 {
		const lenient = 50 * time.Millisecond // what a timer took too long is made up for
		if s.pacer.next.Before(now.Add(-lenient)) {
			s.pacer.next = now.Add(-lenient)
		}
		due = s.pacer.next
		if ahead := due.Sub(now).Seconds() * o.Rate; o.Backlog > 0 && m.QoS == 0 && int(ahead) >= o.Backlog {
			s.pacer.counts.Lost++
			s.pacer.mu.Unlock()
			return false
		}
		s.pacer.next = due.Add(time.Duration(float64(time.Second) / o.Rate))
	}
	if o.Every > 0 {
		if at := due.Sub(s.pacer.began) % o.Every; at >= o.Every/2 && at < o.Every/2+o.Pause {
			due = due.Add(o.Every/2 + o.Pause - at)
		}
	}
	s.pacer.mu.Unlock()
	wait := time.Until(due)
	if wait <= 0 {
		return true
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-s.ctx.Done():
	}
	return true
}
