package standin_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

const mib = 1 << 20

// raw is a client that writes bytes and reads nothing.
func raw(t *testing.T, s *standin.Server, id string, v packet.Version, ps ...packet.Property) *link.Link {
	t.Helper()
	l, err := s.Dial(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	l.Write((&packet.Connect{Level: v, ClientID: id, CleanStart: true, Properties: ps}).Append(nil, v))
	return l
}

// TestAClientThatNeverReads: what it is sent and what it asks for does not pile up, it is disconnected in the end, and
// nobody else notices.
func TestAClientThatNeverReads(t *testing.T) {
	converse(
		t,
		standin.Options{Anonymous: true, Limits: standin.Limits{Memory: 64 * mib}},
		func(t *testing.T, s *standin.Server, v packet.Version) {
			deaf := raw(t, s, "deaf", v)
			defer deaf.Close()
			deaf.Write((&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "big"}}}).Append(nil, v))
			synctest.Wait()
			pub, sub := newPeer(t, s, v, "pub"), newPeer(t, s, v, "sub")
			pub.connect(t)
			sub.connect(t)
			sub.subscribe(t, "small", 1)
			payload := bytes.Repeat([]byte("x"), mib)
			for i := range 100 {
				pub.publish(t, packet.Publish{Topic: "big", Payload: payload})
				pub.publish(t, packet.Publish{Topic: "small", QoS: 1, Payload: []byte(fmt.Sprint(i))})
				synctest.Wait()
				if n := s.Held(); n > 32*mib {
					t.Fatalf("%d bytes are held after %d messages", n, i)
				}
			}
			time.Sleep(time.Millisecond) // what comes as a stream is read a moment's worth at a time
			synctest.Wait()
			if got := strings.Count(sub.messages(), "small"); got != 100 {
				t.Errorf("another client got %d of 100", got)
			}
			for _, c := range s.Clients() {
				if c.ID == "deaf" && c.Dropped < 80 {
					t.Errorf("%d dropped", c.Dropped)
				}
			}
			time.Sleep(3 * time.Minute)
			synctest.Wait()
			for _, c := range s.Clients() {
				if c.ID == "deaf" && c.Connected {
					t.Error("it stays connected though it takes nothing")
				}
			}
			pub.Disconnect(0)
			sub.Disconnect(0)
		},
	)
}

// TestUnreadAnswersEndAConnection: a client that asks without end and takes no answer.
func TestUnreadAnswersEndAConnection(t *testing.T) {
	s, _ := standin.New(standin.Options{Anonymous: true})
	defer s.Close()
	a, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l, err := link.Dial(t.Context(), "mqtt://"+a.String())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	l.Write((&packet.Connect{Level: packet.V311, ClientID: "asks", CleanStart: true}).Append(nil, packet.V311))
	asks := bytes.Repeat((&packet.Pingreq{}).Append(nil, packet.V311), 32<<10)
	most := 0
	for start := time.Now(); ; {
		if _, err := l.Write(asks); err != nil {
			break // it was disconnected
		}
		most = max(most, s.Held())
		if time.Since(start) > time.Minute {
			t.Fatal("it may ask for ever")
		}
	}
	if most > 40*mib {
		t.Errorf("%d bytes of answers were held", most)
	}
}

