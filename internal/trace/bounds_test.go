package trace_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
)

// follower adds events to journeys, numbered, and tells of each message who sent it and how many got it.
type follower struct {
	js  *trace.Journeys
	seq uint64
}

func (f *follower) add(events ...trace.Event) {
	for _, e := range events {
		f.seq++
		e.Seq = f.seq
		f.js.Add(&e)
	}
}

func (f *follower) told() string {
	var out []string
	for _, j := range f.js.All() {
		s := fmt.Sprintf("%s>%d", j.Sender, len(j.Hops))
		if j.Will {
			s = "will of " + s
		}
		out = append(out, s)
	}
	return strings.Join(out, " ")
}

func gone(at float64, who string) trace.Event {
	e := event(at, trace.Link, who, nil)
	e.Link = client.LinkEnded
	return e
}

func atQoS(topic, text string, q packet.QoS) *packet.Publish {
	m := message(topic, text)
	m.QoS = q
	return m
}

// TestJourneysAtTheirBounds: how late a message may come and be a known one, at which QoS, and to whom.
func TestJourneysAtTheirBounds(t *testing.T) {
	hello := func(at float64, who string, will *packet.Will) trace.Event {
		return event(at, trace.Sent, who, &packet.Connect{ClientID: who, CleanStart: true, Will: will})
	}
	in := func(at float64, who string) trace.Event { return event(at, trace.Received, who, &packet.Connack{}) }
	last := &packet.Will{Topic: "w", Payload: []byte("gone")}
	sent := func(at float64, q packet.QoS) trace.Event { return event(at, trace.Sent, "pen", atQoS("a", "on", q)) }
	got := func(at float64, who string, q packet.QoS) trace.Event {
		return event(at, trace.Received, who, atQoS("a", "on", q))
	}
	bye := func(kind trace.Kind, code packet.ReasonCode) trace.Event {
		return event(1, kind, "pen", &packet.Disconnect{Code: code})
	}
	wills := func(at float64) trace.Event { return event(at, trace.Received, "shore", message("w", "gone")) }
	for name, tt := range map[string]struct {
		events []trace.Event
		want   string
	}{
		"after just ten seconds": {[]trace.Event{sent(0, 1), got(10, "shore", 1)}, "pen>1"},
		"after more":             {[]trace.Event{sent(0, 1), got(10.001, "shore", 1)}, "pen>0 >1"},
		"at a lower QoS":         {[]trace.Event{sent(0, 1), got(1, "shore", 0)}, "pen>1"},
		"at a higher QoS":        {[]trace.Event{sent(0, 1), got(1, "shore", 2)}, "pen>0 >1"},
		"the one of two that fits": {[]trace.Event{sent(0, 0), sent(0, 2), got(1, "shore", 2),
			got(1, "shore", 0)}, "pen>1 pen>1"},
		"before the receiver came": {[]trace.Event{sent(0, 1), hello(1, "shore", nil), in(1, "shore"),
			got(2, "shore", 1)}, "pen>0 >1"},
		"two before the receiver came": {[]trace.Event{sent(0, 1), sent(0, 1), hello(1, "shore", nil),
			in(1, "shore"), got(2, "shore", 1)}, "pen>0 pen>0 >1"},
		"twice to the same": {[]trace.Event{sent(0, 1), got(1, "shore", 1), got(1, "shore", 1)},
			"pen>1 >1"},
		"to two, from nobody known": {[]trace.Event{got(1, "shore", 1), got(1.999, "desk", 1)}, ">2"},
		"to two, a second apart":    {[]trace.Event{got(1, "shore", 1), got(2, "desk", 1)}, ">1 >1"},
		"a will": {[]trace.Event{hello(0, "pen", last), in(0, "pen"), gone(1, "pen"),
			wills(2)}, "will of pen>1"},
		"a will of who is there": {[]trace.Event{hello(0, "pen", last), in(0, "pen"), wills(2)}, ">1"},
		"a will after DISCONNECT": {[]trace.Event{hello(0, "pen", last), in(0, "pen"), bye(trace.Sent, 0),
			gone(1, "pen"), wills(2)}, ">1"},
		"a will that was asked for": {[]trace.Event{hello(0, "pen", last), in(0, "pen"), bye(trace.Sent, 4),
			gone(1, "pen"), wills(2)}, "will of pen>1"},
		"a will after the broker's": {[]trace.Event{hello(0, "pen", last), in(0, "pen"), bye(trace.Received, 0),
			gone(1, "pen"), wills(2)}, "will of pen>1"},
		"a will of who was refused": {[]trace.Event{hello(0, "pen", last),
			event(0, trace.Received, "pen", &packet.Connack{Code: 0x87}), gone(1, "pen"), wills(2)}, ">1"},
		"one of two wills alike": {[]trace.Event{hello(0, "pen", last), hello(0, "barge", last),
			gone(1, "pen"), gone(1, "barge"), wills(2)}, ">1"},
		"the other has said goodbye": {[]trace.Event{hello(0, "pen", last), hello(0, "barge", last),
			bye(trace.Sent, 0), gone(1, "pen"), gone(1, "barge"), wills(2)}, "will of barge>1"},
		"a will on another topic is left": {[]trace.Event{hello(0, "pen", last),
			hello(0, "barge", &packet.Will{Topic: "z"}), gone(1, "pen"), gone(1, "barge"), wills(2)}, "will of pen>1"},
		"a will of ten minutes ago": {[]trace.Event{hello(0, "pen", last), gone(1, "pen"), wills(601)},
			"will of pen>1"},
		"a will of longer ago": {[]trace.Event{hello(0, "pen", last), gone(1, "pen"), wills(601.001)}, ">1"},
		"a will at a higher QoS": {[]trace.Event{hello(0, "pen", last), gone(1, "pen"),
			event(2, trace.Received, "shore", atQoS("w", "gone", 1))}, ">1"},
	} {
		f := &follower{js: trace.NewJourneys(100)}
		f.add(tt.events...)
		if told := f.told(); told != tt.want {
			t.Errorf("%s: %s, want %s", name, told, tt.want)
		}
	}
	f := &follower{js: trace.NewJourneys(100)}
	f.add(sent(0, 0), sent(1, 1), sent(2, 2))
	for i, j := range f.js.All() {
		if done := !j.Done.IsZero(); done != (i == 0) {
			t.Errorf("at QoS %d it is done %v", i, done)
		}
	}
	// A message of nobody known is the same only among the latest fifty.
	f = &follower{js: trace.NewJourneys(100)}
	f.add(got(0, "shore", 1))
	for i := range 49 {
		f.add(event(0, trace.Received, "shore", message("other", fmt.Sprint(i))))
	}
	if f.add(got(0.5, "desk", 1)); len(f.js.All()[0].Hops) != 2 {
		t.Error("the fiftieth from the end is not looked at")
	}
	f.add(event(0, trace.Received, "shore", message("other", "one more")))
	if f.add(got(0.5, "barge", 1)); len(f.js.All()[0].Hops) != 2 {
		t.Error("one beyond is looked at")
	}
}

