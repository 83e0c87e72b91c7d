package rule_test

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

const farm = `hodstone: 1
brokers: {quay: {stand-in: {}}}
contract:
  parties:
    pen:
      logins: ["farm-{pen}"]
      terms:
        client-id: "pen-{pen}"
        version: [3.1.1, 5]
        keep-alive: 10s..30s
        clean-start: true
        tls: required
        login: password
        max-qos: 1
        max-packet: 100
        max-topic: {length: 20, levels: 3}
        in-flight: 2
        first-value-within: 10s
        lost-within: 45s
        back-within: 60s
        tries: 10/min
    shore: {terms: {version: 5, tls: none, login: none}}
    barge:
  parameters: {pen: {range: 1..4}}
  clauses:
    pen.status:
      topic: mv/{pen}/status
      from: pen
      to: barge
      qos: 1
      retain: true
      presence: {coming: "on", leaving: "off", lost: "lost"}
      payload: {format: text, values: {"on": a, "off": b, lost: c}}
    pen.door: {topic: "mv/{pen}/door", from: pen, only: edges, payload: {format: text, values: {open: a, shut: b}}}
    feed.set: {topic: "mv/{pen}/set", from: shore, to: pen, payload: {format: json, schema: {type: object}}}
    feed.state:
      topic: mv/{pen}/feed
      from: pen
      message-expiry: 60s
      properties: {content-type: application/json, user: [[unit, kg]]}
      payload: {format: json, schema: {type: object}}
    net.state: {topic: "mv/{pen}/net", from: pen, payload: {format: json, schema: {type: object}}}
    desk: {topic: mv/desk, from: shore, message-expiry: 60s, properties: {user: [[unit, kg]]}, payload: {format: text, pattern: x+}}
  relations:
    apart: {never: [{clause: feed.state, where: payload.run}, {clause: net.state, where: payload.lift == 1}], per: [pen], note: it tears}
    shown: {after: {clause: feed.set, where: payload.rate > 0}, follows: {clause: feed.state, where: payload.rate == cause.payload.rate}, within: 2s}
`

// play is a conversation that a judge follows.
type play struct {
	t    *testing.T
	j    *contract.Judge
	now  time.Time
	seq  uint64
	told []string
	tls  bool
	at   packet.Version
}

func newPlay(t *testing.T) *play {
	w, err := workspace.Read(fstest.MapFS{"w": {Data: []byte(farm)}}, "w", "w")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	p := &play{t: t, j: contract.NewJudge(w.Contract, rule.All()), now: noon, tls: true, at: packet.V311}
	p.j.Sees("quay", noon, nil)
	return p
}

func (p *play) note(found []contract.Breach) {
	for _, b := range found {
		p.told = append(p.told, strings.TrimSuffix(string(b.Rule)+" "+b.Keyword, " ")+": "+b.Expected+" | "+b.Seen)
	}
}

// wait lets the time pass, and the observer see.
func (p *play) wait(d time.Duration) {
	p.now = p.now.Add(d)
	p.note(p.j.Seen("quay", p.now))
}

func (p *play) step(party string, s contract.Session) {
	p.seq++
	s.Client, s.Broker, s.Party, s.At, s.Seq, s.Version = party+"-1", "quay", party, p.now, p.seq, p.at
	if s.Encrypted = &p.tls; party == "pen" {
		s.Parameters = map[string]string{"pen": "1"}
	}
	p.note(p.j.Session(s))
}

func (p *play) sent(pk packet.Packet) { p.packet("pen", contract.StepSent, pk) }
func (p *play) got(pk packet.Packet)  { p.packet("pen", contract.StepGot, pk) }

func (p *play) packet(party string, step contract.Step, pk packet.Packet) {
	raw := pk.Append(nil, packet.V5)
	s := contract.Session{Step: step, Packet: pk, Bytes: len(raw)}
	if m, is := pk.(*packet.Publish); is {
		s.Topic = m.Topic
	}
	p.step(party, s)
}