// TestOverALimitIsToldByTheCode: stored messages, sessions and subscriptions beyond what there is room for.
func TestOverALimitIsToldByTheCode(t *testing.T) {
	converse(
		t,
		standin.Options{Anonymous: true, Limits: standin.Limits{Memory: 4 * mib}},
		func(t *testing.T, s *standin.Server, v packet.Version) {
			ctx := context.Background()
			v5 := v == packet.V5
			p := newPeer(t, s, v, "p")
			p.connect(t)
			synctest.Wait()
			before, refused := s.Held(), 0
			for i := range 10 {
				code, err := p.Publish(
					ctx,
					packet.Publish{
						Topic:   fmt.Sprint("r/", i),
						QoS:     1 + packet.QoS(i%2),
						Retain:  true,
						Payload: make([]byte, mib/2),
					},
				)
				if err != nil || code != 0 && code != packet.QuotaExceeded && code != packet.NoMatchingSubscribers {
					t.Fatalf("%v %v", code, err)
				}
				if code == packet.QuotaExceeded {
					refused++
				}
			}
			if v5 && (refused < 2 || refused > 4) || !v5 && refused != 0 || s.Held() > 4*mib {
				t.Errorf("%d of 10 refused, %d bytes held", refused, s.Held())
			}
			if !strings.Contains(fmt.Sprint(s.Refusals()), "no room to store it") {
				t.Errorf("%v", s.Refusals())
			}
			// A smaller one in place of a large one, and a cleared one, make room.
			p.publish(t, packet.Publish{Topic: "r/0", QoS: 1, Retain: true, Payload: []byte("small")})
			if code, _ := p.Publish(ctx, packet.Publish{Topic: "r/9", QoS: 1, Retain: true,
				Payload: make([]byte, mib/4)}); code == packet.QuotaExceeded {
				t.Error("no room where a large one has gone")
			}
			for i := range 10 {
				p.publish(t, packet.Publish{Topic: fmt.Sprint("r/", i), QoS: 1, Retain: true})
			}
			synctest.Wait() // the last answer is written
			if n := s.Held(); n != before {
				t.Errorf("%d bytes are held after all was cleared, %d before", n, before)
			}

			// Kept sessions: at some point there is no room for another, but for those that are there.
			keep := func(o *client.Options) {
				o.Connect.CleanStart = false
				if v5 {
					o.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 3600)}
				}
			}
			var err error
			n := 0
			for ; n < 5000 && err == nil; n++ {
				k := newPeer(t, s, v, fmt.Sprint("kept", n), keep)
				if _, err = k.Connect(ctx); err == nil {
					k.Disconnect(0)
				}
			}
			var no *client.RefusedError
			want := map[bool]packet.ReasonCode{true: packet.QuotaExceeded, false: packet.RefusedUnavailable}[v5]
			if !errors.As(err, &no) || no.Code != want || n < 500 || n > 2000 {
				t.Errorf("after %d sessions: %v", n, err)
			}
			again := newPeer(t, s, v, "kept3", keep)
			if ack := again.connect(t); !ack.SessionPresent && v != packet.V31 {
				t.Error("who was there before finds no room")
			}
			ack, err := again.Subscribe(
				ctx,
				[]packet.Subscription{{Filter: strings.Repeat("deep/", 900) + "x"}, {Filter: "a"}},
			)
			if err != nil || v5 && ack.Codes[0] != packet.QuotaExceeded ||
				v == packet.V311 && ack.Codes[0] != packet.SubackFailure {
				t.Errorf("a subscription without room: %+v %v", ack, err)
			}
			again.Disconnect(0)
			p.Disconnect(0)
		},
	)
}

