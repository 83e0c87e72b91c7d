package workbench

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// site is the bench as trials see it.
type site struct{ b *Bench }

func (s site) Log() *trace.Log                   { return s.b.Log }
func (s site) Contract() *contract.Contract      { return s.b.Workspace().Contract }
func (s site) Device(name string) *device.Device { return s.b.Device(name) }
func (s site) Devices() []*device.Device         { return s.b.play.all() }

func (s site) Publish(ctx context.Context, m packet.Publish) error {
	return s.b.Send(ctx, "", Message{Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Retain: m.Retain})
}

func (s site) Tap(name string) *tap.Tap { return s.b.Tap(name) }

func (s site) Breaches() []contract.Breach { return s.b.Snapshot().Breaches }

// used are the brokers that devices use.
func (s site) used() map[string]bool {
	out := map[string]bool{}
	for _, d := range s.b.play.all() {
		out[d.State().Broker] = true
	}
	return out
}

func (s site) Blind(since time.Time) string { return s.b.blind(since, s.used()) }

func (s site) Late(since time.Time) string { return s.b.late(since, s.used()) }

// blind is why the observers at some brokers have not seen everything since; "" where they have.
func (b *Bench) blind(since time.Time, used map[string]bool) string {
	for _, x := range b.Snapshot().Sights {
		switch {
		case !used[x.Eye]:
		case !x.Ever:
			return "the observer at " + x.Eye + " has not begun to see"
		case !x.Open:
			return "the observer at " + x.Eye + " is blind"
		case x.Since.After(since):
			return fmt.Sprintf("the observer at %s was blind until %s", x.Eye, x.Since.Format("15:04:05.000"))
		}
	}
	return ""
}

// restartFor is how long a stand-in is down, and backWithin how soon an observer sees again afterwards.
const (
	restartFor = time.Second
	backWithin = 20 * time.Second
)

func (s site) Restart(ctx context.Context, broker string) error {
	standIn := s.b.StandIn(broker)
	if standIn == nil {
		return fmt.Errorf("broker %s is not a stand-in: only a person can restart it", broker)
	}
	down := time.Now()
	standIn.Restart(ctx, restartFor, false)
	ctx, cancel := context.WithTimeout(ctx, backWithin)
	defer cancel()
	for {
		i := slices.IndexFunc(
			s.b.Snapshot().Sights,
			func(x contract.Sight) bool { return x.Eye == broker && x.Open && x.Since.After(down) },
		)
		if i >= 0 {
			return nil
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return fmt.Errorf("the observer at %s does not see again", broker)
		}
	}
}

// storedQuiet is how long what is stored is waited for.
const storedQuiet = 500 * time.Millisecond

func (s site) Stored(ctx context.Context, broker, topic string) (out []packet.Publish, err error) {
	w := s.b.Workspace()
	br := w.Broker(broker)
	if br == nil {
		return nil, fmt.Errorf("there is no broker %s", broker)
	}
	login := w.Login(br.Login)
	got := make(chan packet.Publish, 64)
	o := client.Options{
		Dial:    s.b.probing(s.b.dialer(broker, "", login)),
		Version: br.Version,
		Connect: packet.Connect{ClientID: client.NewID(), CleanStart: true, KeepAlive: 30},
		Hooks: trace.Record(
			trace.Source{Client: "newcomer", Role: trace.RoleProbe, Broker: broker, Version: br.Version},
			s.b.Log,
		),
		Message: func(m *packet.Publish) {
			select {
			case got <- *m:
			default:
			}
		},
	}
	if br.ClientID != "" {
		o.Connect.ClientID = br.OwnID()
	}
	login.Apply(&o)
	c := client.New(o)
	if _, err := c.Connect(ctx); err != nil {
		return nil, err
	}
	defer c.Disconnect(0)
	if _, err := c.Subscribe(ctx, []packet.Subscription{{Filter: topic, QoS: 1}}); err != nil {
		return nil, err
	}
	quiet := time.After(storedQuiet)
	for {
		select {
		case m := <-got:
			if m.Retain {
				out = append(out, m)
			}
		case <-quiet:
			return out, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