func (p *play) publish(topic, text string) {
	p.sent(&packet.Publish{Topic: topic, Payload: []byte(text)})
	p.hears(topic, text)
}

func (p *play) hears(topic, text string) {
	p.message(contract.Message{Topic: topic, Payload: []byte(text)})
}

func (p *play) message(m contract.Message) {
	p.seq++
	m.At, m.Seq, m.Eye, m.Granted = p.now, p.seq, "quay", 2
	if strings.HasSuffix(m.Topic, "status") {
		m.QoS = 1
	}
	p.note(p.j.Message(m).Breaches)
}

func will(topic, text string) *packet.Will {
	return &packet.Will{Topic: topic, Payload: []byte(text), QoS: 1, Retain: true}
}

func hello() *packet.Connect {
	return &packet.Connect{ClientID: "pen-1", CleanStart: true, KeepAlive: 20, HasUsername: true, Username: "farm-1",
		HasPassword: true, Password: []byte("x"), Will: will("mv/1/status", "lost")}
}

// comes is a session that begins as agreed.
func (p *play) comes() {
	p.sent(hello())
	p.got(&packet.Connack{})
	p.sent(&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "mv/1/set", QoS: 1}}})
	p.got(&packet.Suback{ID: 1, Codes: []packet.ReasonCode{1}})
	p.publish("mv/1/status", "on")
}

func (p *play) ends(byBroker bool) {
	p.step("pen", contract.Session{Step: contract.StepEnded, ByBroker: byBroker})
}

