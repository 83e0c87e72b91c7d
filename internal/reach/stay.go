package reach

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
)

// Limits of what a monitor remembers.
const (
	maxSamples = 1_800 // an hour at one ping in two seconds
	maxGaps    = 200
)

// shareWithin is how soon after another client's CONNECT the first one is thrown out, where
// two share a client identifier.
const shareWithin = 2 * time.Second

// Sample is one ping: its round trip, or that it was lost.
type Sample struct {
	At   time.Time
	RTT  time.Duration
	Lost bool
}

// Gap is a time in which a broker's observer was not in.
type Gap struct {
	From, To time.Time // To is zero while it lasts
	Blame    client.Blame
	// Evidence is how the end was seen: FIN, RST, a time-out, a DISCONNECT with its code.
	Evidence string
	// Purpose says that it was ended on purpose, and how; "" for not.
	Purpose string
	// Began is when it was ended on purpose; the time from there to From is the detection.
	Began time.Time
	Tries int // attempts to come back, the last one included
	Why   string
}

// Detection is how long it took until the end of the link was noticed, where it was made on
// purpose.
func (g Gap) Detection() time.Duration {
	if g.Began.IsZero() {
		return 0
	}
	return max(0, g.From.Sub(g.Began))
}

// Length is how long the gap was, up to now where it lasts.
func (g Gap) Length(now time.Time) time.Duration {
	if g.To.IsZero() {
		return now.Sub(g.From)
	}
	return g.To.Sub(g.From)
}

// Stay is how an observer stays in at one broker.
type Stay struct {
	Broker  string
	In      bool
	Since   time.Time // it is in, or out
	Left    bool      // it went for good, and is not missed
	Samples []Sample
	Lost    int
	// Unanswered is when the oldest PINGREQ without an answer was sent; zero for none.
	Unanswered time.Time
	Gaps       []Gap // oldest first
	Entries    int   // times it got in
	// Reconnects counts how often the broker's other clients came back, by name.
	Reconnects map[string]int
	Findings   []Finding
}

// Monitor follows a trace and finds out how clients stay in. It is not safe for concurrent
// use.
type Monitor struct {
	stays   map[string]*Stay
	clients map[string]*presence   // by broker and client
	pings   map[string][]time.Time // PINGREQs of observers under way, by broker
	held    map[string]int         // those of them that their links hold back
	order   []string
}

// presence is a client of the trace.
type presence struct {
	name, id string
	in       bool
	sent     time.Time // its last CONNECT
	ever     bool
}

// NewMonitor returns a monitor that has seen nothing.
func NewMonitor() *Monitor {
	return &Monitor{
		stays:   map[string]*Stay{},
		clients: map[string]*presence{},
		pings:   map[string][]time.Time{},
		held:    map[string]int{},
	}
}

// Stays returns how the observers stay in, by broker in the order of their first event, as
// copies.
func (m *Monitor) Stays() (out []Stay) {
	for _, b := range m.order {
		s := *m.stays[b]
		s.Samples, s.Gaps, s.Findings = slices.Clone(s.Samples), slices.Clone(s.Gaps), slices.Clone(s.Findings)
		back := map[string]int{}
		for k, v := range s.Reconnects {
			back[k] = v
		}
		s.Reconnects = back
		s.Unanswered = m.unanswered(b)
		out = append(out, s)
	}
	return out
}

// Overdue is how long a ping may be without an answer before that is told: longer than sound
// links take, shorter than any keep alive.
const Overdue = 3 * time.Second

// Silent returns how long a ping has been without an answer, 0 where that is not overdue.
func (s *Stay) Silent(now time.Time) time.Duration {
	if waits := now.Sub(s.Unanswered); s.In && !s.Unanswered.IsZero() && waits > Overdue {
		return waits
	}
	return 0
}

// Pings returns the latest round trip of each broker's observer, and how long it has been
// silent.
func (m *Monitor) Pings(now time.Time) (latest, silent map[string]time.Duration) {
	latest, silent = map[string]time.Duration{}, map[string]time.Duration{}
	for name, s := range m.stays {
		if n := len(s.Samples); n > 0 && s.In {
			latest[name] = s.Samples[n-1].RTT
		}
		state := Stay{In: s.In, Unanswered: m.unanswered(name)}
		silent[name] = state.Silent(now)
	}
	return latest, silent
}

