package rule

import (
	"fmt"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// Terms holds sessions to the terms of their party.
var Terms = &contract.Rule{
	Name:     contract.RuleTerms,
	Sessions: true,
	Doc:      "A session is as the terms of its party say: client identifier, version, keep alive, clean start, TLS and login as CONNECT shows them; packets, topics, QoS and messages under way within what it can take, whoever is to blame; nothing goes out after DISCONNECT (3.1.1 §3.14.4, 5.0 §3.14.4); its first value, the news of its loss, and its return come in time. Only who is seen by their own packets is judged: our devices, and clients of a stand-in. Whether a certificate was shown is not seen.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		t := terms{c: c, clients: map[string]*termsOf{}}
		return t.look
	},
}

// maxClients is how many clients a rule follows; further ones are not judged.
const maxClients = 50_000

// terms are the sessions that are held to terms.
type terms struct {
	c       *contract.Contract
	clients map[string]*termsOf
	losses  []*loss
}

// termsOf is a client's session.
type termsOf struct {
	tries   haste
	flying  map[uint16]bool
	crowded bool // told of this connection
	goodbye bool
	gone    bool // it has said DISCONNECT
	first   *contract.Deadline
	back    *contract.Deadline
	lost    *loss
}

// loss is a link that died, and what is to tell of it.
type loss struct {
	due      *contract.Deadline
	presence *contract.Clause
	values   map[string]string
}

func (t *terms) look(p *contract.Pass) {
	if p.Fact == contract.FactMessage {
		t.announced(p)
	}
	if p.Fact != contract.FactSession {
		return
	}
	s := p.Session
	party := t.c.Party(s.Party)
	if party == nil || party.Terms == nil {
		return
	}
	x := t.clients[s.Client]
	if x == nil {
		if len(t.clients) >= maxClients {
			return
		}
		x = &termsOf{flying: map[uint16]bool{}}
		t.clients[s.Client] = x
	}
	if s.Packet != nil {
		x.back.Met() // also where another connection of its took the one that ended over
	}
	switch s.Step {
	case contract.StepSent:
		t.sent(p, x, party.Terms)
	case contract.StepGot:
		t.got(p, x, party.Terms)
	case contract.StepCut:
		t.dies(p, x, party.Terms)
		x.first.Met() // nothing can come through
	case contract.StepMended:
		x.lost.met()
	case contract.StepEnded:
		x.first.Met()
		clear(x.flying)
		if x.goodbye {
			x.lost.met()
			return
		}
		if !s.ByBroker { // else it died some time before, and nobody saw when
			t.dies(p, x, party.Terms)
		}
		if d := party.Terms.BackWithin; d > 0 {
			x.back = p.DueOf(s.At.Add(d), func(time.Time) contract.Breach {
				return contract.Breach{Keyword: "back-within", Expected: "back within " + d.String(), Seen: "it is not"}
			})
		}
	}
}

// breach tells of a term.
func breach(p *contract.Pass, term, expected, seen string, args ...any) {
	p.Breach(contract.Breach{Keyword: term, Expected: expected, Seen: fmt.Sprintf(seen, args...)})
}

// sent looks at a packet of the client's.
func (t *terms) sent(p *contract.Pass, x *termsOf, want *contract.Terms) {
	s := p.Session
	if want.MaxPacket > 0 && s.Bytes > want.MaxPacket {
		breach(p, "max-packet", fmt.Sprintf("packets of %d bytes at most", want.MaxPacket),
			"it sent %s of %d", s.Packet.Type(), s.Bytes)
	}
	if _, comes := s.Packet.(*packet.Connect); x.gone && !comes {
		x.gone = false // told once
		breach(p, "goodbye", "nothing after DISCONNECT (3.1.1 §3.14.4, 5.0 §3.14.4)", "%s", s.Packet.Type())
	}
	switch q := s.Packet.(type) {
	case *packet.Connect:
		x.goodbye, x.crowded, x.gone = false, false, false
		x.lost.met()
		clear(x.flying)
		if want.Tries.N > 0 {
			if n, within, hasty := x.tries.came(want.Tries, s.At); hasty {
				breach(
					p,
					"tries",
					want.Tries.String()+" at most",
					"%d within %s",
					n,
					within.Round(100*time.Millisecond),
				)
			}
		}
		t.connect(p, q, want)
	case *packet.Publish:
		x.first.Met()
		message(p, q, want, "it published")
		if q.QoS == 0 {
			return
		}
		if x.flying[q.ID] = true; want.InFlight > 0 && len(x.flying) > want.InFlight && !x.crowded {
			x.crowded = true
			breach(p, "in-flight", fmt.Sprintf("%d at most", want.InFlight),
				"%d messages without their acknowledgement", len(x.flying))
		}
	case *packet.Subscribe:
		for _, sub := range q.Subscriptions {
			if want.MaxQoS != nil && sub.QoS > *want.MaxQoS {
				breach(p, "max-qos", fmt.Sprintf("QoS %d at most", *want.MaxQoS),
					"it asked for %s at QoS %d", sub.Filter, sub.QoS)
				break
			}
		}
	case *packet.Disconnect:
		x.goodbye, x.gone = q.Code == 0, true
	}
}

