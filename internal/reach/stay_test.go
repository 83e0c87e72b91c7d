package reach

import (
	"context"
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

// watched is a stand-in with clients whose events a monitor reads.
type watched struct {
	t   *testing.T
	s   *standin.Server
	log *trace.Log
	m   *Monitor
	at  uint64
}

func (w *watched) client(name, id string, role trace.Role, v packet.Version) *client.Client {
	return client.New(
		client.Options{Dial: func(ctx context.Context) (*link.Link, error) { return w.s.Dial(ctx) }, Version: v,
			Connect: packet.Connect{ClientID: id, CleanStart: true, KeepAlive: 10},
			Hooks:   trace.Record(trace.Source{Client: name, Role: role, Broker: "quay", Version: v}, w.log)},
	)
}

func (w *watched) enter(c *client.Client) {
	w.t.Helper()
	if _, err := c.Connect(context.Background()); err != nil {
		w.t.Fatal(err)
	}
}

// stay lets the monitor read what came, and returns how things stand.
func (w *watched) stay() *Stay {
	synctest.Wait()
	for {
		events, _ := w.log.Read(w.at, 1000)
		if len(events) == 0 {
			break
		}
		for i := range events {
			w.m.Add(&events[i])
		}
		w.at = events[len(events)-1].Seq + 1
	}
	s := w.m.Stays()[0]
	return &s
}

func watch(t *testing.T, test func(*watched)) {
	synctest.Test(t, func(t *testing.T) {
		s, err := standin.New(standin.Options{Anonymous: true})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		test(&watched{t: t, s: s, log: trace.NewLog(10_000), m: NewMonitor(), at: 1})
	})
}

func TestGapsAreToldWithWhoCausedThem(t *testing.T) {
	watch(t, func(w *watched) {
		o := w.client("observer", "eyes", trace.RoleObserver, packet.V5)
		w.enter(o)
		for range 3 {
			if _, err := o.Ping(context.Background()); err != nil {
				t.Fatal(err)
			}
			time.Sleep(2 * time.Second)
		}
		if s := w.stay(); !s.In || len(s.Samples) != 3 || s.Lost != 0 || len(s.Gaps) != 0 {
			t.Errorf("%+v", s)
		}
		// The broker ends it, with a code.
		w.s.ThrowOut("eyes")
		<-o.Done()
		time.Sleep(3 * time.Second)
		if s := w.stay(); s.In || s.Gaps[0].Length(time.Now()) != 3*time.Second {
			t.Errorf("out: %+v", s)
		}
		w.enter(o)
		g := w.stay().Gaps[0]
		if g.Blame != client.ByBroker || !strings.Contains(g.Evidence, "0x98, administrative action") ||
			g.Length(time.Now()) != 3*time.Second ||
			g.Purpose != "" ||
			g.Tries != 1 {
			t.Errorf("thrown out: %+v", g)
		}
		// We end it, on purpose.
		w.m.Purpose("quay", "cut", time.Now())
		time.Sleep(40 * time.Millisecond)
		o.Cut()
		time.Sleep(time.Second)
		w.enter(o)
		g = w.stay().Gaps[1]
		if g.Blame != client.ByUs || g.Purpose != "cut" || g.Detection() != 40*time.Millisecond ||
			g.Length(time.Now()) != time.Second {
			t.Errorf("cut: %+v", g)
		}
		// Nothing comes any more: the keep alive runs out, and the ping is lost.
		w.s.Close()
		<-o.Done()
		s := w.stay()
		if g = s.Gaps[2]; s.In || g.Blame == client.ByUs || !g.To.IsZero() {
			t.Errorf("the broker is gone: %+v", g)
		}
		if _, err := o.Connect(context.Background()); err == nil {
			t.Fatal("a closed broker lets in")
		}
		if g = w.stay().Gaps[2]; g.Tries != 1 || g.Why == "" {
			t.Errorf("an attempt that failed is not counted: %+v", g)
		}
	})
}

// TestAPulledCableIsNoticed: nothing is refused and nothing closed, so that only silence tells.
func TestAPulledCableIsNoticed(t *testing.T) {
	watch(t, func(w *watched) {
		o := w.client("observer", "eyes", trace.RoleObserver, packet.V5)
		w.enter(o)
		began := time.Now()
		ping := func() { o.Ping(context.Background()) }
		ping()
		w.m.Purpose("quay", "freeze", time.Now())
		w.m.Withdraw("quay")
		if s := w.stay(); len(s.Gaps) != 0 || s.Silent(time.Now()) != 0 {
			t.Errorf("what did not happen is kept: %+v", s)
		}
		time.Sleep(10 * time.Second)
		w.m.Purpose("quay", "freeze", time.Now())
		if err := o.Pull(); err != nil {
			t.Fatal(err)
		}
		go ping()
		time.Sleep(5 * time.Second)
		s := w.stay()
		latest, silent := w.m.Pings(time.Now())
		if got := s.Silent(time.Now()); !s.In || got != 5*time.Second || silent["quay"] != got ||
			latest["quay"] != s.Samples[0].RTT ||
			!s.Gaps[0].From.IsZero() {
			t.Errorf("silent for %v, %v: %+v", got, silent, s)
		}
		<-o.Done()
		time.Sleep(5 * time.Second)
		w.enter(o)
		s = w.stay()
		if g := s.Gaps[0]; g.Blame != client.BySilence || g.Detection() != 10*time.Second ||
			g.Length(time.Now()) != 5*time.Second ||
			s.Silent(time.Now()) != 0 {
			t.Errorf("%+v", g)
		}
		// In spans of five seconds; the client's keep alive has pinged at 7.5 s and 17.5 s too.
		got := ""
		for _, b := range s.Bins(began, began.Add(30*time.Second), 6) {
			switch {
			case b.Out:
				got += "╳"
			case b.Lost:
				got += "!"
			case b.Pings > 0:
				got += "─"
			default:
				got += "."
			}
		}
		if s.Lost != 2 || got != "──!!╳╳" {
			t.Errorf("drawn %s: %+v", got, s)
		}
		if _, err := o.Ping(context.Background()); err != nil {
			t.Error(err)
		}
		// Left for good, it is not missed; come again, it is.
		w.m.Leave("quay")
		o.Disconnect(0)
		if s = w.stay(); s.In || !s.Left || len(s.Gaps) != 1 {
			t.Errorf("left: %+v", s)
		}
		w.enter(o)
		o.Close()
		if s = w.stay(); s.In || s.Left || len(s.Gaps) != 2 {
			t.Errorf("come again, and gone: %+v", s)
		}
		if err := o.Pull(); err == nil {
			t.Error("pulled without a link")
		}
	})
}

func TestTwoClientsWithOneIdentifierAreFound(t *testing.T) {
	for _, v := range []packet.Version{packet.V311, packet.V5} {
		watch(t, func(w *watched) {
			a, b := w.client("pen-1", "feeder", trace.RoleDevice, v), w.client("pen-2", "feeder", trace.RoleDevice, v)
			other := w.client("pen-3", "pen-3", trace.RoleDevice, v)
			w.enter(other)
			w.enter(a)
			for range 3 { // they throw each other out in turn
				time.Sleep(5 * time.Second)
				w.enter(b)
				<-a.Done()
				a, b = b, a
			}
			other.Cut()
			s := w.stay()
			if len(s.Findings) != 1 ||
				s.Findings[0].What != `pen-1 and pen-2 share the client identifier "feeder", and throw each other out` {
				t.Errorf("%s: %+v", v, s.Findings)
			}
			if s.Reconnects["pen-3"] != 0 || s.Reconnects["pen-1"]+s.Reconnects["pen-2"] == 0 {
				t.Errorf("came back: %v", s.Reconnects)
			}
			a.Close()
			b.Close()
		})
	}
}

func TestASilentBrokerIsBlamedOnSilence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ours, theirs := link.Pipe()
		defer theirs.Close()
		go func() { // a broker that says CONNACK and nothing more
			b := make([]byte, 1024)
			theirs.Read(b)
			theirs.Write((&packet.Connack{}).Append(nil, packet.V311))
			for {
				if _, err := theirs.Read(b); err != nil {
					return
				}
			}
		}()
		w := &watched{t: t, log: trace.NewLog(100), m: NewMonitor(), at: 1}
		o := client.New(
			client.Options{
				Dial:    func(context.Context) (*link.Link, error) { return ours, nil },
				Version: packet.V311,
				Connect: packet.Connect{ClientID: "eyes", CleanStart: true, KeepAlive: 4},
				Hooks: trace.Record(
					trace.Source{Client: "observer", Role: trace.RoleObserver, Broker: "quay", Version: packet.V311},
					w.log,
				),
			},
		)
		w.enter(o)
		<-o.Done()
		s := w.stay()
		if g := s.Gaps[0]; g.Blame != client.BySilence || s.Lost == 0 || len(s.Samples) != s.Lost ||
			!s.Samples[0].Lost {
			t.Errorf("%+v", s)
		}
		for want, err := range map[client.Blame]error{client.ByReset: &client.EndedError{End: link.EndRST}, client.ByBroker: &client.EndedError{End: link.EndFIN},
			client.ByUnknown: &client.EndedError{End: link.EndFailed}, client.ByUs: nil} {
			if got := client.BlameOf(err); got != want {
				t.Errorf("%v is blamed on %s, not %s", err, got, want)
			}
		}
	})
}
