package trace_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// event is a packet of a client at a second after noon.
func event(at float64, k trace.Kind, name string, p packet.Packet) trace.Event {
	e := trace.Event{
		At:      noon.Add(time.Duration(at * float64(time.Second))),
		Kind:    k,
		Client:  name,
		Role:    trace.RoleDevice,
		Version: packet.V311,
		Packet:  p,
	}
	if p != nil {
		e.Raw = p.Append(nil, packet.V311)
	}
	if m, is := p.(*packet.Publish); is {
		e.Meaning = trace.Meaning{Topic: m.Topic, Flag: k == trace.Sent}
	}
	return e
}

func message(topic, text string) *packet.Publish {
	return &packet.Publish{Topic: topic, Payload: []byte(text)}
}

// TestStatisticsCount: every packet once, on its side, by client and by topic.
func TestStatisticsCount(t *testing.T) {
	st := trace.NewStatistics()
	add := func(e trace.Event) { st.Add(&e) }
	link := func(name string, l client.LinkEvent) trace.Event {
		return trace.Event{At: noon, Kind: trace.Link, Client: name, Role: trace.RoleDevice, Link: l}
	}
	for range 2 {
		add(link("pen", client.LinkOpened))
		add(event(1, trace.Sent, "pen", &packet.Connect{Level: packet.V311}))
		add(event(1, trace.Received, "pen", &packet.Connack{}))
	}
	for i := range 3 {
		add(event(1, trace.Sent, "pen", message("b", fmt.Sprint(i))))
		add(event(1, trace.Received, "shore", message("b", fmt.Sprint(i))))
		add(event(1, trace.Received, "desk", message("b", fmt.Sprint(i))))
	}
	add(event(1, trace.Received, "desk", message("a", "unknown")))
	add(event(1, trace.Received, "desk", message("a", "unknown")))
	add(event(1, trace.Received, "shore", message("a", "unknown")))
	bad := event(2, trace.Received, "shore", nil)
	bad.Broken, bad.Raw = "no packet", []byte{1, 2, 3}
	add(bad)
	held := event(2, trace.Held, "pen", message("b", "held"))
	add(held)
	add(link("shore", client.LinkOpened))
	add(link("shore", client.LinkFailed))
	var got []string
	for _, c := range st.Clients(noon) {
		got = append(
			got,
			fmt.Sprintf(
				"%s conn %d/%v sent %d received %d published %d got %d broken %d in %d out %d",
				c.Client,
				c.Connections,
				c.Connected,
				c.Sent,
				c.Received,
				c.Published,
				c.Got,
				c.Broken,
				c.BytesIn,
				c.BytesOut,
			),
		)
	}
	want := []string{
		"desk conn 0/false sent 0 received 5 published 0 got 5 broken 0 in 42 out 0",
		"pen conn 2/true sent 5 received 2 published 3 got 0 broken 0 in 8 out 46",
		"shore conn 1/false sent 0 received 5 published 0 got 4 broken 1 in 33 out 0",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	got = nil
	for _, x := range st.Topics(noon) {
		got = append(got, fmt.Sprintf("%s %d messages, %d bytes, %d copies", x.Topic, x.Messages, x.Bytes, x.Copies))
	}
	if s := strings.Join(got, "; "); s != "a 2 messages, 14 bytes, 0 copies; b 3 messages, 3 bytes, 0 copies" {
		t.Error(s)
	}
}

// TestOwnLooking: what is Hodstone's own, and what of its observer is the site's.
func TestOwnLooking(t *testing.T) {
	for _, tt := range []struct {
		role trace.Role
		e    trace.Event
		own  bool
	}{
		{trace.RoleCheck, event(0, trace.Sent, "c", message("a", "")), true},
		{trace.RoleProbe, event(0, trace.Link, "c", nil), true},
		{trace.RoleDevice, event(0, trace.Sent, "c", message("a", "")), false},
		{trace.RoleDevice, event(0, trace.Sent, "c", message("hodstone/x", "")), true},
		{trace.RoleObserver, event(0, trace.Received, "c", message("a", "")), false},
		{trace.RoleObserver, event(0, trace.Sent, "c", &packet.Pingreq{}), true},
		{trace.RoleObserver, trace.Event{Kind: trace.Link, Link: client.LinkOpened}, true},
		{trace.RoleObserver, trace.Event{Kind: trace.Link, Link: client.LinkEnded}, false},
		{trace.RoleObserver, trace.Event{Kind: trace.Line, Text: "x"}, false},
		{trace.RoleDevice, event(0, trace.Sent, "c", &packet.Pingreq{}), false},
		{trace.RoleDevice, trace.Event{Kind: trace.Link, Link: client.LinkOpened}, false},
	} {
		tt.e.Role = tt.role
		if got := tt.e.Own(); got != tt.own {
			t.Errorf("%s %v: own %v", tt.role, tt.e.Describe(), got)
		}
	}
}

// TestFiltersAtTheirBounds: since and until hold at the moment itself; every type has a name.
func TestFiltersAtTheirBounds(t *testing.T) {
	matches := func(filter string, e trace.Event) bool {
		t.Helper()
		f, err := trace.ParseFilter(filter)
		if err != nil {
			t.Fatal(err)
		}
		return f.Match(&e)
	}
	e := event(0, trace.Sent, "c", message("a", "x"))
	for filter, want := range map[string]bool{
		"since:2026-11-27T12:00:00Z": true, "until:2026-11-27T12:00:00Z": true,
		"since:2026-11-27T12:00:00.001Z": false, "until:2026-11-27T11:59:59.999Z": false,
		"since:2026-11-27T11:00:00Z until:2026-11-27T13:00:00Z": true,
		"since:2026-11-27T13:00:00Z until:2026-11-27T14:00:00Z": false,
		"since:2026-11-27T10:00:00Z until:2026-11-27T11:00:00Z": false,
		"since:" + noon.Local().Format("15:04:05"):              true, "until:" + noon.Local().Format("15:04:05"): true,
	} {
		if got := matches(filter, e); got != want {
			t.Errorf("%s: %v", filter, got)
		}
	}
	for _, p := range []packet.Packet{&packet.Connect{Level: packet.V311}, &packet.Auth{}, &packet.Pingresp{}} {
		name := "type:" + p.Type().String()
		if !matches(name, trace.Event{Kind: trace.Sent, Packet: p}) || matches(name, e) {
			t.Errorf("%s does not fit its own", name)
		}
	}
	sub := event(
		0,
		trace.Sent,
		"c",
		&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "a/+"}, {Filter: "b"}}},
	)
	for filter, want := range map[string]bool{"topic:b": true, "topic:a/+": true, "topic:c": false} {
		if got := matches(filter, sub); got != want {
			t.Errorf("SUBSCRIBE by %s: %v", filter, got)
		}
	}
}