// TestWhatNoClientMaySend: topics of too many levels, and a subscription identifier on a PUBLISH.
func TestWhatNoClientMaySend(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		deep := strings.Repeat("/", 1000)
		p := newPeer(t, s, v, "p")
		p.connect(t)
		ack, err := p.Subscribe(t.Context(), []packet.Subscription{{Filter: deep}, {Filter: deep[1:]}})
		want := map[packet.Version]string{packet.V31: "[0 0]", packet.V311: "[128 0]", packet.V5: "[143 0]"}[v]
		if err != nil || fmt.Sprint(ack.Codes) != want {
			t.Errorf("%v %v, want %s", ack.Codes, err, want)
		}
		p.Start(packet.Publish{Topic: deep})
		<-p.Done()
		if err := p.Ended(); v == packet.V5 && !strings.Contains(err.Error(), "0x90") {
			t.Errorf("a topic of 1001 levels: %v", err)
		}
		if v != packet.V5 {
			return
		}
		p.connect(t)
		p.Send(&packet.Publish{Topic: "a", Properties: packet.Properties{packet.Int(packet.SubscriptionIdentifier, 1)}})
		<-p.Done()
		if err := p.Ended(); !strings.Contains(err.Error(), "0x82") {
			t.Errorf("a subscription identifier: %v", err)
		}
		// Only DISCONNECT 0x00 discards the will (5.0 §3.14.4).
		w, see := newPeer(
			t,
			s,
			v,
			"w",
			func(o *client.Options) { o.Connect.Will = &packet.Will{Topic: "gone", Payload: []byte("x")} },
		), newPeer(
			t,
			s,
			v,
			"see",
		)
		see.connect(t)
		see.subscribe(t, "gone", 0)
		for _, code := range []packet.ReasonCode{0, packet.DisconnectWithWill, packet.UnspecifiedError,
			packet.AdministrativeAction} {
			w.connect(t)
			w.Disconnect(code)
			synctest.Wait()
			if got := see.messages(); (got != "") != (code != 0) {
				t.Errorf("DISCONNECT %#x: %q", byte(code), got)
			}
		}
		see.Disconnect(0)
	})
}

// TestAResumedSessionHeedsTheNewLimits: the receive maximum and the packet size of the connection it comes back by.
func TestAResumedSessionHeedsTheNewLimits(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		if v != packet.V5 {
			return
		}
		pub := newPeer(t, s, v, "pub")
		pub.connect(t)
		come := func(ps ...packet.Property) (*link.Link, func() []packet.Packet) {
			l, err := s.Dial(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			ps = append(ps, packet.Int(packet.SessionExpiry, 3600))
			l.Write((&packet.Connect{Level: v, ClientID: "sub", Properties: ps}).Append(nil, v))
			r := packet.NewReader(l, v)
			got := make(chan packet.Packet, 1000)
			go func() {
				for {
					p, _, err := r.Next()
					if err != nil {
						return
					}
					got <- p
				}
			}()
			return l, func() (out []packet.Packet) {
				synctest.Wait()
				for len(got) > 0 {
					out = append(out, <-got)
				}
				return out
			}
		}
		l, got := come()
		l.Write((&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "a", QoS: 1}}}).Append(nil, v))
		got()
		for i := range 5 {
			pub.publish(
				t,
				packet.Publish{Topic: "a", QoS: 1, Payload: bytes.Repeat([]byte{byte('0' + i)}, 10+40*(i%2))},
			)
		}
		if n := len(got()); n != 5 {
			t.Fatalf("%d messages", n)
		}
		l.Cut()
		synctest.Wait()
		l, got = come(packet.Int(packet.ReceiveMaximum, 2), packet.Int(packet.MaximumPacketSize, 40))
		var all []string
		for range 4 {
			took := got()
			messages := 0
			for _, p := range took {
				if m, ok := p.(*packet.Publish); ok {
					messages++
					all = append(all, fmt.Sprintf("%c%v", m.Payload[0], m.Dup))
					l.Write((&packet.Puback{Ack: packet.Ack{ID: m.ID}}).Append(nil, v))
				}
			}
			if messages > 2 {
				t.Errorf("%d messages at once, though it takes 2", messages)
			}
		}
		if fmt.Sprint(all) != "[0true 2true 4true]" {
			t.Errorf("came: %v", all)
		}
		l.Cut()
		pub.Disconnect(0)
	})
}

