package trace_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
)

// follow runs what a log holds through journeys and statistics.
func follow(log *trace.Log) (*trace.Journeys, map[string]trace.TopicStatistics) {
	js, st := trace.NewJourneys(1000), trace.NewStatistics()
	events, _ := log.Read(1, 10_000)
	for i := range events {
		js.Add(&events[i])
		st.Add(&events[i])
	}
	topics := map[string]trace.TopicStatistics{}
	for _, t := range st.Topics(time.Now()) {
		topics[t.Topic] = t
	}
	return js, topics
}

// hops writes journeys as lines: sender, QoS, and what each receiver got.
func hops(js *trace.Journeys) string {
	var out []string
	for _, j := range js.All() {
		s := fmt.Sprintf("%s %q from %q", j.Topic, j.Payload, j.Sender)
		if j.Will {
			s += " will"
		}
		for _, h := range j.Hops {
			s += fmt.Sprintf(" %s:%d", h.Client, h.Verdict)
			if h.Copy {
				s += "copy"
			}
		}
		out = append(out, s)
	}
	return strings.Join(out, "\n")
}

// TestWhatAPacketMeansIsWorkedOutOnce: aliases, refused reconnects and stored copies on subscriptions that
// keep the flag; journeys and statistics say the same.
func TestWhatAPacketMeansIsWorkedOutOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Logins: []standin.Login{{Name: "u", Password: "sesame"}}})
		defer s.Close()
		log := trace.NewLog(10_000)
		src := func(name string) client.Hooks {
			return trace.Record(trace.Source{Client: name, Role: trace.RoleDevice, Version: packet.V5}, log)
		}
		login := packet.Connect{
			CleanStart:  true,
			HasUsername: true,
			Username:    "u",
			HasPassword: true,
			Password:    []byte("sesame"),
		}
		as := func(id string, change func(*client.Options)) *client.Client {
			o := client.Options{Dial: s.Dial, Version: packet.V5, Connect: login, Hooks: src(id)}
			o.Connect.ClientID = id
			if change != nil {
				change(&o)
			}
			return client.New(o)
		}
		enter := func(c *client.Client) {
			t.Helper()
			if _, err := c.Connect(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
		pub := as("pub", func(o *client.Options) { o.UseAliases = true })
		enter(pub)
		say := func(topic, text string, retain bool) {
			t.Helper()
			if _, err := pub.Publish(t.Context(), packet.Publish{Topic: topic, Payload: []byte(text), QoS: 1, Retain: retain}); err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
		}
		say("pen/state", "old", true)
		time.Sleep(5 * time.Second)
		keeper := as("keeper", func(o *client.Options) {
			o.Connect.CleanStart = false
			o.Connect.Properties = packet.Properties{
				packet.Int(packet.SessionExpiry, 100),
				packet.Int(packet.TopicAliasMaximum, 5),
			}
		})
		enter(keeper)
		if _, err := keeper.Subscribe(t.Context(), []packet.Subscription{{Filter: "pen/#", QoS: 1, RetainAsPublished: true}}); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		time.Sleep(3 * time.Second)
		for _, text := range []string{"1", "2", "3"} { // the second and third come under aliases, both ways
			say("pen/oxygen", text, false)
		}
		say("pen/state", "new", true)
		keeper.Disconnect(0)
		// A reconnect that is refused leaves the session as it was.
		s.Refuse(true)
		if _, err := keeper.Connect(t.Context()); err == nil {
			t.Fatal("it was to be refused")
		}
		s.Refuse(false)
		enter(keeper)
		say("pen/oxygen", "4", false)
		js, topics := follow(log)
		want := `pen/state "old" from "pub"
pen/state "old" from "" keeper:0copy
pen/oxygen "1" from "pub" keeper:1
pen/oxygen "2" from "pub" keeper:1
pen/oxygen "3" from "pub" keeper:1
pen/state "new" from "pub" keeper:1
pen/oxygen "4" from "pub" keeper:1`
		if got := hops(js); got != want {
			t.Errorf("got\n%s\nwant\n%s", got, want)
		}
		if o, st := topics["pen/oxygen"], topics["pen/state"]; len(topics) != 2 || o.Messages != 4 || o.Copies != 0 ||
			st.Messages != 2 ||
			st.Copies != 1 {
			t.Errorf("%+v", topics)
		}
		keeper.Disconnect(0)
		pub.Disconnect(0)
	})
}