// TestWhatSubscriptionsPromise: worked out where the event is made, from what the client and the broker said.
func TestWhatSubscriptionsPromise(t *testing.T) {
	rap := packet.Subscription{Filter: "a/#", QoS: 2, RetainAsPublished: true, RetainHandling: packet.RetainDontSend}
	for name, tt := range map[string]struct {
		subs    []packet.Subscription
		codes   []packet.ReasonCode
		present bool // of the session
		v       packet.Version
		topic   string
		retain  bool
		want    string // stored, flag, promised, granted, whole
	}{
		"none": {nil, nil, false, packet.V5, "a/b", false, "0 false 0 0 true"},
		"one": {[]packet.Subscription{{Filter: "a/+", QoS: 1}}, []packet.ReasonCode{1}, false,
			packet.V5, "a/b", false, "0 false 2 1 true"},
		"granted less": {[]packet.Subscription{{Filter: "a/+", QoS: 2}}, []packet.ReasonCode{0}, false,
			packet.V5, "a/b", false, "0 false 1 0 true"},
		"granted QoS 2": {[]packet.Subscription{{Filter: "a/+", QoS: 2}}, []packet.ReasonCode{2}, false,
			packet.V5, "a/b", false, "0 false 4 2 true"},
		"refused": {[]packet.Subscription{{Filter: "a/+", QoS: 1}}, []packet.ReasonCode{0x80},
			false, packet.V5, "a/b", false, "0 false 0 0 true"},
		"no code for it": {[]packet.Subscription{{Filter: "a/+", QoS: 1}, {Filter: "#", QoS: 2}},
			[]packet.ReasonCode{1}, false, packet.V5, "a/b", false, "0 false 2 1 true"},
		"two": {[]packet.Subscription{{Filter: "a/+", QoS: 1}, {Filter: "#", QoS: 2}},
			[]packet.ReasonCode{1, 2}, false, packet.V5, "a/b", false, "0 false 6 2 true"},
		"# is not for $": {[]packet.Subscription{{Filter: "#", QoS: 2}}, []packet.ReasonCode{2}, false,
			packet.V5, "$SYS/b", false, "0 false 0 0 true"},
		"of another topic": {[]packet.Subscription{{Filter: "b/+", QoS: 2}}, []packet.ReasonCode{2}, false,
			packet.V5, "a/b", false, "0 false 0 0 true"},
		"a session that was there": {nil, nil, true, packet.V5, "a/b", false, "0 false 0 0 false"},
		"3.1 does not tell":        {nil, nil, false, packet.V31, "a/b", false, "0 false 0 0 false"},
		"stored": {[]packet.Subscription{{Filter: "a/+", QoS: 1}}, []packet.ReasonCode{1}, false,
			packet.V5, "a/b", true, "1 false 2 1 true"},
		"live, with its flag": {[]packet.Subscription{rap}, []packet.ReasonCode{2}, false, packet.V5, "a/b",
			true, "0 true 4 2 true"},
		"without a flag": {[]packet.Subscription{rap}, []packet.ReasonCode{2}, false, packet.V5, "a/b",
			false, "0 true 4 2 true"},
		"one keeps it, one does not": {[]packet.Subscription{rap, {Filter: "#", QoS: 2}}, []packet.ReasonCode{2, 2},
			false, packet.V5, "a/b", true, "2 false 4 2 true"},
		"neither is told by the flag": {[]packet.Subscription{rap, {Filter: "#", QoS: 2}}, []packet.ReasonCode{2, 2},
			false, packet.V5, "a/b", false, "0 false 4 2 true"},
	} {
		log := trace.NewLog(100)
		h := trace.NewRecorder(trace.Source{Client: "c", Role: trace.RoleDevice, Version: tt.v}, log).Hooks()
		give := func(hook func(packet.Packet, []byte), p packet.Packet) { hook(p, p.Append(nil, tt.v)) }
		read := func(p packet.Packet, raw []byte) { h.Received(p, raw, nil) }
		h.Link(client.LinkOpened, "", "")
		give(h.Sent, &packet.Connect{Level: tt.v, ClientID: "c"})
		give(read, &packet.Connack{SessionPresent: tt.present})
		if tt.subs != nil {
			give(h.Sent, &packet.Subscribe{ID: 1, Subscriptions: tt.subs})
			give(read, &packet.Suback{ID: 1, Codes: tt.codes})
		}
		give(read, &packet.Publish{Topic: tt.topic, Retain: tt.retain})
		events, _ := log.Read(1, 100)
		m := events[len(events)-1].Meaning
		if got := fmt.Sprint(m.Stored, m.Flag, m.Promised, m.Granted, m.Whole); got != tt.want || m.Topic != tt.topic {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
	for _, tt := range []struct {
		promised           byte
		arrived, published packet.QoS
		expected           packet.QoS
		kept               bool
	}{{4, 2, 2, 2, true}, {4, 1, 1, 1, true}, {4, 1, 2, 2, false}, {6, 1, 2, 2, true}, {6, 0, 2, 2, false},
		{1, 0, 2, 0, true}, {0, 0, 0, 0, false}} {
		m := trace.Meaning{Promised: tt.promised}
		if expected, kept := m.Promises(tt.arrived, tt.published); expected != tt.expected || kept != tt.kept {
			t.Errorf("%+v: %d, %v", tt, expected, kept)
		}
	}
}

// TestMomentsOfAFilter are whole times, times of day with and without seconds, and nothing else.
func TestMomentsOfAFilter(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 30, 15, 250e6, time.Local)
	e := trace.Event{At: at, Client: "c", Kind: trace.Sent, Packet: message("a", "on")}
	for text, want := range map[string]bool{"since:09:30": true, "since:09:31": false, "until:09:30:15.250": true,
		"until:09:30:15.249":                                         false,
		"since:" + at.Format(time.RFC3339Nano):                       true,
		"since:" + at.Add(time.Millisecond).Format(time.RFC3339Nano): false} {
		f, err := trace.ParseFilter(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		} else if f.Match(&e) != want {
			t.Errorf("%s: %v", text, !want)
		}
	}
	if _, err := trace.ParseFilter("since:noon"); err == nil || !strings.Contains(err.Error(), "is no time") {
		t.Error(err)
	}
}

// TestStatisticsTellWhatWasPublished, not what was delivered, and each message once, whoever got it.
func TestStatisticsTellWhatWasPublished(t *testing.T) {
	st := trace.NewStatistics()
	add := func(e trace.Event) { st.Add(&e) }
	add(event(0, trace.Sent, "pen", atQoS("a", "on", 1)))
	add(event(0, trace.Received, "shore", atQoS("a", "on", 0)))
	if topics := st.Topics(noon); topics[0].QoS != 1 {
		t.Errorf("delivered in place of published: %+v", topics[0])
	}
	add(event(0.5, trace.Received, "shore", atQoS("a", "off", 2))) // of somebody else
	if topics := st.Topics(noon); topics[0].QoS != 2 {
		t.Errorf("%+v", topics[0])
	}
	for i := range 4 {
		for _, who := range []string{"shore", "desk"} {
			add(event(float64(i), trace.Received, who, message("b", fmt.Sprint(i))))
		}
	}
	topics := st.Topics(noon.Add(4 * time.Second))
	if a, b := topics[0], topics[1]; a.QoS != 2 || a.Messages != 2 || !st.Last().Equal(noon.Add(3*time.Second)) ||
		b.Messages != 4 ||
		b.Rate != 1 {
		t.Errorf("%+v\n%+v", a, b)
	}
}

// TestALogWaits for an event that is not there yet.
func TestALogWaits(t *testing.T) {
	log := trace.NewLog(2)
	ctx, stop := context.WithCancelCause(t.Context())
	stop(errors.New("enough"))
	for n := uint64(1); n < 5; n++ {
		if err := log.Wait(ctx, n); err == nil || err.Error() != "enough" {
			t.Errorf("event %d is there: %v", n, err)
		}
		log.Add(trace.Event{})
		if err := log.Wait(ctx, n); err != nil {
			t.Errorf("event %d is not there: %v", n, err)
		}
	}
}

// TestTheNameOfAProtocolIsNoSecret, in a CONNECT that breaks a rule; in place of it, anything may be.
func TestTheNameOfAProtocolIsNoSecret(t *testing.T) {
	for _, name := range []string{"MQTT", "MQIsdp", "hushed"} {
		frame := append([]byte{0x10, 0, 0, byte(len(name))}, name...)
		frame = append(frame, "\x63\x02\x00\x00sesame"...)
		frame[1] = byte(len(frame) - 2)
		e := trace.Redact(trace.Event{Kind: trace.Received, Version: packet.V311, Raw: frame, Broken: "level 99"})
		if shown := strings.Contains(string(e.Raw), name); shown != (name != "hushed") ||
			strings.Contains(string(e.Raw), "sesame") ||
			len(e.Raw) != len(frame) {
			t.Errorf("%s: %q", name, e.Raw)
		}
	}
}

// TestWhatAStoreMayNarrowDownBy tells what a filter asks for, before it decides.
func TestWhatAStoreMayNarrowDownBy(t *testing.T) {
	parse := func(text string) trace.Filter {
		f, err := trace.ParseFilter(text)
		if err != nil || f.String() != text {
			t.Fatalf("%s: %q %v", text, f.String(), err)
		}
		return f
	}
	all := parse("client:Pen topic:v/# type:PUBLISH,PINGREQ since:2026-11-27T12:00:00Z until:13:00")
	types := all.Types()
	slices.Sort(types)
	since, until := all.Span()
	if !all.HasClients() || !all.HasTopics() || fmt.Sprint(types) != "[PUBLISH PINGREQ]" || !since.Equal(noon) ||
		!until.IsZero() ||
		!all.MatchClient("pen-1") || all.MatchClient("shore") ||
		!all.MatchTopic("v/x") ||
		all.MatchTopic("w/x") {
		t.Errorf("%+v %v %s %s", all, types, since, until)
	}
	none := parse("oxygen until:2026-11-27T12:00:00Z")
	if _, until := none.Span(); none.HasClients() || none.HasTopics() || none.Types() != nil || !until.Equal(noon) ||
		!none.MatchClient("") ||
		!none.MatchTopic("") {
		t.Errorf("%+v", none)
	}
	if links := parse("type:LINK"); links.Types() != nil {
		t.Errorf("%+v", links)
	}
	words := trace.WordFilter("client:pen")
	e := event(0, trace.Sent, "pen", message("a", "x"))
	e2 := event(0, trace.Sent, "shore", message("a", "the client:pen said"))
	if words.Match(&e) || !words.Match(&e2) || words.HasClients() {
		t.Error("words are taken for terms")
	}
}

// TestMeaningsArePacked without loss, as a record keeps them.
func TestMeaningsArePacked(t *testing.T) {
	for n := range 1 << 9 {
		m := trace.Unpack(int64(n), "a/b")
		if m.Pack() != int64(n) || m.Topic != "a/b" {
			t.Fatalf("%d: %+v, %d", n, m, m.Pack())
		}
	}
	m := trace.Meaning{Stored: trace.StorageMaybe, Promised: 5, Granted: 2, Flag: true, Whole: true}
	if got := trace.Unpack(m.Pack(), ""); got != m {
		t.Errorf("%+v", got)
	}
}

// TestPeersOfAStandIn are on the trace as seen from the client, under one name over all connections; our own are not.
func TestPeersOfAStandIn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		log := trace.NewLog(1000)
		var told []string
		var forgotten []bool
		mine := false
		hooks := trace.RecordPeers("quay", log, func(_ string, gone bool) bool {
			if gone {
				forgotten = append(forgotten, mine)
			}
			return mine
		}, func(what, text string) { told = append(told, what) })
		s, err := standin.New(
			standin.Options{Anonymous: true, Hooks: hooks, Limits: standin.Limits{NoEmptyClientID: true}},
		)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		enter := func(id string, v packet.Version) *client.Client {
			c := client.New(
				client.Options{Dial: s.Dial, Version: v, Connect: packet.Connect{ClientID: id, CleanStart: true}},
			)
			c.Connect(t.Context())
			return c
		}
		a := enter("pen", packet.V311)
		a.Publish(t.Context(), packet.Publish{Topic: "a", QoS: 1})
		a.Disconnect(0)
		synctest.Wait() // one after another
		b := enter("pen", packet.V5)
		b.Cut()
		synctest.Wait()
		s.ThrowOut("nobody")
		c := enter("barge", packet.V5)
		s.ThrowOut("barge")
		<-c.Done()
		synctest.Wait()
		enter("", packet.V5)
		synctest.Wait()
		d := enter("odd", packet.V5)
		d.SendRaw([]byte{0, 0})
		<-d.Done()
		synctest.Wait()
		before := log.Next()
		mine = true
		enter("ours", packet.V5).Close()
		synctest.Wait()
		if log.Next() != before || len(forgotten) != 1 {
			t.Errorf("%d events of a client of ours, %v", log.Next()-before, forgotten)
		}
		if got := strings.Join(told, " "); got != "in left in left in left refused in broken left" {
			t.Error(got)
		}
		events, _ := log.Read(1, 1000)
		var links []string
		for _, e := range events {
			if e.Role != trace.RolePeer || e.Broker != "quay" {
				t.Errorf("%+v", e)
			}
			if e.Kind == trace.Link && e.Link == client.LinkEnded {
				links = append(links, fmt.Sprint(e.Client, " ", e.Conn, " ", e.Version, " by ", e.By))
			}
			if m := e.Publish(); m != nil && (e.Kind != trace.Sent || e.Topic() != "a") {
				t.Errorf("%+v", e)
			}
		}
		if len(links) != 5 || links[0] != "pen 1 3.1.1 by us" || !strings.HasPrefix(links[1], "pen 2 5 by a reset") ||
			links[2] != "barge 1 5 by the broker" ||
			links[4] != "odd 1 5 by the broker" {
			t.Errorf("%q", links)
		}
	})
}

