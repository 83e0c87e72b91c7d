package trace_test

import (
	"bytes"
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	faults "hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/trace"
)

func connect(
	t *testing.T,
	s *standin.Server,
	log *trace.Log,
	name string,
	v packet.Version,
	subs ...packet.Subscription,
) *client.Client {
	t.Helper()
	c := client.New(client.Options{Dial: s.Dial, Version: v,
		Connect: packet.Connect{
			ClientID:    name,
			CleanStart:  true,
			HasUsername: true,
			Username:    "u",
			HasPassword: true,
			Password:    []byte("sesame"),
		},
		Hooks: trace.Record(trace.Source{Client: name, Role: trace.RoleDevice, Version: v}, log)})
	if _, err := c.Connect(context.Background()); err != nil {
		t.Fatal(err)
	}
	if len(subs) > 0 {
		if _, err := c.Subscribe(context.Background(), subs); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// TestAConversationOnTheRecord follows a whole conversation through log, filters and
// journeys, and looks for the password in everything that came out.
func TestAConversationOnTheRecord(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Logins: []standin.Login{{Name: "u", Password: "sesame"}}})
		defer s.Close()
		log := trace.NewLog(1000)
		ctx := context.Background()
		pen := connect(t, s, log, "pen-1", packet.V5)
		pen.Publish(ctx, packet.Publish{Topic: "status", QoS: 1, Retain: true, Payload: []byte("on")})
		shore := connect(t, s, log, "shore", packet.V311, packet.Subscription{Filter: "status", QoS: 0})
		connect(
			t,
			s,
			log,
			"observer",
			packet.V5,
			packet.Subscription{Filter: "#", QoS: 2, RetainAsPublished: true, RetainHandling: packet.RetainDontSend},
		)
		synctest.Wait() // the stored message has come to shore
		for range 2 {   // twice alike: each receiver's first copy belongs to the first
			pen.Publish(ctx, packet.Publish{Topic: "status", QoS: 1, Retain: true, Payload: []byte("on")})
			time.Sleep(time.Second)
		}
		standinOnly, _ := s.Dial(ctx) // a client that Hodstone does not watch
		raw := (&packet.Connect{ClientID: "x", CleanStart: true, HasUsername: true, Username: "u", HasPassword: true,
			Password: []byte("sesame")}).Append(
			nil,
			packet.V311,
		)
		standinOnly.Write((&packet.Publish{Topic: "status", Payload: []byte("on")}).Append(raw, packet.V311))
		synctest.Wait()
		shore.SendRaw([]byte{0x00, 0x00})
		synctest.Wait()

		events, missed := log.Read(1, 1000)
		if missed != 0 || log.Next() != uint64(len(events)+1) {
			t.Fatalf("%d events, %d missed", len(events), missed)
		}
		js := trace.NewJourneys(100)
		all := ""
		for i := range events {
			js.Add(&events[i])
			all += fmt.Sprintf("%+v %s %q\n", events[i], events[i].Describe(), events[i].Raw)
			if c, ok := events[i].Packet.(*packet.Connect); ok &&
				(string(c.Password) != "******" || c.Username != "u") {
				t.Errorf("CONNECT recorded as %+v", c)
			}
		}
		if strings.Contains(all, "sesame") {
			t.Error("the password is on the record")
		}
		for _, want := range []string{"type 0", "link opened", "link ended: the broker closed the connection",
			"CONNACK", "SUBACK #1 granted QoS 0"} {
			if !strings.Contains(all, want) {
				t.Errorf("nothing about %q in\n%s", want, all)
			}
		}
		var got []string
		for _, j := range js.All() {
			line := fmt.Sprintf("from %q q%d:", j.Sender, j.QoS)
			for _, h := range j.Hops {
				line += fmt.Sprintf(" %s q%d", h.Client, h.QoS)
				if h.Copy {
					line += " copy"
				}
			}
			got = append(got, line)
			if j.Sender != "" && j.Done.IsZero() {
				t.Errorf("%s: no PUBACK seen", line)
			}
		}
		want := []string{`from "pen-1" q1:`, `from "" q0: shore q0 copy`, `from "pen-1" q1: shore q0 observer q1`,
			`from "pen-1" q1: shore q0 observer q1`, `from "" q0: shore q0 observer q0`}
		for i := range want { // the two receivers may come in either order
			want[i] = strings.Replace(want[i], "shore q0 observer", "observer", 1)
		}
		for i := range got {
			got[i] = strings.Replace(
				strings.Replace(got[i], " shore q0 observer", " observer", 1),
				"observer q1 shore q0",
				"observer q1",
				1,
			)
			got[i] = strings.Replace(got[i], "observer q0 shore q0", "observer q0", 1)
		}
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("journeys\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
		for text, n := range map[string]int{"": len(events), "client:pen type:CONNECT": 1,
			"type:PUBLISH client:shore topic:+": 4,
			"topic:status type:subscribe":       1, "topic:#  type:subscribe": 1, "type:puback client:pen": 3,
			"granted":                      2,
			"client:shore on type:publish": 4} {
			f, err := trace.ParseFilter(text)
			if err != nil {
				t.Fatal(err)
			}
			found := 0
			for i := range events {
				if f.Match(&events[i]) {
					found++
				}
			}
			if found != n {
				t.Errorf("filter %q finds %d, want %d", text, found, n)
			}
		}
	})
	for _, bad := range []string{"type:LETTER", "topic:a#"} {
		if _, err := trace.ParseFilter(bad); err == nil {
			t.Errorf("%q is taken for a filter", bad)
		}
	}
}