// connect looks at CONNECT.
func (t *terms) connect(p *contract.Pass, q *packet.Connect, want *contract.Terms) {
	s := p.Session
	if values, ok := want.ClientID.Match(q.ClientID); !ok {
		breach(p, "client-id", want.ClientID.String(), "%q", q.ClientID)
	} else if !agree(values, s.Parameters) { // it is another one's
		own := want.ClientID.String()
		for name, v := range s.Parameters {
			own = strings.ReplaceAll(own, "{"+name+"}", v)
		}
		breach(p, "client-id", own, "%q", q.ClientID)
	}
	known := len(want.Versions) == 0
	var versions []string
	for _, v := range want.Versions {
		versions = append(versions, v.String())
		known = known || v == s.Version
	}
	if !known {
		breach(p, "version", strings.Join(versions, " or "), "%s", s.Version)
	}
	if alive := time.Duration(q.KeepAlive) * time.Second; !want.KeepAlive.Holds(alive) {
		seen := alive.String()
		if alive == 0 {
			seen = "0, which turns it off"
		}
		breach(p, "keep-alive", want.KeepAlive.String(), "%s", seen)
	}
	if want.CleanStart != nil && q.CleanStart != *want.CleanStart {
		breach(p, "clean-start", fmt.Sprint(*want.CleanStart), "%v", q.CleanStart)
	}
	switch {
	case s.Encrypted == nil:
	case want.TLS == contract.Required && !*s.Encrypted:
		breach(p, "tls", "TLS", "a link without it")
	case want.TLS == contract.None && *s.Encrypted:
		breach(p, "tls", "no TLS", "a link by TLS")
	}
	auth, _ := q.Properties.Str(packet.AuthMethod)
	switch bare := !q.HasPassword && auth == ""; {
	case want.Login == contract.LoginNone && (q.HasUsername || !bare):
		breach(p, "login", "none", "a user name or password")
	case (want.Login == contract.LoginPassword || want.Login == contract.LoginToken) && bare:
		breach(p, "login", string(want.Login), "CONNECT without a password")
	}
}

// message holds a PUBLISH, either way, to what the party can take.
func message(p *contract.Pass, q *packet.Publish, want *contract.Terms, how string) {
	s := p.Session
	if want.MaxQoS != nil && q.QoS > *want.MaxQoS {
		breach(p, "max-qos", fmt.Sprintf("QoS %d at most", *want.MaxQoS), "%s %s at QoS %d", how, s.Topic, q.QoS)
	}
	if n := len(s.Topic); want.TopicLength > 0 && n > want.TopicLength {
		breach(
			p,
			"max-topic",
			fmt.Sprintf("topics of %d bytes at most", want.TopicLength),
			"%s %s, which has %d",
			how,
			s.Topic,
			n,
		)
	} else if n := strings.Count(s.Topic, "/") + 1; want.TopicLevels > 0 && n > want.TopicLevels {
		breach(
			p,
			"max-topic",
			fmt.Sprintf("topics of %d levels at most", want.TopicLevels),
			"%s %s, which has %d",
			how,
			s.Topic,
			n,
		)
	}
}

// got looks at a packet that the client was sent.
func (t *terms) got(p *contract.Pass, x *termsOf, want *contract.Terms) {
	s := p.Session
	if want.MaxPacket > 0 && s.Bytes > want.MaxPacket {
		breach(p, "max-packet", fmt.Sprintf("packets of %d bytes at most", want.MaxPacket),
			"it was sent %s of %d", s.Packet.Type(), s.Bytes)
	}
	switch q := s.Packet.(type) {
	case *packet.Connack:
		if q.Code != 0 {
			return
		}
		if d := want.FirstValueWithin; d > 0 {
			x.first = p.DueOf(s.At.Add(d), func(time.Time) contract.Breach {
				return contract.Breach{
					Keyword:  "first-value-within",
					Expected: "a first value within " + d.String(),
					Seen:     "nothing published",
				}
			})
		}
	case *packet.Publish:
		message(p, q, want, "it was sent")
	case *packet.Puback:
		delete(x.flying, q.ID)
	case *packet.Pubcomp:
		delete(x.flying, q.ID)
	case *packet.Pubrec:
		if q.Code >= 0x80 {
			delete(x.flying, q.ID)
		}
	}
}

// dies begins to wait for the news that the client was lost.
func (t *terms) dies(p *contract.Pass, x *termsOf, want *contract.Terms) {
	if want.LostWithin == 0 || x.lost.pending() {
		return
	}
	s := p.Session
	for _, cl := range t.c.Clauses {
		if cl.From != s.Party || cl.Presence == nil {
			continue
		}
		x.lost = &loss{presence: cl, values: s.Parameters}
		x.lost.due = p.DueOf(s.At.Add(want.LostWithin), func(time.Time) contract.Breach {
			return contract.Breach{
				Keyword: "lost-within",
				Expected: fmt.Sprintf(
					"%q on %s within %s of the end of its link",
					cl.Presence.Lost,
					cl.Name,
					want.LostWithin,
				),
				Seen: "nobody was told that it is lost",
			}
		})
		t.losses = append(t.losses, x.lost)
		return
	}
}

// announced takes a will for what it tells.
func (t *terms) announced(p *contract.Pass) {
	if p.Clause.Presence == nil || len(t.losses) == 0 || p.Message.Copy {
		return
	}
	values := p.Clause.Topic.Values(p.Message.Topic)
	kept := t.losses[:0]
	for _, l := range t.losses {
		if l.presence == p.Clause && agree(values, l.values) &&
			says(p.Clause, p.Message.Payload, p.Clause.Presence.Lost) {
			l.met()
		}
		if l.pending() {
			kept = append(kept, l)
		}
	}
	t.losses = kept
}

func (l *loss) pending() bool { return l != nil && l.due.Pending() }

func (l *loss) met() {
	if l != nil {
		l.due.Met()
	}
}

// agree tells whether two sets of parameters' values do not contradict each other.
func agree(a, b map[string]string) bool {
	for name, v := range a {
		if w, both := b[name]; both && v != w {
			return false
		}
	}
	return true
}