// unanswered is when the oldest PINGREQ without an answer was sent.
func (m *Monitor) unanswered(broker string) (at time.Time) {
	if waiting := m.pings[broker]; len(waiting) > 0 {
		at = waiting[0]
	}
	return at
}

func (m *Monitor) stay(broker string) *Stay {
	s := m.stays[broker]
	if s == nil {
		s = &Stay{Broker: broker, Reconnects: map[string]int{}}
		m.stays[broker] = s
		m.order = append(m.order, broker)
	}
	return s
}

// Purpose notes that the observer's link is ended on purpose now, and tells whether the observer is
// in at all: a link that the broker has not let in yet is none to be measured.
func (m *Monitor) Purpose(broker, how string, at time.Time) bool {
	s := m.stay(broker)
	if !s.In {
		return false
	}
	if n := len(s.Gaps); n > 0 &&
		s.Gaps[n-1].From.IsZero() { // another way to end the same link, before the first was noticed
		s.Gaps[n-1].Purpose += ", then " + how
		return true
	}
	s.Gaps = append(s.Gaps, Gap{Purpose: how, Began: at})
	return true
}

// Withdraw takes back what Purpose noted, where it did not come to it.
func (m *Monitor) Withdraw(broker string) {
	s := m.stay(broker)
	if n := len(s.Gaps); n > 0 && s.Gaps[n-1].From.IsZero() {
		s.Gaps = s.Gaps[:n-1]
	}
}

// Leave notes that the observer goes for good: what follows is no gap.
func (m *Monitor) Leave(broker string) {
	m.Withdraw(broker)
	m.stay(broker).Left = true
}

// Bin is a span of a stay's time.
type Bin struct {
	Pings int           // that were answered
	RTT   time.Duration // the longest of theirs
	// Lost tells that a ping in it was lost, Out that the observer was out in it, if only for
	// a moment.
	Lost, Out bool
}

// Bins sums up the pings and gaps between two times in n equal spans.
func (s *Stay) Bins(from, to time.Time, n int) []Bin {
	out := make([]Bin, n)
	span := to.Sub(from)
	if n == 0 || span <= 0 {
		return out
	}
	at := func(t time.Time) int { return int(float64(t.Sub(from)) / float64(span) * float64(n)) }
	for _, x := range s.Samples {
		i := min(at(x.At), n-1)
		if x.At.Before(from) || i < 0 || x.At.After(to) {
			continue
		}
		if x.Lost {
			out[i].Lost = true
			continue
		}
		out[i].Pings++
		out[i].RTT = max(out[i].RTT, x.RTT)
	}
	for _, g := range s.Gaps {
		end := g.To
		if end.IsZero() {
			end = to
		}
		if g.From.IsZero() || end.Before(from) || g.From.After(to) {
			continue
		}
		for i := max(0, at(g.From)); i <= min(at(end), n-1); i++ {
			out[i].Out = true
		}
	}
	return out
}

