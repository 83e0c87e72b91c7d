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