// TestSessionsAreHeldToWhatIsAgreed: each term, the presence, and what is subscribed to, with near misses.
func TestSessionsAreHeldToWhatIsAgreed(t *testing.T) {
	connect := func(change func(*packet.Connect)) func(*play) {
		return func(p *play) { c := hello(); change(c); p.sent(c) }
	}
	message := func(n int, change func(*packet.Publish)) func(*play) {
		return func(p *play) {
			p.comes()
			for i := range n {
				m := &packet.Publish{Topic: "mv/1/feed", Payload: []byte("{}"), QoS: 1, ID: uint16(i + 1)}
				change(m)
				p.sent(m)
			}
		}
	}
	for name, c := range map[string]struct {
		play func(*play)
		want string // what is told, joined by "; "
	}{
		"as agreed": {func(p *play) {
			p.comes()
			p.wait(time.Hour)
			p.publish("mv/1/status", "off")
			p.sent(&packet.Disconnect{})
			p.ends(false)
			p.wait(time.Hour)
		}, ""},
		"another client identifier": {connect(func(c *packet.Connect) { c.ClientID = "pen1" }), `terms client-id: pen-{pen} | "pen1"`},
		"another version":           {func(p *play) { p.at = packet.V31; p.sent(hello()) }, "terms version: 3.1.1 or 5 | 3.1"},
		"the shortest keep alive":   {connect(func(c *packet.Connect) { c.KeepAlive = 10 }), ""},
		"a shorter one":             {connect(func(c *packet.Connect) { c.KeepAlive = 9 }), "terms keep-alive: 10s..30s | 9s"},
		"a longer one":              {connect(func(c *packet.Connect) { c.KeepAlive = 31 }), "terms keep-alive: 10s..30s | 31s"},
		"none":                      {connect(func(c *packet.Connect) { c.KeepAlive = 0 }), "terms keep-alive: 10s..30s | 0, which turns it off"},
		"an old session":            {connect(func(c *packet.Connect) { c.CleanStart = false }), "terms clean-start: true | false"},
		"no TLS":                    {func(p *play) { p.tls = false; p.sent(hello()) }, "terms tls: TLS | a link without it"},
		"TLS that is not wanted": {func(p *play) { p.at = packet.V5; p.packet("shore", contract.StepSent, &packet.Connect{}) },
			"terms tls: no TLS | a link by TLS"},
		"no login": {connect(func(c *packet.Connect) { c.HasPassword, c.Password = false, nil }), "terms login: password | CONNECT without a password"},
		"a login that is not wanted": {func(p *play) {
			p.at, p.tls = packet.V5, false
			p.packet("shore", contract.StepSent, &packet.Connect{HasUsername: true, Username: "x"})
		}, "terms login: none | a user name or password"},
		"QoS 1 is fine": {message(1, func(*packet.Publish) {}), ""},
		"QoS 2":         {message(1, func(m *packet.Publish) { m.QoS = 2 }), "terms max-qos: QoS 1 at most | it published mv/1/feed at QoS 2"},
		"QoS 2 in a SUBSCRIBE": {func(p *play) {
			p.sent(&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "a", QoS: 2}}})
		}, "terms max-qos: QoS 1 at most | it asked for a at QoS 2"},
		"QoS 2 delivered":            {func(p *play) { p.got(&packet.Publish{Topic: "mv/1/set", QoS: 2, ID: 1}) }, "terms max-qos: QoS 1 at most | it was sent mv/1/set at QoS 2"},
		"the longest topic":          {message(1, func(m *packet.Publish) { m.Topic = "mv/1/" + strings.Repeat("x", 15) }), ""},
		"a longer topic":             {message(1, func(m *packet.Publish) { m.Topic = "mv/1/" + strings.Repeat("x", 16) }), "terms max-topic: topics of 20 bytes at most | it published mv/1/xxxxxxxxxxxxxxxx, which has 21"},
		"a deeper topic":             {func(p *play) { p.got(&packet.Publish{Topic: "a/b/c/d"}) }, "terms max-topic: topics of 3 levels at most | it was sent a/b/c/d, which has 4"},
		"the largest packet":         {message(1, func(m *packet.Publish) { m.QoS, m.Payload = 0, make([]byte, 86) }), ""},
		"a larger packet":            {message(1, func(m *packet.Publish) { m.QoS, m.Payload = 0, make([]byte, 87) }), "terms max-packet: packets of 100 bytes at most | it sent PUBLISH of 101"},
		"a larger one sent to it":    {func(p *play) { p.got(&packet.Publish{Topic: "mv/1/set", Payload: make([]byte, 88)}) }, "terms max-packet: packets of 100 bytes at most | it was sent PUBLISH of 101"},
		"two under way":              {message(2, func(*packet.Publish) {}), ""},
		"three under way, told once": {message(4, func(*packet.Publish) {}), "terms in-flight: 2 at most | 3 messages without their acknowledgement"},
		"one after the other": {func(p *play) {
			p.comes()
			for i := range 9 {
				p.sent(&packet.Publish{Topic: "mv/1/feed", QoS: 1, ID: uint16(i + 1)})
				p.got(&packet.Puback{Ack: packet.Ack{ID: uint16(i + 1)}})
			}
			for i := range 2 {
				p.sent(&packet.Publish{Topic: "mv/1/feed", QoS: 1, ID: uint16(i + 1)})
			}
			p.got(&packet.Pubrec{Ack: packet.Ack{ID: 1, Code: 0x97}})
			p.got(&packet.Pubcomp{Ack: packet.Ack{ID: 2}})
			p.sent(&packet.Publish{Topic: "mv/1/feed", QoS: 1, ID: 7})
			p.sent(&packet.Publish{Topic: "mv/1/feed", QoS: 1, ID: 8})
		}, ""},
		"refused, and that is all": {func(p *play) { p.sent(hello()); p.got(&packet.Connack{Code: 5}); p.wait(time.Hour) }, ""},
		"nothing said": {func(p *play) {
			p.sent(hello())
			p.got(&packet.Connack{SessionPresent: true})
			p.wait(9 * time.Second)
			if len(p.told) > 0 {
				p.told = append(p.told, "too soon")
			}
			p.wait(2 * time.Second)
		}, "terms first-value-within: a first value within 10s | nothing published"},
		"cut off before it could say anything": {func(p *play) {
			p.sent(hello())
			p.got(&packet.Connack{SessionPresent: true})
			p.step("pen", contract.Session{Step: contract.StepCut})
			p.wait(40 * time.Second)
		}, ""},
		"lost, and told": {func(p *play) {
			p.comes()
			p.step("pen", contract.Session{Step: contract.StepCut})
			p.wait(44 * time.Second)
			p.hears("mv/1/status", "lost")
			p.wait(time.Hour)
		}, ""},
		"lost, and another's loss told": {func(p *play) {
			p.comes()
			p.step("pen", contract.Session{Step: contract.StepCut})
			p.hears("mv/2/status", "lost")
			p.hears("mv/1/status", "off")
			p.wait(46 * time.Second)
		}, `terms lost-within: "lost" on pen.status within 45s of the end of its link | nobody was told that it is lost`},
		"frozen, and thawed": {func(p *play) {
			p.comes()
			p.step("pen", contract.Session{Step: contract.StepCut})
			p.step("pen", contract.Session{Step: contract.StepMended})
			p.wait(time.Hour)
		}, ""},
		"its link ends, and it is back": {func(p *play) { p.comes(); p.ends(false); p.wait(30 * time.Second); p.comes(); p.wait(time.Hour) }, ""},
		"its link ends for good": {func(p *play) { p.comes(); p.ends(false); p.hears("mv/1/status", "lost"); p.wait(61 * time.Second) },
			"terms back-within: back within 1m0s | it is not"},
		"taken over by itself": {func(p *play) {
			p.comes()
			p.sent(hello())
			p.got(&packet.Connack{})
			p.ends(true)
			p.comes()
			p.wait(time.Hour)
		}, ""},
		"the observer was blind meanwhile": {func(p *play) {
			p.comes()
			p.ends(false)
			p.j.Blind("quay", p.now)
			p.now = p.now.Add(time.Hour)
			p.j.Sees("quay", p.now, nil)
			p.wait(time.Hour)
		}, ""},
		"too many tries": {func(p *play) {
			for range 60 {
				p.sent(hello())
				p.wait(time.Second)
			}
		}, "terms tries: 10/min at most | 11 within 10s; terms tries: 10/min at most | 11 within 10s; terms tries: 10/min at most | 11 within 10s; terms tries: 10/min at most | 11 within 10s; terms tries: 10/min at most | 11 within 10s"},
		"of another party nothing is agreed but version, TLS and login": {func(p *play) {
			p.at, p.tls = packet.V5, false
			p.packet("shore", contract.StepSent, &packet.Connect{ClientID: "any", KeepAlive: 0})
			p.packet("shore", contract.StepGot, &packet.Connack{})
			for i := range 9 {
				p.packet("shore", contract.StepSent, &packet.Publish{Topic: "mv/1/set", QoS: 2, ID: uint16(i + 1), Payload: make([]byte, 300)})
			}
			p.packet("shore", contract.StepGot, &packet.Publish{Topic: strings.Repeat("x/", 40), Payload: make([]byte, 300)})
			p.step("shore", contract.Session{Step: contract.StepEnded})
			p.wait(time.Hour)
		}, ""},
		"a longest and deepest topic that fits to the letter": {func(p *play) { p.got(&packet.Publish{Topic: "a/b/" + strings.Repeat("c", 16)}) }, ""},
		"a largest packet sent to it":                         {func(p *play) { p.got(&packet.Publish{Topic: "mv/1/set", Payload: make([]byte, 87)}) }, ""},
		"PUBREC that refuses with the first code that does": {func(p *play) {
			p.comes()
			for i := range 3 {
				if p.sent(&packet.Publish{Topic: "mv/1/feed", QoS: 1, ID: uint16(i + 1)}); i == 0 {
					p.got(&packet.Pubrec{Ack: packet.Ack{ID: 1, Code: 0x80}})
				}
			}
		}, ""},
		"a first value in the last moment": {func(p *play) {
			p.sent(hello())
			p.got(&packet.Connack{SessionPresent: true})
			p.wait(10*time.Second - time.Millisecond)
			p.publish("mv/1/status", "on")
			p.wait(time.Hour)
		}, ""},
		"no will":                  {connect(func(c *packet.Connect) { c.Will = nil }), `presence will: a will on mv/{pen}/status with "lost" | no will in CONNECT`},
		"a will of another's":      {connect(func(c *packet.Connect) { c.Will = will("mv/2/status", "lost") }), "presence will: a will on mv/1/status | one on mv/2/status"},
		"a will elsewhere":         {connect(func(c *packet.Connect) { c.Will = will("mv/status", "lost") }), "presence will: a will on mv/1/status | one on mv/status"},
		"a will with another text": {connect(func(c *packet.Connect) { c.Will = will("mv/1/status", "off") }), `presence will: a will with "lost" | one with "off"`},
		"a will at QoS 0":          {connect(func(c *packet.Connect) { c.Will.QoS = 0 }), "presence will: a will at QoS 1 | one at QoS 0"},
		"a will that is not kept":  {connect(func(c *packet.Connect) { c.Will.Retain = false }), "presence will: a will with retain true | one with retain false"},
		"gone without a word":      {func(p *play) { p.comes(); p.sent(&packet.Disconnect{}) }, `presence leaving: "off" on mv/{pen}/status before DISCONNECT | "on" was the last it said there`},
		"gone before it said any":  {func(p *play) { p.sent(hello()); p.got(&packet.Connack{}); p.sent(&packet.Disconnect{}) }, `presence leaving: "off" on mv/{pen}/status before DISCONNECT | nothing said there`},
		"gone with its will":       {func(p *play) { p.comes(); p.sent(&packet.Disconnect{Code: 4}) }, ""},
		"subscribed to too little": {func(p *play) {
			p.sent(hello())
			p.got(&packet.Connack{})
			p.sent(&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "mv/1/set"}, {Filter: "mv/2/set"}}})
			p.got(&packet.Suback{ID: 1, Codes: []packet.ReasonCode{0x80, 0}})
			p.publish("mv/1/status", "on")
			p.wait(11 * time.Second)
		}, "subscribes clauses: subscriptions that cover feed.set (mv/{pen}/set) | none of its filters does"},
		"subscribed, and taken back": {func(p *play) {
			p.comes()
			p.sent(&packet.Unsubscribe{ID: 2, Filters: []string{"mv/1/set"}})
			p.wait(11 * time.Second)
		}, "subscribes clauses: subscriptions that cover feed.set (mv/{pen}/set) | no subscription"},
		"subscribed to each topic by itself": {func(p *play) {
			p.packet("barge", contract.StepGot, &packet.Connack{})
			p.packet("barge", contract.StepSent, &packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{
				{Filter: "mv/1/status"}, {Filter: "$share/g/mv/2/+"}, {Filter: "+/3/#"}, {Filter: "mv/4/status"}}})
			p.packet("barge", contract.StepGot, &packet.Suback{ID: 1, Codes: []packet.ReasonCode{0, 1, 2, 0}})
			p.wait(time.Hour)
		}, ""},
		"all but one of them": {func(p *play) {
			p.packet("barge", contract.StepGot, &packet.Connack{})
			p.packet("barge", contract.StepSent, &packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "mv/1/status"}}})
			p.packet("barge", contract.StepGot, &packet.Suback{ID: 1, Codes: []packet.ReasonCode{0}})
			p.wait(time.Hour)
		}, "subscribes clauses: subscriptions that cover pen.status (mv/{pen}/status) | none of its filters does"},
		"to what nothing meets": {func(p *play) {
			p.comes()
			p.sent(&packet.Subscribe{ID: 2, Subscriptions: []packet.Subscription{{Filter: "mv/1/sett"}, {Filter: "$SYS/#"}, {Filter: "mv/+/net"}}})
			p.got(&packet.Suback{ID: 2, Codes: []packet.ReasonCode{0, 0, 0}})
			p.wait(time.Hour)
		}, "subscribes filter: filters that a clause, or a topic that was seen, meets | mv/1/sett, which nothing meets; meant for feed.set (mv/{pen}/set)?"},
		"to a stray that was heard": {func(p *play) {
			p.comes()
			p.hears("other/place", "x")
			p.sent(&packet.Subscribe{ID: 2, Subscriptions: []packet.Subscription{{Filter: "other/#"}}})
			p.got(&packet.Suback{ID: 2, Codes: []packet.ReasonCode{0}})
			p.wait(time.Hour)
		}, ""},
	} {
		p := newPlay(t)
		c.play(p)
		slices.Sort(p.told)
		if got := strings.Join(p.told, "; "); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// TestWhatMessagesHaveToDoWithOneAnother: relations, edges, expiry and properties.
func TestWhatMessagesHaveToDoWithOneAnother(t *testing.T) {
	five := func(topic, text string, sent *contract.Envelope, props ...packet.Property) func(*play) {
		return func(p *play) {
			p.message(contract.Message{Topic: topic, Payload: []byte(text), Version: packet.V5, Properties: props, Sent: sent})
		}
	}
	expiry := func(n uint32) packet.Property { return packet.Int(packet.MessageExpiry, n) }
	json := packet.Str(packet.ContentType, "application/json")
	unit := packet.User("unit", "kg")
	apart := "relation apart: never at once: feed.state where payload.run; net.state where payload.lift == 1 | all of it for 1s (it tears)"
	shown := "relation shown: feed.state where payload.rate == cause.payload.rate within 2s | nothing like it"
	for name, c := range map[string]struct {
		play func(*play)
		want string
	}{
		"never both, and both": {func(p *play) {
			p.hears("mv/1/feed", `{"run": true}`)
			p.hears("mv/1/net", `{"lift": 1}`)
			p.wait(2 * time.Second)
			p.hears("mv/1/feed", `{"run": true, "x": 1}`) // told once
			p.wait(2 * time.Second)
			p.hears("mv/1/net", `{"lift": 0}`)
			p.hears("mv/1/net", `{"lift": 1}`)
			p.wait(2 * time.Second)
		}, apart + "; " + apart},
		"one of each pen": {func(p *play) {
			p.hears("mv/1/feed", `{"run": true}`)
			p.hears("mv/2/net", `{"lift": 1}`)
			p.wait(time.Hour)
		}, ""},
		"for less than a second": {func(p *play) {
			p.hears("mv/1/feed", `{"run": true}`)
			p.hears("mv/1/net", `{"lift": 1}`)
			p.wait(900 * time.Millisecond)
			p.hears("mv/1/feed", `{"run": false}`)
			p.wait(time.Hour)
		}, ""},
		"a field that is not there": {func(p *play) {
			p.hears("mv/1/feed", `{"run": true}`)
			p.hears("mv/1/net", `{}`)
			p.wait(time.Hour)
		}, ""},
		"before the observer was blind": {func(p *play) {
			p.hears("mv/1/feed", `{"run": true}`)
			p.j.Blind("quay", p.now)
			p.j.Sees("quay", p.now.Add(time.Second), nil)
			p.wait(2 * time.Second)
			p.hears("mv/1/net", `{"lift": 1}`)
			p.wait(time.Hour)
		}, ""},
		"followed": {func(p *play) {
			p.hears("mv/1/set", `{"rate": 7}`)
			p.wait(time.Second)
			p.hears("mv/1/feed", `{"rate": 7}`)
			p.wait(time.Hour)
		}, ""},
		"followed by another value": {func(p *play) {
			p.hears("mv/1/set", `{"rate": 7}`)
			p.hears("mv/1/feed", `{"rate": 8}`)
			p.hears("mv/2/feed", `{"rate": 7}`)
			p.wait(3 * time.Second)
		}, shown},
		"nothing to follow": {func(p *play) { p.hears("mv/1/set", `{"rate": 0}`); p.wait(time.Hour) }, ""},
		"another set point takes its place": {func(p *play) {
			p.hears("mv/1/set", `{"rate": 7}`)
			p.wait(time.Second)
			p.hears("mv/1/set", `{"rate": 9}`)
			p.wait(time.Second)
			p.hears("mv/1/feed", `{"rate": 9}`)
			p.wait(time.Hour)
		}, ""},
		"edges": {func(p *play) {
			for range 3 {
				p.hears("mv/1/door", "open")
				p.hears("mv/1/door", "shut")
			}
			p.hears("mv/1/door", "shut") // it was away, and is back
			p.hears("mv/1/door", "open")
			p.hears("mv/2/door", "open")
		}, ""},
		"the same edge again and again": {func(p *play) {
			for range 5 {
				p.hears("mv/1/door", "shut")
			}
		}, "only: the other value at each edge | the same 3 times in a row"},
		"of an unknown publisher": {five("mv/1/feed", "{}", nil), ""},
		"with less time left":     {five("mv/1/feed", "{}", nil, expiry(59), json, unit), ""},
		"with more":               {five("mv/1/feed", "{}", nil, expiry(61), json, unit), "message-expiry: a message expiry interval of 1m0s | 1m1s"},
		"with another type": {five("mv/1/feed", "{}", nil, expiry(60), packet.Str(packet.ContentType, "text/plain"), packet.User("unit", "g")),
			`properties content-type: application/json | "text/plain"; properties user: unit=kg | not there`},
		"of one who speaks only 5": {five("mv/desk", "x", nil), "message-expiry: a message expiry interval of 1m0s | no message expiry interval; properties user: unit=kg | not there"},
		"as it was sent":           {five("mv/1/feed", "{}", &contract.Envelope{Version: packet.V5, Properties: packet.Properties{expiry(60), json, unit}}), ""},
		"sent without": {five("mv/1/feed", "{}", &contract.Envelope{Version: packet.V5, Properties: packet.Properties{expiry(50)}}),
			"message-expiry: a message expiry interval of 1m0s | 50s; properties content-type: application/json | none; properties user: unit=kg | not there"},
		"a copy": {func(p *play) {
			p.message(contract.Message{Topic: "mv/desk", Payload: []byte("x"), Version: packet.V5, Copy: true})
		}, "properties user: unit=kg | not there"},
	} {
		p := newPlay(t)
		c.play(p)
		if got := strings.Join(p.told, "; "); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// TestWhoPlaysWhat: by the login, else by the client identifier, and nobody where that is not clear.
func TestWhoPlaysWhat(t *testing.T) {
	w, _ := workspace.Read(fstest.MapFS{"w": {Data: []byte(farm)}}, "w", "w")
	for _, c := range []struct{ id, user, party, pen string }{
		{"pen-3", "", "pen", "3"}, {"pen-9", "", "", ""}, {"x", "farm-2", "pen", "2"}, {"pen-1", "farm-2", "pen", "2"},
		{"x", "farm-9", "", ""}, {"pen-", "", "", ""}, {"", "", "", ""},
	} {
		party, values := w.Contract.PartyOf(c.id, c.user)
		name := ""
		if party != nil {
			name = party.Name
		}
		if name != c.party || values["pen"] != c.pen {
			t.Errorf("%+v: %q %v", c, name, values)
		}
	}
}