// TestStoredMessagesComeInOrder: thousands greet a subscription in slices; what is published meanwhile comes after the
// stored message of its topic, and another client's message is not held up by them.
func TestStoredMessagesComeInOrder(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		pub := newPeer(t, s, v, "pub")
		pub.connect(t)
		const n = 3000
		for i := range n {
			pub.publish(t, packet.Publish{Topic: fmt.Sprint("r/", i), QoS: 1, Retain: true, Payload: []byte("old")})
		}
		for qos := packet.QoS(0); qos <= 1; qos++ {
			last := map[string]string{}
			count := map[string]int{}
			sub := newPeer(t, s, v, fmt.Sprint("sub", qos), func(o *client.Options) {
				o.Message = func(m *packet.Publish) {
					count[string(m.Payload)]++
					if last[m.Topic] == "new" && string(m.Payload) == "old" {
						t.Errorf("%s: the stored one came after the new one", m.Topic)
					}
					last[m.Topic] = string(m.Payload)
				}
			})
			sub.connect(t)
			done := make(chan struct{})
			go func() { sub.subscribe(t, "r/#", qos); close(done) }()
			for i := range 50 {
				pub.publish(t, packet.Publish{Topic: fmt.Sprint("r/", 37*i), QoS: 1, Payload: []byte("new")})
			}
			<-done
			synctest.Wait()
			if count["old"] != n || len(last) != n {
				t.Errorf("QoS %d: %d stored messages of %d, %d topics", qos, count["old"], n, len(last))
			}
			sub.Disconnect(0)
		}
		pub.Disconnect(0)
	})
}

// TestNothingIsCountedForEver: after conversations at random, when all clients, sessions and stored messages are gone,
// nothing is held.
func TestNothingIsCountedForEver(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		r := rand.New(rand.NewPCG(uint64(v), 7))
		var peers []*peer
		for i := range 6 {
			peers = append(peers, newPeer(t, s, v, fmt.Sprint("p", i), func(o *client.Options) {
				o.Connect.CleanStart = i%2 == 0
				o.Connect.Will = &packet.Will{
					Topic:   fmt.Sprint("w/", i),
					Payload: []byte("lost"),
					QoS:     packet.QoS(i % 3),
					Retain:  i%3 == 0,
				}
				if v == packet.V5 {
					o.Connect.Properties = packet.Properties{
						packet.Int(packet.SessionExpiry, uint32(30*i)),
						packet.Int(packet.ReceiveMaximum, 2),
					}
				}
			}))
		}
		for range 600 {
			p := peers[r.IntN(len(peers))]
			if !p.Connected() {
				p.Connect(context.Background())
				continue
			}
			filter := []string{"a", "a/#", "+/b", "w/+", "#", "$share/g/a"}[r.IntN(6)]
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			switch r.IntN(8) {
			case 0, 1:
				p.Subscribe(ctx, []packet.Subscription{{Filter: filter, QoS: packet.QoS(r.IntN(3))}})
			case 2:
				p.Unsubscribe(ctx, filter)
			case 3, 4, 5:
				p.Publish(
					ctx,
					packet.Publish{
						Topic:   []string{"a", "a/b", "c/b"}[r.IntN(3)],
						QoS:     packet.QoS(r.IntN(3)),
						Retain:  r.IntN(3) == 0,
						Payload: make([]byte, r.IntN(2000)),
					},
				)
			case 6:
				p.Cut()
			default:
				p.Disconnect(0)
			}
			cancel()
			if r.IntN(20) == 0 {
				time.Sleep(20 * time.Second)
			}
		}
		for i, p := range peers { // all come once more with a clean session, and go
			if p.Connected() {
				p.Disconnect(0)
			}
			clean := newPeer(t, s, v, fmt.Sprint("p", i))
			clean.connect(t)
			clean.Disconnect(0)
		}
		p := newPeer(t, s, v, "last")
		p.connect(t)
		for _, topic := range []string{"a", "a/b", "c/b", "w/0", "w/1", "w/2", "w/3", "w/4", "w/5"} {
			p.publish(t, packet.Publish{Topic: topic, QoS: 1, Retain: true})
		}
		p.Disconnect(0)
		synctest.Wait()
		if n := s.Held(); n != 0 {
			t.Errorf("%d bytes are held of nothing: %+v", n, s.Clients())
		}
	})
}
