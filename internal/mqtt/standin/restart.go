package standin

import (
	"context"
	"time"

	"hodstone/internal/mqtt/packet"
)

// Restart lets the stand-in go down for a time, and come back: connections end, by DISCONNECT 0x8B before in version 5,
// or, where it is killed, at once; who comes meanwhile finds nobody. Kept sessions and stored messages survive, as at a
// broker that writes them down, unless a fault is against it. It returns when the stand-in is back, or the context has
// ended; then it comes back too.
func (s *Server) Restart(ctx context.Context, down time.Duration, killed bool) {
	s.mu.Lock()
	s.down++
	there := map[*session]bool{}
	for _, ses := range s.sessions {
		there[ses] = ses.conn != nil
	}
	for c := range s.conns {
		if killed {
			c.dropLocked()
		} else {
			c.disconnectLocked(packet.ServerShuttingDown)
		}
	}
	s.mu.Unlock()
	select {
	case <-time.After(down):
	case <-ctx.Done():
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns { // who did not take its leave
		c.dropLocked()
	}
	s.tick()
	s.decide(func(d *Decisions) {
		if d.Loses != nil {
			s.lose(d.Loses(killed), there)
		}
	})
	s.down--
}

// lose loses what a fault says that a restart loses; there are the sessions whose clients were connected.
func (s *Server) lose(l Losses, there map[*session]bool) {
	if l.Stored {
		var all []string
		s.retained.Matching("#", func(name string, _ *message) { all = append(all, name) })
		for _, name := range all {
			s.forget(name)
		}
	}
	for _, ses := range s.sessions {
		if l.Waiting && !there[ses] || l.Flights && there[ses] {
			ses.waiting, ses.behind, ses.inFlight, ses.byID = nil, nil, nil, map[uint16]*flight{}
		}
		if l.Sessions {
			s.end(ses)
		}
	}
}