func TestASlowReaderIsToldWhatItMissed(t *testing.T) {
	log := trace.NewLog(10)
	for range 25 {
		log.Add(trace.Event{})
	}
	events, missed := log.Read(3, 100)
	if missed != 13 || len(events) != 10 || events[0].Seq != 16 {
		t.Errorf("missed %d, got %d from %d", missed, len(events), events[0].Seq)
	}
	if _, ok := log.At(15); ok {
		t.Error("an overwritten event is still there")
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	go log.Add(trace.Event{Client: "late"})
	if err := log.Wait(ctx, 26); err != nil {
		t.Error(err)
	}
	cancel()
	if err := log.Wait(ctx, 27); err == nil {
		t.Error("waited for what never came")
	}
}

// TestEveryHopHasItsVerdict: a copy is held against what its receiver was granted, by a
// faithful broker and by one that does not lower the QoS.
func TestEveryHopHasItsVerdict(t *testing.T) {
	for fault, want := range map[string]trace.HopVerdict{"": trace.HopKept, "qos.not-lowered": trace.HopBroken} {
		synctest.Test(t, func(t *testing.T) {
			o := standin.Options{Anonymous: true}
			if fault != "" {
				o.Faults, _ = faults.Set(fault)
			}
			s, _ := standin.New(o)
			defer s.Close()
			log := trace.NewLog(1000)
			low := connect(
				t,
				s,
				log,
				"low",
				packet.V311,
				packet.Subscription{Filter: "pen/+", QoS: 0},
				packet.Subscription{Filter: "pen/9", QoS: 1},
			)
			pub := connect(t, s, log, "pub", packet.V311)
			for _, topic := range []string{"pen/1", "pen/9"} {
				if _, err := pub.Publish(t.Context(),
					packet.Publish{Topic: topic, QoS: 1, Retain: topic == "pen/9"}); err != nil {
					t.Fatal(err)
				}
			}
			synctest.Wait()
			js := trace.NewJourneys(100)
			st := trace.NewStatistics()
			events, _ := log.Read(1, 1000)
			for i := range events {
				js.Add(&events[i])
				st.Add(&events[i])
			}
			all := js.All()
			if len(all) != 2 || len(all[0].Hops) != 1 || all[0].Hops[0].Verdict != want ||
				all[0].Hops[0].Expected != 0 ||
				all[1].Hops[0].Verdict != trace.HopKept {
				t.Errorf("fault %q: %+v %+v", fault, all[0].Hops, all[1].Hops)
			}
			topics, clients := st.Topics(time.Now()), st.Clients(time.Now())
			if len(topics) != 2 || topics[0].Topic != "pen/1" || topics[0].Messages != 1 || topics[0].QoS != 1 ||
				topics[0].Retained || !topics[1].Retained || len(clients) != 2 ||
				clients[0].Client != "low" ||
				clients[0].Got != 2 ||
				clients[1].Published != 2 ||
				!clients[1].Connected {
				t.Errorf("%+v\n%+v", topics, clients)
			}
			low.Disconnect(0)
			pub.Disconnect(0)
		})
	}
}

// TestLargePacketsDoNotPileUp: they push older events out of the log, and neither journeys nor statistics hold them.
func TestLargePacketsDoNotPileUp(t *testing.T) {
	log, js, st := trace.NewLog(1000), trace.NewJourneys(1000), trace.NewStatistics()
	const size = 1 << 20
	heap := func() int {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int(m.HeapAlloc)
	}
	before := heap()
	for i := range 400 {
		raw := (&packet.Publish{Topic: fmt.Sprint("t/", i), Payload: make([]byte, size)}).Append(nil, packet.V311)
		p, _, err := packet.NewReader(bytes.NewReader(raw), packet.V311).Next()
		if err != nil {
			t.Fatal(err)
		}
		log.Add(
			trace.Event{
				Kind:    trace.Received,
				Client:  "c",
				Role:    trace.RoleObserver,
				Packet:  p,
				Raw:     raw,
				At:      time.Now(),
				Meaning: trace.Meaning{Topic: p.(*packet.Publish).Topic},
			},
		)
		e, _ := log.At(log.Next() - 1)
		js.Add(&e)
		st.Add(&e)
	}
	if n := int(log.Next() - log.Oldest()); n < trace.MaxBytes/size-2 || n > trace.MaxBytes/size {
		t.Errorf("%d events are kept", n)
	}
	if _, there := log.At(log.Oldest() - 1); there {
		t.Error("what was pushed out is there")
	}
	if events, missed := log.Read(1, 1000); len(events)+int(missed) != 400 || events[0].Seq != log.Oldest() {
		t.Errorf("%d events, %d missed", len(events), missed)
	}
	if grown := heap() - before; grown > 3*trace.MaxBytes { // each is there raw and decoded
		t.Errorf("%d MB are held", grown>>20)
	}
	if n := len(js.All()); n != 400 {
		t.Errorf("%d journeys", n)
	}
	log.Add(trace.Event{Kind: trace.Sent, Raw: make([]byte, 2*trace.MaxBytes)})
	if log.Oldest() != log.Next()-1 {
		t.Error("the latest is not kept alone")
	}
	for range 2000 {
		log.Add(trace.Event{Kind: trace.Line})
	}
	if n := log.Next() - log.Oldest(); n != 1000 {
		t.Errorf("%d small events are kept", n)
	}
	runtime.KeepAlive(js)
	runtime.KeepAlive(st)
}
