package fault_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof/prooftest"
)

// TestEachFaultDoesWhatItSays: it breaks the checks that its row names, and no other.
//
// The catalogue's own test goes through them all; where that is not run, with those of a package alone, this one does.
func TestEachFaultDoesWhatItSays(t *testing.T) {
	if testing.Short() {
		prooftest.Sample(t, 1, packet.V311, packet.V5)
		return
	}
	prooftest.Sample(t, 9, packet.V311, packet.V5)
}

// TestFaultsAreFound by name; the error for others names those of the family.
func TestFaultsAreFound(t *testing.T) {
	if all, err := fault.Set("will.never-sent", "qos.twice"); err != nil || len(all) != 2 ||
		all[1].Name != "qos.twice" {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := fault.Set("qos.twice", "will.sometimes"); err == nil ||
		!strings.Contains(err.Error(), "did you mean one of will.never-sent") || strings.Contains(err.Error(), "qos.") {
		t.Errorf("an unknown one: %v", err)
	}
	if _, err := fault.Find("tide.low"); err == nil || !strings.Contains(err.Error(), "lists them") ||
		strings.Contains(err.Error(), "did you mean") {
		t.Errorf("an unknown family: %v", err)
	}
}

// TestHooksAtTheirBounds: what a sentence says, and no more, where no check would see the difference.
func TestHooksAtTheirBounds(t *testing.T) {
	hooks := func(name string) standin.Decisions {
		f, err := fault.Find(name)
		if err != nil {
			t.Fatal(err)
		}
		return f.Decisions
	}
	// What becomes of a delivery: topic, QoS, retain, DUP, length, times.
	delivered := func(name string, d standin.Delivery, published packet.Publish) string {
		d.Published, d.Times, d.QoS = &published, 1, min(published.QoS, d.Granted)
		d.Payload, d.Retain = published.Payload, d.Stored
		hooks(name).Deliver(&d)
		return fmt.Sprintf("q%d %v %d bytes x%d", d.QoS, d.Retain, len(d.Payload), d.Times)
	}
	of := func(n int) []byte { return make([]byte, n) }
	for _, tt := range []struct {
		name      string
		d         standin.Delivery
		published packet.Publish
		want      string
	}{
		{"qos.raised", standin.Delivery{Granted: 0}, packet.Publish{}, "q0 false 0 bytes x1"},
		{"qos.raised", standin.Delivery{Granted: 1}, packet.Publish{}, "q1 false 0 bytes x1"},
		{"qos.long-lowered", standin.Delivery{Granted: 1}, packet.Publish{QoS: 1, Payload: of(128)},
			"q1 false 128 bytes x1"},
		{"qos.long-lowered", standin.Delivery{Granted: 1}, packet.Publish{QoS: 1, Payload: of(129)},
			"q0 false 129 bytes x1"},
		{"qos.payload-cut", standin.Delivery{}, packet.Publish{Payload: of(128)}, "q0 false 128 bytes x1"},
		{"qos.payload-cut", standin.Delivery{}, packet.Publish{Payload: of(129)}, "q0 false 128 bytes x1"},
		{"qos.later-twice", standin.Delivery{Granted: 2, Nth: 5, Filter: "#"}, packet.Publish{QoS: 2},
			"q2 false 0 bytes x1"},
		{"qos.later-twice", standin.Delivery{Granted: 2, Nth: 6, Filter: "#"}, packet.Publish{QoS: 2},
			"q2 false 0 bytes x2"},
		{"qos.retain-set", standin.Delivery{Granted: 1}, packet.Publish{QoS: 1}, "q1 true 0 bytes x1"},
		{"qos.retain-set", standin.Delivery{Granted: 0}, packet.Publish{QoS: 1}, "q0 false 0 bytes x1"},
		{"qos.retain-set", standin.Delivery{Granted: 1}, packet.Publish{QoS: 2}, "q1 false 0 bytes x1"},
		{"retain.cut", standin.Delivery{Stored: true}, packet.Publish{Payload: of(128)}, "q0 true 128 bytes x1"},
		{"retain.cut", standin.Delivery{Stored: true}, packet.Publish{Payload: of(129)}, "q0 true 128 bytes x1"},
		{"retain.flag-kept-later", standin.Delivery{Granted: 2, Nth: 1}, packet.Publish{QoS: 2, Retain: true},
			"q2 false 0 bytes x1"},
		{"retain.flag-kept-later", standin.Delivery{Granted: 2, Nth: 2}, packet.Publish{QoS: 2, Retain: true},
			"q2 true 0 bytes x1"},
		{"retain.flag-kept-wildcard", standin.Delivery{Filter: "+"}, packet.Publish{Retain: true},
			"q0 false 0 bytes x1"},
		{"retain.flag-kept-wildcard", standin.Delivery{Filter: "+"}, packet.Publish{Retain: true, Payload: of(1)},
			"q0 true 1 bytes x1"},
		{"retain.live-lost", standin.Delivery{Granted: 1}, packet.Publish{Retain: true, Payload: of(1)},
			"q0 false 1 bytes x0"},
		{"retain.live-lost", standin.Delivery{Granted: 1}, packet.Publish{Retain: true, QoS: 1, Payload: of(1)},
			"q1 false 1 bytes x1"},
		{"session.away-lost", standin.Delivery{Granted: 2, Away: true}, packet.Publish{QoS: 1}, "q1 false 0 bytes x0"},
		{"session.away-lost", standin.Delivery{Granted: 2, Away: true}, packet.Publish{QoS: 2}, "q2 false 0 bytes x1"},
	} {
		if got := delivered(tt.name, tt.d, tt.published); got != tt.want {
			t.Errorf("%s of %+v, %+v: %s, want %s", tt.name, tt.d, tt.published, got, tt.want)
		}
	}
	if pong := hooks("ping.first-two").Pong; pong(2) != 1 || pong(3) != 0 {
		t.Error("ping.first-two")
	}
	takes := func(name, password string, has bool) bool {
		return hooks(name).Password("eelgrass", &packet.Connect{HasPassword: has, Password: []byte(password)}, false)
	}
	for name, want := range map[string]bool{"login.short-password eel": true, "login.short-password ": false,
		"login.short-password grass":    false,
		"login.long-password eelgrass2": true, "login.long-password eel": false, "login.empty-password ": true,
		"login.empty-password x": false, "login.no-password ": false} {
		fault, password, _ := strings.Cut(name, " ")
		if takes(fault, password, true) != want {
			t.Errorf("%s: %v", name, !want)
		}
	}
	if takes("login.empty-password", "", false) || !takes("login.no-password", "", false) {
		t.Error("a password that is left out")
	}
	for what, want := range map[string]bool{"0": false, "1": true, "0x": true} {
		m := packet.Publish{QoS: packet.QoS(what[0] - '0'), Payload: []byte(what[1:])}
		if hooks("retain.not-cleared-at-0").Store(&m) != want {
			t.Errorf("retain.not-cleared-at-0 of %s: %v", what, !want)
		}
	}
	first := hooks("retain.first-kept").Store
	for i, tt := range []struct {
		payload string
		want    bool
	}{{"1", true}, {"2", false}, {"", true}, {"3", true}, {"4", false}} {
		if first(&packet.Publish{Topic: "a", Payload: []byte(tt.payload)}) != tt.want {
			t.Errorf("retain.first-kept, message %d: %v", i, !tt.want)
		}
	}
	if m := hooks("match.plus-empty").Match; !m("+/a", "x/a", true) || m("+/a", "/a", true) || !m("/a", "/a", true) {
		t.Error("match.plus-empty")
	}
	if lower := hooks("topic.lower").Topic; lower("AÅ\u0080") != "Aå\u0080" {
		t.Error("topic.lower")
	}
	late := standin.WillCase{Goodbye: true}
	if hooks("will.late-on-goodbye").Will(&late); !late.Send || late.Later != 700*time.Millisecond {
		t.Errorf("%+v", late)
	}
	for text, want := range map[string]string{"": "", "x": "", "gone": "gon"} {
		w := standin.WillCase{Message: &packet.Publish{Payload: []byte(text)}}
		if hooks("will.wrong-payload").Will(&w); string(w.Message.Payload) != want {
			t.Errorf("will.wrong-payload of %q: %q", text, w.Message.Payload)
		}
	}
	for topic, want := range map[string]string{"a/b/gone": "a/b/GONE", "gone": "GONE", "a/": "a/"} {
		w := standin.WillCase{Message: &packet.Publish{Topic: topic}}
		if hooks("will.wrong-topic").Will(&w); w.Message.Topic != want {
			t.Errorf("will.wrong-topic of %q: %q", topic, w.Message.Topic)
		}
	}
}