// TestSubscriptionsThatAreTakenBack promise nothing any more, though what was under way may still come (§3.10.4).
func TestSubscriptionsThatAreTakenBack(t *testing.T) {
	log := trace.NewLog(100)
	h := trace.NewRecorder(trace.Source{Client: "c", Role: trace.RoleDevice, Version: packet.V5}, log).Hooks()
	sent := func(p packet.Packet) { h.Sent(p, p.Append(nil, packet.V5)) }
	got := func(p packet.Packet) { h.Received(p, p.Append(nil, packet.V5), nil) }
	means := func(want string) {
		t.Helper()
		got(message("a/b", "x"))
		events, _ := log.Read(log.Next()-1, 1)
		m := events[0].Meaning
		if s := fmt.Sprint(m.Promised, m.Whole); s != want {
			t.Errorf("%s, want %s", s, want)
		}
	}
	h.Link(client.LinkOpened, "", "")
	sent(&packet.Connect{Level: packet.V5, ClientID: "c", CleanStart: true})
	got(&packet.Connack{})
	sent(
		&packet.Subscribe{
			ID:            1,
			Subscriptions: []packet.Subscription{{Filter: "a/#", QoS: 1}, {Filter: "$share/x/a/+", QoS: 2}},
		},
	)
	means("0 false")
	got(&packet.Suback{ID: 1, Codes: []packet.ReasonCode{1, 2}})
	means("6 true")
	sent(&packet.Unsubscribe{ID: 2, Filters: []string{"a/#"}})
	means("6 false")
	got(&packet.Unsuback{ID: 2, Codes: []packet.ReasonCode{0}})
	means("4 false") // it may have been under way
	sent(&packet.Pingreq{})
	got(&packet.Pingresp{})
	means("4 true")
	got(&packet.Connack{Code: 0x87}) // changes nothing
	means("4 true")
	got(&packet.Connack{SessionPresent: true})
	means("4 true")
	got(&packet.Connack{})
	means("0 true")
}
