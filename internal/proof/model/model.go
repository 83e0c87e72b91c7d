package model

import (
	"maps"
	"math"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Message is one that was published, known by its payload.
type Message struct {
	packet.Publish
	// Number orders messages by when they were published, from 1.
	Number int
	// By is the client identifier of the publisher.
	By string
	// Will tells that it is a will; Void that its client has said DISCONNECT since, so that it is none.
	Will, Void bool
	// Sure is false where it is not known whether the broker has taken it.
	Sure bool
}

// Clears tells whether the message clears what is stored.
func (m *Message) Clears() bool { return m.Retain && len(m.Payload) == 0 }

// Sub is a subscription that is held.
type Sub struct {
	packet.Subscription
	Granted packet.QoS
}

// shared tells of a share, and returns the plain filter.
func (s *Sub) shared() (filter string, is bool) {
	_, filter, is = topic.CutShare(s.Filter)
	return filter, is
}

// Session is one client identifier's.
type Session struct {
	ID   string
	Subs map[string]*Sub
	// Kept tells that it outlives its connection.
	Kept      bool
	Connected bool
	// Holding tells that its client withholds acknowledgements: the broker may hold messages back.
	Holding bool
	// Window is the receive maximum; 0 for none.
	Window int
	Will   *Message

	debts   []*debt
	doubt   bool // nobody knows whether it is kept: its client broke a rule
	open    map[uint16]*flight
	flights int
	ended   []*debt // of sessions of this client before
	// vague are topics of which it was not known what is stored when a subscription was greeted: that may still come.
	vague map[string]bool
}

// debt is what a session may and must get of one message, for one cause.
type debt struct {
	m           *Message
	least, most int
	qos         []packet.QoS
	flags       []bool // that it may have
	stored      bool   // it greets a subscription
	rule        *Rule  // that is broken where it does not come
	group       *group // of a share; nil for none
	single      bool   // one subscription matches, so that order holds
	dup         bool   // it may have been sent before, to a link that was gone already
	got         int
}

// due tells that the debt has to be paid, and is not.
func (d *debt) due() bool {
	if d.group != nil {
		return d.group.got < d.group.least
	}
	return d.got < d.least
}

// group is what all members of a share get of a message together.
type group struct{ least, most, got int }

// flight is a message that was sent to us and is not acknowledged.
type flight struct {
	debt   *debt
	resend bool // the session was resumed since: it has to come again
	taken  bool // at QoS 2: PUBREC went out, and PUBREL is due
	number int  // the order in which they came
	unsure bool // it may be forgotten
	here   bool // it came on the connection that stands: the receive maximum counts those (5.0 §4.9)
	// released tells that PUBREL came on this connection.
	released bool
	payload  []byte
}

// State is the broker as the standard has it.
type State struct {
	Version  packet.Version
	Sessions map[string]*Session
	Retained map[string]*Message
	// Unsure are topics of which it is not known what is stored.
	Unsure map[string]bool
	// Queue is how many messages it keeps for a client that does not take them; 0 for any number.
	Queue int
	// by is the one message that a topic is unsure for; nil for several.
	by map[string]*Message

	number int
	known  map[string]*Message // whatever was published, and wills, by payload
	last   map[string]int      // the number of the last message of a publisher, topic and QoS that a session got
}

// New returns a broker that knows nobody.
func New(v packet.Version) *State {
	return &State{
		Version:  v,
		Sessions: map[string]*Session{},
		Retained: map[string]*Message{},
		Unsure:   map[string]bool{},
		by:       map[string]*Message{},
		known:    map[string]*Message{},
		last:     map[string]int{},
	}
}

// Session returns a client's session, which is made where there is none.
func (s *State) Session(id string) *Session {
	x := s.Sessions[id]
	if x == nil {
		x = &Session{ID: id, Subs: map[string]*Sub{}, open: map[uint16]*flight{}}
		s.Sessions[id] = x
	}
	return x
}

// Connected takes in that a client was let in (3.1.1 §3.1.2.4, 5.0 §3.1.2.4, §3.1.2.11.2): clean ends the session
// before, kept lets this one outlive its connection.
func (s *State) Connected(id string, clean, kept, present bool, will *Message, window int) *Violation {
	x := s.Session(id)
	was := x.Kept
	switch {
	case x.doubt && !clean && s.Version == packet.V31: // nothing tells
	case x.doubt && !clean:
		was, x.doubt = present, false
	default:
		x.doubt = false
	}
	if clean || !was {
		s.end(x)
	}
	if will != nil {
		s.known[string(will.Payload)] = will
	}
	x.Connected, x.Kept, x.Will, x.Window, x.Holding = true, kept, will, window, false
	for _, f := range x.open {
		f.resend, f.released, f.here = true, false, false
	}
	if s.Version == packet.V31 { // it has no such flag
		return nil
	}
	if want := was && !clean; present != want {
		return broken(&Present, "%s is told session present %v, and it is %v", id, bit(present), bit(want))
	}
	return nil
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// exists tells whether a session is there whose client may return to it.
func (x *Session) exists() bool { return x.Connected || x.Kept }

// end ends a session: its subscriptions and what it has not got are gone.
func (s *State) end(x *Session) {
	x.ended = append(x.ended, x.debts...)
	x.debts, x.open, x.Subs = nil, map[uint16]*flight{}, map[string]*Sub{}
	for k := range s.last {
		if strings.HasPrefix(k, x.ID+" ") {
			delete(s.last, k)
		}
	}
}

// Gone takes in that a client's connection is over, and its session with it where that is not kept.
func (s *State) Gone(id string) {
	x := s.Session(id)
	for _, d := range x.debts { // it may have been sent to the link that is gone now
		d.dup = true
	}
	x.Connected, x.Holding = false, false
	if !x.Kept {
		s.end(x)
	}
}

// Subscribed takes in what SUBACK grants; a code of 0x80 and more refuses, and is no breach.
func (s *State) Subscribed(id string, subs []packet.Subscription, codes []packet.ReasonCode) *Violation {
	x := s.Session(id)
	if len(codes) != len(subs) {
		return broken(&Answered, "SUBACK has %d codes for %d filters", len(codes), len(subs))
	}
	for i, sub := range subs {
		if codes[i] >= 0x80 {
			continue
		}
		if packet.QoS(codes[i]) > sub.QoS {
			return broken(
				&Answered,
				"SUBACK grants QoS %d to %s, where %d was asked for",
				codes[i],
				sub.Filter,
				sub.QoS,
			)
		}
		_, existed := x.Subs[sub.Filter]
		held := &Sub{sub, packet.QoS(codes[i])}
		x.Subs[sub.Filter] = held
		s.greet(x, held, existed)
	}
	return nil
}

// greet owes a subscription what is stored (3.1.1 §3.3.1.3, §3.8.4; 5.0 §3.3.1.3, §3.8.3.1: retain handling).
func (s *State) greet(x *Session, sub *Sub, existed bool) {
	defer s.overflow(x)
	filter, share := sub.shared()
	if s.Version == packet.V5 && !share && (sub.RetainHandling == 2 || sub.RetainHandling == 1 && existed) {
		return
	}
	for name, unsure := range s.Unsure {
		if unsure && topic.Match(filter, name) {
			if x.vague == nil {
				x.vague = map[string]bool{}
			}
			x.vague[name] = true
		}
	}
	for name, m := range s.Retained {
		if !topic.Match(filter, name) {
			continue
		}
		d := &debt{
			m:      m,
			least:  1,
			most:   1,
			qos:    []packet.QoS{min(m.QoS, sub.Granted)},
			flags:  []bool{true},
			stored: true,
			rule:   &StoredGreets,
		}
		if share || m.QoS == 0 || !m.Sure || s.Unsure[name] || d.qos[0] == 0 {
			d.least = 0 // what is stored at QoS 0 may be discarded at any time, and a share is not greeted by every broker
		}
		x.debts = append(x.debts, d)
	}
}

// Unsubscribed takes in that a filter was taken back; what is under way may still come.
func (s *State) Unsubscribed(id, filter string) { delete(s.Session(id).Subs, filter) }

// Published takes in a message that a broker has taken, or, where it is not sure, may have taken.
func (s *State) Published(m *Message) {
	s.number++
	m.Number = s.number
	s.known[string(m.Payload)] = m
	s.store(m)
	groups := map[string]*group{}
	for _, id := range slices.Sorted(maps.Keys(s.Sessions)) {
		if x := s.Sessions[id]; x.exists() {
			s.owe(x, m, groups)
		}
	}
	for _, x := range s.Sessions { // a share owes its message where all of its members are there
		for _, d := range x.debts {
			if d.m == m && d.group != nil && (!x.Connected || x.Holding) {
				d.group.least = 0
			}
		}
	}
}

// store keeps or clears what is stored (3.1.1 §3.3.1.3).
func (s *State) store(m *Message) {
	switch {
	case !m.Retain:
	case !m.Sure: // the old one, the new one, or, where it clears, none
		if s.by[m.Topic] = m; s.Unsure[m.Topic] {
			s.by[m.Topic] = nil
		}
		s.Unsure[m.Topic] = true
		if len(m.Payload) > 0 {
			s.Retained[m.Topic] = m
		}
	case m.Clears():
		delete(s.Retained, m.Topic)
		delete(s.Unsure, m.Topic)
	default:
		s.Retained[m.Topic] = m
		delete(s.Unsure, m.Topic)
	}
}

// owe notes what a session may and must get of a message by the subscriptions that match (3.1.1 §3.3.5, 5.0 §3.3.4).
func (s *State) owe(x *Session, m *Message, groups map[string]*group) {
	defer s.overflow(x)
	var qos []packet.QoS
	var flags []bool
	n := 0
	for _, f := range slices.Sorted(maps.Keys(x.Subs)) {
		sub := x.Subs[f]
		filter, share := sub.shared()
		if !topic.Match(filter, m.Topic) || s.Version == packet.V5 && sub.NoLocal && m.By == x.ID {
			continue
		}
		q := min(m.QoS, sub.Granted)
		flag := s.Version == packet.V5 && sub.RetainAsPublished && m.Retain
		if share {
			g := groups[f]
			if g == nil {
				g = &group{least: 1, most: 1}
				groups[f] = g
			}
			if q == 0 || !m.Sure || x.doubt {
				g.least = 0
			}
			x.debts = append(
				x.debts,
				&debt{m: m, most: 1, qos: []packet.QoS{q}, flags: []bool{flag}, rule: &Shared, group: g, single: true,
					dup: !x.Connected || !m.Sure && m.By == x.ID},
			)
			continue
		}
		n++
		if !slices.Contains(qos, q) {
			qos = append(qos, q)
		}
		if !slices.Contains(flags, flag) {
			flags = append(flags, flag)
		}
	}
	if n == 0 {
		return
	}
	for _, d := range x.debts { // whether a copy is the share's or the session's own cannot be told
		if d.m == m && d.group != nil {
			d.group.least, d.group.most = 0, math.MaxInt
		}
	}
	d := &debt{
		m:      m,
		least:  1,
		most:   n,
		qos:    qos,
		flags:  flags,
		rule:   &Delivered,
		single: n == 1,
		dup:    !x.Connected || !m.Sure && m.By == x.ID,
	}
	switch {
	case m.Will:
		d.rule = &WillSent
	case !x.Connected:
		d.rule = &Waited
	}
	if slices.Max(qos) == 0 || !m.Sure || m.Will && m.By == x.ID || x.doubt {
		d.least = 0 // at QoS 0 at most once; and a will may be too early for its own client's session
	}
	x.debts = append(x.debts, d)
}

// overflow lets go of what need not come any more where more waits for a client than the broker keeps: it may drop any
// of it (4.1.1 in 3.1.1: its storage has limits).
func (s *State) overflow(x *Session) {
	var waiting []*debt
	n := len(x.open)
	for _, d := range x.debts {
		if d.got == 0 && slices.Max(d.qos) > 0 {
			waiting = append(waiting, d)
			n += d.most
		}
	}
	if s.Queue == 0 || n <= s.Queue {
		return
	}
	for _, d := range waiting {
		if d.least = 0; d.group != nil {
			d.group.least = 0
		}
	}
}

// Again takes in that a message that may have been taken is sent again, with DUP (§4.4). Where it was not taken the
// first time it is new now; where it was, it comes once more at QoS 1, and not at QoS 2.
func (s *State) Again(m *Message) {
	m.Sure = true
	before := map[string]*debt{}
	for id, x := range s.Sessions {
		for _, d := range x.debts {
			if d.m == m && !d.stored && d.group == nil {
				before[id] = d
			}
		}
	}
	groups := map[string]*group{}
	for _, id := range slices.Sorted(maps.Keys(s.Sessions)) {
		x := s.Sessions[id]
		if !x.exists() {
			continue
		}
		old, n := before[id], len(x.debts)
		s.owe(x, m, groups)
		defer s.overflow(x)
		for _, d := range x.debts[n:] {
			if d.single, d.dup = false, !x.Connected || m.By == x.ID; d.group != nil {
				d.group.least, d.group.most = 0, max(2, d.group.most)
				continue
			}
			if old == nil {
				d.least = 0
				continue
			}
			d.dup = d.dup || old.dup
			if slices.Max(old.qos) == 0 { // at QoS 0 it need not have waited, where it was taken the first time
				d.least = 0
			}
			d.got = old.got
			d.qos, d.flags = append(d.qos, old.qos...), append(d.flags, old.flags...)
			if d.most = max(d.most, old.most); m.QoS == 1 {
				d.most = 2 * d.most
			}
			x.debts = slices.DeleteFunc(x.debts, func(o *debt) bool { return o == old })
			for _, f := range x.open {
				if f.debt == old {
					f.debt = d
				}
			}
		}
	}
	last := s.Retained[m.Topic] == m || m.Clears() && s.Retained[m.Topic] == nil
	switch {
	case !m.Retain:
	case last && (!s.Unsure[m.Topic] || s.by[m.Topic] == m):
		delete(s.Unsure, m.Topic)
	default: // another was taken before it, or after it, and nobody knows which
		s.Unsure[m.Topic], s.by[m.Topic] = true, nil
	}
}