// Add takes in an event.
func (m *Monitor) Add(e *trace.Event) {
	if e.Role == trace.RoleCheck || e.Role == trace.RoleProbe || e.Role == trace.RoleLog || e.Kind == trace.Gap {
		return
	}
	switch e.Packet.(type) { // most of a trace says nothing here
	case *packet.Connect, *packet.Connack, *packet.Pingreq, *packet.Pingresp:
	default:
		if e.Kind != trace.Link {
			return
		}
	}
	s := m.stay(e.Broker)
	key := e.Broker + "\x00" + e.Client
	c := m.clients[key]
	if c == nil {
		c = &presence{name: e.Client}
		m.clients[key] = c
	}
	observer := e.Role == trace.RoleObserver
	switch p := e.Packet.(type) {
	case *packet.Connect:
		if e.Kind == trace.Sent {
			c.id, c.sent = p.ClientID, e.At
			if observer && !s.In {
				s.Left = false // it comes again
			}
		}
	case *packet.Connack:
		if e.Kind == trace.Received && p.Code == 0 {
			if c.ever && !observer {
				s.Reconnects[c.name]++
			}
			c.in, c.ever = true, true
			if observer {
				s.entered(e.At)
			}
		} else if observer {
			s.refusedAgain(e.Describe())
		}
	case *packet.Pingreq:
		switch {
		case !observer:
		case e.Kind == trace.Held: // a frozen or slow link: it waits from now on
			m.pings[e.Broker] = append(m.pings[e.Broker], e.At)
			m.held[e.Broker]++
		case e.Kind == trace.Sent && m.held[e.Broker] > 0:
			m.held[e.Broker]--
		case e.Kind == trace.Sent:
			m.pings[e.Broker] = append(m.pings[e.Broker], e.At)
		}
	case *packet.Pingresp:
		if waiting := m.pings[e.Broker]; observer && len(waiting) > 0 {
			m.pings[e.Broker] = waiting[1:]
			s.sample(Sample{At: waiting[0], RTT: e.At.Sub(waiting[0])})
		}
	}
	if e.Kind != trace.Link {
		return
	}
	switch e.Link {
	case client.LinkFailed:
		if observer {
			s.refusedAgain(e.Text)
		}
	case client.LinkEnded:
		if observer {
			for _, at := range m.pings[e.Broker] {
				s.sample(Sample{At: at, Lost: true})
				s.Lost++
			}
			delete(m.pings, e.Broker)
			delete(m.held, e.Broker)
		}
		if c.in {
			m.shared(s, c, e)
			if observer {
				s.left(e)
			}
		}
		c.in = false
	}
}

func (s *Stay) sample(x Sample) {
	s.Samples = append(s.Samples, x)
	if len(s.Samples) > maxSamples {
		s.Samples = slices.Delete(s.Samples, 0, len(s.Samples)-maxSamples)
	}
}

// open returns the gap that lasts, or nil.
func (s *Stay) open() *Gap {
	if n := len(s.Gaps); n > 0 && !s.Gaps[n-1].From.IsZero() && s.Gaps[n-1].To.IsZero() {
		return &s.Gaps[n-1]
	}
	return nil
}

func (s *Stay) entered(at time.Time) {
	if g := s.open(); g != nil {
		g.To = at
		g.Tries++
	}
	s.In, s.Since = true, at
	s.Entries++
}

func (s *Stay) refusedAgain(why string) {
	if g := s.open(); g != nil {
		g.Tries++
		g.Why = why
	}
}

func (s *Stay) left(e *trace.Event) {
	if s.In, s.Since = false, e.At; s.Left {
		return
	}
	g := Gap{}
	if n := len(s.Gaps); n > 0 && s.Gaps[n-1].From.IsZero() { // it was meant
		g = s.Gaps[n-1]
		s.Gaps = s.Gaps[:n-1]
	}
	g.From, g.Blame, g.Evidence = e.At, e.By, e.Text
	s.Gaps = append(s.Gaps, g)
	if len(s.Gaps) > maxGaps {
		s.Gaps = slices.Delete(s.Gaps, 0, len(s.Gaps)-maxGaps)
	}
}

// shared looks whether a client that was thrown out had to give way to another with the same
// client identifier (3.1.1 §3.1.4, 5.0 §3.1.4).
func (m *Monitor) shared(s *Stay, c *presence, e *trace.Event) {
	if c.id == "" {
		return
	}
	for key, other := range m.clients {
		if other == c || other.id != c.id || !strings.HasPrefix(key, e.Broker+"\x00") {
			continue
		}
		if since := e.At.Sub(other.sent); since < 0 || since > shareWithin {
			continue
		}
		a, b := c.name, other.name
		if b < a {
			a, b = b, a
		}
		f := Finding{
			Severity: trust.Broken,
			What:     fmt.Sprintf("%s and %s share the client identifier %q, and throw each other out", a, b, c.id),
			Remedy:   "give each client an identifier of its own",
		}
		if !slices.ContainsFunc(s.Findings, func(x Finding) bool { return x.What == f.What }) {
			s.Findings = append(s.Findings, f)
		}
	}
}
