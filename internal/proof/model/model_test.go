package model_test

import (
	"testing"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof/model"
)

// TestWhatIsStoredIsUnknownWhereTwoAreUnderWay: two retained messages were cut off before they were acknowledged, and are
// completed later, in either order: which of them is stored is the broker's, until a third is acknowledged.
func TestWhatIsStoredIsUnknownWhereTwoAreUnderWay(t *testing.T) {
	const topic = "a/x"
	for name, do := range map[string]func(s *model.State, one, two *model.Message){
		"the first again, then the second": func(s *model.State, one, two *model.Message) { s.Again(one); s.Again(two) },
		"the second again, then the first": func(s *model.State, one, two *model.Message) { s.Again(two); s.Again(one) },
		"the second alone":                 func(s *model.State, _, two *model.Message) { s.Again(two) },
	} {
		s := model.New(packet.V5)
		say := func(text string, sure bool) *model.Message {
			m := &model.Message{
				By:      text,
				Sure:    sure,
				Publish: packet.Publish{Topic: topic, QoS: 2, Retain: true, Payload: []byte(text)},
			}
			s.Published(m)
			return m
		}
		greeted := 0
		greets := func(m *model.Message) *model.Violation {
			greeted++
			id := string(rune('a' + greeted))
			if v := s.Connected(id, true, false, false, nil, 0); v != nil {
				t.Fatal(v)
			}
			if v := s.Subscribed(id, []packet.Subscription{{Filter: topic, QoS: 2}}, []packet.ReasonCode{2}); v != nil {
				t.Fatal(v)
			}
			p := m.Publish
			p.ID = uint16(greeted)
			return s.Received(id, &p)
		}
		one, two := say("one", false), say("two", false)
		do(s, one, two)
		for _, m := range []*model.Message{one, two} {
			if v := greets(m); v != nil {
				t.Errorf("%s: %s may be stored, and is accused: %v", name, m.Payload, v)
			}
		}
		three := say("three", true)
		if v := greets(three); v != nil {
			t.Errorf("%s: %v", name, v)
		}
		for _, m := range []*model.Message{one, two} {
			if v := greets(m); v == nil || v.Rule != &model.StoredWrong {
				t.Errorf("%s: %s is replaced, and greets: %v", name, m.Payload, v)
			}
		}
	}
}

// TestWhatIsUnderWayWhenALinkEnds: what may have been sent to a link that was gone already comes with DUP, for the first
// time that it is seen; what is sent on the connection that stands does not.
func TestWhatIsUnderWayWhenALinkEnds(t *testing.T) {
	for name, tt := range map[string]struct {
		sure, gone, again, stored bool // again: its publisher sends it again; stored: it greets a subscription
		want                      *model.Rule
	}{
		"live":                           {sure: true, want: &model.FirstDup},
		"live, and the link ends":        {sure: true, gone: true},
		"greeting":                       {sure: true, stored: true, want: &model.FirstDup},
		"greeting, and the link ends":    {sure: true, stored: true, gone: true},
		"sent again":                     {again: true, want: &model.FirstDup},
		"the link ends, then sent again": {again: true, gone: true},
	} {
		s := model.New(packet.V5)
		enter := func(present bool) {
			if v := s.Connected("bob", false, true, present, nil, 0); v != nil {
				t.Fatal(v)
			}
		}
		subscribe := func() {
			if v := s.Subscribed(
				"bob",
				[]packet.Subscription{{Filter: "a/#", QoS: 1}},
				[]packet.ReasonCode{1},
			); v != nil {
				t.Fatal(v)
			}
		}
		enter(false)
		m := &model.Message{
			By:      "ann",
			Sure:    tt.sure,
			Publish: packet.Publish{Topic: "a/x", QoS: 1, Retain: tt.stored, Payload: []byte("m")},
		}
		if !tt.stored {
			subscribe()
		}
		s.Published(m)
		if tt.stored {
			subscribe()
		}
		if tt.gone {
			s.Gone("bob")
			enter(true)
		}
		if tt.again {
			s.Again(m)
		}
		p := m.Publish
		p.ID, p.Dup = 1, true
		v := s.Received("bob", &p)
		if (v == nil) != (tt.want == nil) || v != nil && v.Rule != tt.want {
			t.Errorf("%s: %v", name, v)
		}
	}
}

// TestAGreetingThatIsLate: what may have been stored when a subscription came may greet it after another took its place;
// nobody who subscribes later.
func TestAGreetingThatIsLate(t *testing.T) {
	s := model.New(packet.V5)
	enters := func(id string) {
		if v := s.Connected(id, true, false, false, nil, 0); v != nil {
			t.Fatal(v)
		}
		if v := s.Subscribed(id, []packet.Subscription{{Filter: "a/x", QoS: 1}}, []packet.ReasonCode{1}); v != nil {
			t.Fatal(v)
		}
	}
	say := func(text string, qos packet.QoS, sure bool) *model.Message {
		m := &model.Message{
			By:      text,
			Sure:    sure,
			Publish: packet.Publish{Topic: "a/x", QoS: qos, Retain: true, Payload: []byte(text)},
		}
		s.Published(m)
		return m
	}
	one := say("one", 1, false)
	say("", 0, true)
	s.Again(one)
	enters("bob")
	say("two", 1, true)
	enters("cat")
	p := one.Publish
	p.ID = 1
	if v := s.Received("bob", &p); v != nil {
		t.Errorf("a late greeting: %v", v)
	}
	if v := s.Received("cat", &p); v == nil || v.Rule != &model.StoredWrong {
		t.Errorf("a wrong greeting: %v", v)
	}
}