// TestWhatAFrozenLinkHolds: nothing counts as sent before it has left; a frozen client's will is known to
// be its own; what never leaves is lost.
func TestWhatAFrozenLinkHolds(t *testing.T) {
	for _, thaws := range []bool{true, false} {
		t.Run(fmt.Sprintf("thaws %v", thaws), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s, _ := standin.New(standin.Options{Anonymous: true})
				defer s.Close()
				log := trace.NewLog(10_000)
				pen := client.New(
					client.Options{
						Dial:    s.Dial,
						Version: packet.V311,
						Hooks: trace.Record(
							trace.Source{Client: "pen-1", Role: trace.RoleDevice, Version: packet.V311},
							log,
						),
						Connect: packet.Connect{
							ClientID:   "pen-1",
							CleanStart: true,
							KeepAlive:  10,
							Will:       &packet.Will{Topic: "status", Payload: []byte("lost"), QoS: 1},
						},
					},
				)
				if _, err := pen.Connect(t.Context()); err != nil {
					t.Fatal(err)
				}
				shore := connect(t, s, log, "shore", packet.V5, packet.Subscription{Filter: "#", QoS: 1})
				if err := pen.Freeze(); err != nil {
					t.Fatal(err)
				}
				if _, err := pen.Start(packet.Publish{Topic: "oxygen", Payload: []byte("8"), QoS: 1}); err != nil {
					t.Fatal(err)
				}
				time.Sleep(time.Second)
				if js, _ := follow(log); hops(js) != "" || count(log, trace.Held) != 1 {
					t.Errorf("held: %q, %d", hops(js), count(log, trace.Held))
				}
				want, lost := "oxygen \"8\" from \"pen-1\" shore:1", 0
				if thaws {
					pen.Thaw()
				} else {
					time.Sleep(30 * time.Second) // the broker gives it up
					pen.Close()
					want, lost = "status \"lost\" from \"pen-1\" will shore:1", 1
				}
				synctest.Wait()
				js, topics := follow(log)
				if got := hops(js); got != want || count(log, trace.Lost) != lost {
					t.Errorf("got %s, %d lost, want %s, %d", got, count(log, trace.Lost), want, lost)
				}
				if (topics["oxygen"].Messages == 1) != thaws {
					t.Errorf("%+v", topics)
				}
				pen.Disconnect(0)
				shore.Disconnect(0)
			})
		})
	}
	t.Run("delayed", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			s, _ := standin.New(standin.Options{Anonymous: true})
			defer s.Close()
			log := trace.NewLog(10_000)
			pen := connect(t, s, log, "pen-1", packet.V311)
			pen.Slow(link.Pace{Delay: 4 * time.Second})
			pen.Start(packet.Publish{Topic: "oxygen", Payload: []byte("8")})
			time.Sleep(3 * time.Second)
			if count(log, trace.Held) != 1 || s.Clients()[0].Published != 0 {
				t.Error("it has left already")
			}
			time.Sleep(2 * time.Second)
			js, _ := follow(log)
			if all := js.All(); len(all) != 1 || s.Clients()[0].Published != 1 {
				t.Error("it has not left", len(all))
			}
			pen.Start(packet.Publish{Topic: "oxygen", Payload: []byte("9")})
			pen.Cut()
			if js, _ := follow(log); len(js.All()) != 1 || count(log, trace.Lost) != 1 {
				t.Error("what was cut off counts as sent")
			}
		})
	})
}

// count counts the PUBLISH packets of a kind.
func count(log *trace.Log, k trace.Kind) (n int) {
	events, _ := log.Read(1, 10_000)
	for i := range events {
		if events[i].Kind == k && events[i].Publish() != nil {
			n++
		}
	}
	return n
}

// TestMemoryIsBoundedByWhatMayStillArrive: clients whose names never come again, with wills, messages and
// acknowledgements that never come, leave nothing behind.
func TestMemoryIsBoundedByWhatMayStillArrive(t *testing.T) {
	js, st := trace.NewJourneys(1000), trace.NewStatistics()
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	seq := uint64(0)
	add := func(kind trace.Kind, client string, p packet.Packet, link client.LinkEvent) {
		seq++
		at = at.Add(2 * time.Millisecond)
		e := trace.Event{
			Seq:     seq,
			At:      at,
			Client:  client,
			Role:    trace.RolePeer,
			Version: packet.V5,
			Conn:    1,
			Kind:    kind,
			Packet:  p,
			Link:    link,
		}
		if m := e.Publish(); m != nil {
			e.Meaning.Topic = m.Topic
		}
		js.Add(&e)
		st.Add(&e)
	}
	round := func(from, to int) {
		for i := from; i < to; i++ {
			name := fmt.Sprintf("a-client-with-a-name-of-some-length-%d", i)
			add(
				trace.Sent,
				name,
				&packet.Connect{
					ClientID:   name,
					CleanStart: true,
					Will:       &packet.Will{Topic: "gone/" + name, Payload: []byte(name)},
				},
				"",
			)
			add(trace.Received, name, &packet.Connack{}, "")
			add(trace.Sent, name, &packet.Publish{Topic: "t/" + name, QoS: 1, ID: 1, Payload: []byte(name)}, "")
			add(trace.Link, name, nil, client.LinkEnded)
		}
	}
	used := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	round(0, 30_000) // beyond every bound
	before := used()
	round(30_000, 150_000)
	after := used()
	if after > before+8<<20 {
		t.Errorf("%d MB after 30,000 clients, %d MB after 150,000", before>>20, after>>20)
	}
	runtime.KeepAlive(js)
	runtime.KeepAlive(st)
}