// TestALogAtItsEnds: what was never added, the oldest, the latest, and those who wait.
func TestALogAtItsEnds(t *testing.T) {
	log := trace.NewLog(4)
	if events, missed := log.Read(0, 10); len(events) != 0 || missed != 0 || log.Oldest() != 1 {
		t.Errorf("an empty log: %d, %d, from %d", len(events), missed, log.Oldest())
	}
	for i := range 4 {
		log.Add(trace.Event{Text: fmt.Sprint(i + 1), Raw: make([]byte, 10)})
	}
	for _, tt := range []struct {
		from          uint64
		limit         int
		first, n, gap int
	}{{1, 10, 1, 4, 0}, {0, 2, 1, 2, 0}, {4, 10, 4, 1, 0}, {5, 10, 0, 0, 0}, {9, 10, 0, 0, 0}} {
		events, missed := log.Read(tt.from, tt.limit)
		if len(events) != tt.n || int(missed) != tt.gap || tt.n > 0 && events[0].Seq != uint64(tt.first) {
			t.Errorf("from %d: %d events, %d missed", tt.from, len(events), missed)
		}
	}
	log.Add(trace.Event{Text: "5"})
	if events, missed := log.Read(1, 10); len(events) != 4 || missed != 1 || events[0].Seq != 2 || log.Oldest() != 2 {
		t.Errorf("%d events, %d missed, from %d", len(events), missed, log.Oldest())
	}
	for seq, want := range map[uint64]bool{0: false, 1: false, 2: true, 5: true, 6: false} {
		if _, there := log.At(seq); there != want {
			t.Errorf("event %d: %v", seq, there)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if err := log.Wait(ctx, 5); err != nil {
		t.Error(err)
	}
	done := make(chan error)
	go func() { done <- log.Wait(ctx, 6) }()
	log.Add(trace.Event{})
	if err := <-done; err != nil {
		t.Error(err)
	}
	// Bytes are given back as the ring goes round: many that fit one after the other stay as many as the ring has.
	log = trace.NewLog(8)
	for range 200 {
		log.Add(trace.Event{Raw: make([]byte, trace.MaxBytes/9)})
	}
	if n := log.Next() - log.Oldest(); n != 8 {
		t.Errorf("%d of 8 are kept", n)
	}
	for range 3 {
		log.Add(trace.Event{Raw: make([]byte, trace.MaxBytes/2)})
	}
	if n := log.Next() - log.Oldest(); n != 2 {
		t.Errorf("%d of the large ones are kept", n)
	}
}

// TestConnectionsAreNumbered: from one, with each link that opens.
func TestConnectionsAreNumbered(t *testing.T) {
	log := trace.NewLog(100)
	r := trace.NewRecorder(trace.Source{Client: "c", Role: trace.RoleDevice, Version: packet.V311}, log)
	h := r.Hooks()
	for range 2 {
		h.Link(client.LinkOpened, "", "")
		h.Sent(&packet.Pingreq{}, []byte{0xc0, 0})
		h.Link(client.LinkEnded, "", "")
		r.Add(trace.Event{Kind: trace.Line, Text: "x"})
	}
	events, _ := log.Read(1, 100)
	got := ""
	for i := range events {
		got += fmt.Sprint(events[i].Conn)
	}
	if got != "11112222" {
		t.Error(got)
	}
}

// TestJourneysAlike: of messages alike, each receiver's copies belong to them in order, however many there are; what is
// too old, or was sent before the receiver came, is none of its.
func TestJourneysAlike(t *testing.T) {
	js := trace.NewJourneys(50)
	seq := uint64(0)
	add := func(e trace.Event) {
		seq++
		e.Seq = seq
		js.Add(&e)
	}
	for range 60 {
		add(event(0, trace.Sent, "pen", message("a", "on")))
	}
	for _, name := range []string{"shore", "desk", "shore"} {
		for i := range 12 {
			add(event(1+float64(i)/100, trace.Received, name, message("a", "on")))
		}
	}
	all := js.All()
	if len(all) != 50 {
		t.Fatalf("%d journeys are kept", len(all))
	}
	hops := map[string]int{}
	for i := range all {
		for _, h := range all[i].Hops {
			hops[h.Client]++
			if h.Client == "shore" && i >= 24 || h.Client == "desk" && i >= 12 {
				t.Errorf("%s got message %d", h.Client, i)
			}
		}
	}
	if hops["shore"] != 24 || hops["desk"] != 12 {
		t.Errorf("%v", hops)
	}
	// Too old: nobody that we know sent it.
	add(event(100, trace.Received, "late", message("a", "on")))
	all = js.All()
	if last := all[len(all)-1]; last.Sender != "" || len(last.Hops) != 1 {
		t.Errorf("an old message: %+v", last)
	}
}

// TestWhoeverSentItIsOne: of a message of an unknown sender there is one journey with a hop for each receiver, also where
// one like it has just been dropped.
func TestWhoeverSentItIsOne(t *testing.T) {
	js := trace.NewJourneys(3)
	for i, x := range []struct{ client, text string }{
		{"desk", "x"}, {"desk", "x"}, {"desk", "y"}, {"desk", "z"}, // the first x is dropped
		{"shore", "x"}, {"shore", "y"}, {"shore", "w"},
		{"desk", "x"}, {"desk", "w"},
	} {
		e := event(float64(i)/100, trace.Received, x.client, message("a", x.text))
		e.Seq = uint64(i + 1)
		js.Add(&e)
	}
	var got []string
	for _, j := range js.All() {
		text := string(j.Payload)
		for _, h := range j.Hops {
			text += fmt.Sprint(" ", h.Client, h.Seq)
		}
		got = append(got, text)
	}
	if s := strings.Join(got, "; "); s != "z desk4; w shore7 desk9; x desk8" {
		t.Error(s)
	}
}
