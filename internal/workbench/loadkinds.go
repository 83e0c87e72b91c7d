package workbench

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/sending"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// kindOf makes a kind of clients.
func (l *Loader) kindOf(c workspace.LoadClients, cl *contract.Clause, listener string) (fleet.Kind, error) {
	if d := l.b.kind(c.Kind); d != nil {
		return l.devices(d, c.Count, cl)
	}
	scheme := workspace.Transports[c.Kind]
	for _, way := range l.broker.Ways() {
		url := l.b.brokers.urls.get(l.broker.Name, way.Name)
		if url == "" {
			url = way.URL
		}
		if s, _, _ := strings.Cut(
			url,
			"://",
		); s != scheme &&
			s != map[string]string{"mqtt": "tcp", "mqtts": "ssl"}[scheme] {
			continue
		}
		if listener != "" && len(l.load.Clients) == 1 && way.Name != listener {
			continue
		}
		return l.plainKind(c, way)
	}
	return fleet.Kind{}, fmt.Errorf("broker %s has no listener for %s clients (%s://)", l.broker.Name, c.Kind, scheme)
}

// credentials is who a client that is no device comes as.
func (l *Loader) credentials(n int) *workspace.Login {
	x := l.load
	if len(x.Credentials) > 0 {
		c := x.Credentials[(n-1)%len(x.Credentials)]
		return &workspace.Login{Name: c[0], Username: c[0], Password: workspace.NewSecret(c[1]), HasPassword: true}
	}
	w := l.b.Workspace()
	if x.Login != "" {
		return w.Login(workspace.FillIn(x.Login, n))
	}
	return w.Login(l.broker.Login)
}

// plainKind are clients that are no devices.
func (l *Loader) plainKind(c workspace.LoadClients, way workspace.Listener) (fleet.Kind, error) {
	version := l.load.Version
	if version == 0 {
		version = l.broker.Version
	}
	if version == 0 {
		version = packet.V5
	}
	if l.load.Login != "" && len(l.load.Credentials) == 0 && l.credentials(1) == nil {
		return fleet.Kind{}, fmt.Errorf("there is no login %q", workspace.FillIn(l.load.Login, 1))
	}
	dials := l.dials(way)
	base := l.base + "/" + c.Kind
	return fleet.Kind{
		Name: c.Kind, Count: c.Count, Filter: base + "/+", TLS: l.encrypted(way),
		Topic: func(n int) string { return base + "/" + strconv.Itoa(n) },
		Client: func(n int) client.Options {
			login := l.credentials(n)
			const alive = 60
			o := client.Options{Dial: dials(n, login), Version: version, Connect: packet.Connect{
				ClientID: l.ownID(c.Kind, n), CleanStart: true, KeepAlive: alive,
			}}
			login.Apply(&o)
			return o
		},
	}, nil
}

// encrypted tells whether a listener has TLS.
func (l *Loader) encrypted(way workspace.Listener) bool {
	_, url, err := l.b.address(l.broker.Name, way.Name)
	e, parsed := link.Parse(url)
	return err == nil && parsed == nil && e.TLS
}

// ownID is the client identifier of a client of the fleet's own: 23 letters and digits at most (3.1.1 §3.1.3.1), or as the
// broker's rule says.
func (l *Loader) ownID(kind string, n int) string {
	run := l.base[strings.LastIndexByte(l.base, '/')+1:]
	id := "hl" + run[max(0, len(run)-6):] + kind + strconv.Itoa(n)
	if p := l.broker.ClientID; p != "" {
		return strings.ReplaceAll(p, "{n}", strconv.Itoa(1_000_000+n))
	}
	return id
}

// dials returns how the clients of a listener dial. One TLS configuration serves all that show the same certificate.
func (l *Loader) dials(
	way workspace.Listener,
) func(n int, login *workspace.Login) func(context.Context) (*link.Link, error) {
	var mu sync.Mutex
	configs := map[*tls.Certificate]*tls.Config{}
	broker := l.broker.Name
	return func(n int, login *workspace.Login) func(context.Context) (*link.Link, error) {
		return func(ctx context.Context) (*link.Link, error) {
			own, url, err := l.b.address(broker, way.Name)
			if err != nil {
				return nil, err
			}
			var pair *tls.Certificate
			if login != nil {
				pair = login.Certificate
			}
			mu.Lock()
			config := configs[pair]
			if config == nil {
				config = trust.ClientTLS(own.CA, own.ServerName, pair)
				configs[pair] = config
			}
			mu.Unlock()
			o := link.Options{TLS: config}
			if l.b.StandIn(broker) != nil {
				o.Opened = func(local net.Addr) { l.b.brokers.dialled.Store(local.String(), true) }
			}
			if all := l.load.Locals; len(all) > 0 {
				o.Local = all[(n-1)%len(all)]
			}
			return link.Dial(ctx, url, o)
		}
	}
}

