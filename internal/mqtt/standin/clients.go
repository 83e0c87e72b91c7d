package standin

import (
	"sort"
	"time"

	"hodstone/internal/mqtt/packet"
)

// ClientInfo is what the stand-in knows of one session.
type ClientInfo struct {
	ID        string
	Address   string // empty while it is away
	Listener  string // the URL of the listener it came by; empty within memory
	Version   packet.Version
	Username  string
	Login     string // the login that its credentials stand for; "" for anonymous
	Connected bool
	Since     time.Time     // it came, or left
	KeepAlive time.Duration // 0 for none
	Expiry    time.Duration // of the session after the client is gone; [Never] for no end
	HasWill   bool
	Filters   []string
	InFlight  int // unacknowledged towards the client
	Waiting   int // messages that wait for it
	Dropped   int // messages that were lost because too many waited
	// Published and Delivered count PUBLISH packets of the session; the rates are those
	// of the last three seconds, per second.
	Published, Delivered         int
	PublishedRate, DeliveredRate float64
}

// Clients lists the sessions by client id.
func (s *Server) Clients() []ClientInfo {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	var out []ClientInfo
	for _, ses := range s.sessions {
		i := ClientInfo{
			ID:            ses.id,
			Version:       ses.version,
			Username:      ses.username,
			Login:         ses.login,
			Since:         ses.since,
			Expiry:        ses.expiry,
			HasWill:       ses.will != nil,
			InFlight:      len(ses.inFlight),
			Waiting:       len(ses.waiting),
			Dropped:       ses.dropped,
			Published:     ses.published.Total,
			Delivered:     ses.delivered.Total,
			PublishedRate: ses.published.Rate(now),
			DeliveredRate: ses.delivered.Rate(now),
		}
		if c := ses.conn; c != nil {
			i.Connected, i.Address, i.Listener, i.KeepAlive = true, c.link.RemoteAddr().
				String(),
				c.listener, c.keepAlive*2/3
		}
		for f := range ses.subs {
			i.Filters = append(i.Filters, f)
		}
		sort.Strings(i.Filters)
		out = append(out, i)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// ThrowOut ends the client's connection from the broker's side (version 5:
// with DISCONNECT 0x98), and tells whether there was one.
func (s *Server) ThrowOut(clientID string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	ses := s.sessions[clientID]
	if ses == nil || ses.conn == nil {
		return false
	}
	ses.conn.disconnectLocked(packet.AdministrativeAction)
	return true
}

// Refuse lets the stand-in refuse every client that comes (server unavailable), or ends that; sessions and
// connections stay.
func (s *Server) Refuse(all bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuseAll = all
}