// beyondSite is the number of a client of a kind of devices: they count on behind those that the workspace has, which may be at the
// broker too, played or real, and are not thrown out.
func beyondSite(d *workspace.Device, n int) int { return max(1, d.Count) + n }

// devices are clients as a kind of devices connects, each with its own number, behind those of the workspace.
func (l *Loader) devices(d *workspace.Device, count int, cl *contract.Clause) (fleet.Kind, error) {
	w := l.b.Workspace()
	if d.Broker != l.broker.Name {
		return fleet.Kind{}, fmt.Errorf(
			"%s speaks to broker %s, and the load is on %s: one load has one broker",
			d.Name,
			d.Broker,
			l.broker.Name,
		)
	}
	listener := d.Listener
	if l.load.Listener != "" {
		listener = l.load.Listener
	}
	way, _, err := l.b.address(d.Broker, listener)
	if err != nil {
		return fleet.Kind{}, err
	}
	loginOf := func(n int) *workspace.Login {
		if len(l.load.Credentials) > 0 {
			return l.credentials(n)
		}
		if found := w.Login(workspace.FillIn(d.Login, n)); found != nil {
			return found
		}
		return w.Login(workspace.FillIn(d.Login, (n-1)%max(1, d.Count)+1)) // there are only so many
	}
	if d.Login != "" && loginOf(1) == nil {
		return fleet.Kind{}, fmt.Errorf("there is no login %q", workspace.FillIn(d.Login, 1))
	}
	dials := l.dials(way)
	base := l.base + "/" + d.Name
	kind := fleet.Kind{
		Name: d.Name, Count: count, Filter: base + "/+", TLS: l.encrypted(way),
		Topic: func(n int) string { return base + "/" + strconv.Itoa(n) },
		Client: func(n int) client.Options {
			login, s, last := loginOf(beyondSite(d, n)), d.Session, n > count
			n = beyondSite(d, n)
			o := client.Options{
				Dial:      dials(n, login),
				Version:   s.Version,
				InFlight:  s.InFlight,
				MaxPacket: s.MaxPacket,
				Connect: packet.Connect{
					ClientID: workspace.FillIn(
						s.ClientID,
						n,
					),
					CleanStart: s.CleanStart,
					KeepAlive:  uint16(s.KeepAlive / time.Second),
				},
			}
			if last { // who hears or publishes for all is no device
				o.Connect.ClientID = l.ownID(d.Name, n)
				login = w.Login(l.broker.Login)
				o.Dial = dials(n, login)
			}
			login.Apply(&o)
			return o
		},
	}
	if cl == nil {
		return kind, nil
	}
	if cl.From != d.Plays {
		return fleet.Kind{}, fmt.Errorf(
			"%s plays %s, and clause %s is published by %s",
			d.Name,
			d.Plays,
			cl.Name,
			cl.From,
		)
	}
	kind.Filter = cl.Topic.Filter()
	kind.Topic = func(n int) string { return cl.Topic.Fill(parameters(d, beyondSite(d, n))) }
	if topic := kind.Topic(1); strings.ContainsAny(topic, "+{") {
		return fleet.Kind{}, fmt.Errorf(
			"the topic of %s has parameters that %s does not give: %s",
			cl.Name,
			d.Name,
			topic,
		)
	}
	kind.Compose, err = l.composed(d, cl)
	return kind, err
}

func parameters(d *workspace.Device, n int) map[string]string {
	out := map[string]string{}
	for k, v := range d.Parameters {
		out[k] = workspace.FillIn(v, n)
	}
	return out
}

// composed makes messages of a clause: its example, or what the device's signals make.
func (l *Loader) composed(d *workspace.Device, cl *contract.Clause) (func(int, uint64) (packet.Publish, error), error) {
	if l.load.From == workspace.FromSize {
		return nil, nil
	}
	if l.load.From == workspace.FromSignals {
		w := l.b.Workspace()
		var mu sync.Mutex
		all := map[int]*device.Device{}
		make1 := func(n int) *device.Device {
			return device.New(
				device.Options{Kind: d, Number: beyondSite(d, n), Contract: w.Contract, Seed: l.plan.Seed},
			)
		}
		if _, err := make1(1).Compose(cl.Name); err != nil {
			return nil, fmt.Errorf("%s cannot be composed of the signals of %s: %w", cl.Name, d.Name, err)
		}
		return func(n int, _ uint64) (packet.Publish, error) {
			mu.Lock()
			x := all[n]
			if x == nil {
				x = make1(n)
				all[n] = x
			}
			mu.Unlock()
			return x.Compose(cl.Name)
		}, nil
	}
	var body []byte
	if len(cl.Examples) > 0 {
		body = cl.Examples[0].Payload
	} else {
		text := sending.Sample(&cl.Payload)
		var err error
		if body, err = cl.Payload.Read(text); text == "" || err != nil {
			return nil, fmt.Errorf("clause %s has no example: give it one, or take its payload from signals", cl.Name)
		}
	}
	return func(int, uint64) (packet.Publish, error) { return packet.Publish{Payload: body}, nil }, nil
}
