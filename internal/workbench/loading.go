package workbench

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
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
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/sending"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Loader carries a load out on a broker of the workspace.
type Loader struct {
	b      *Bench
	load   *workspace.Load
	broker *workspace.Broker
	target string // for people
	fleet  *fleet.Fleet
	plan   fleet.Plan
	base   string // of the topics that are the fleet's own
	sample *sample
}

// LoadOptions say how a load is carried out.
type LoadOptions struct {
	Shard fleet.Shard
	Seed  uint64
}

// Loading prepares a load. Errors: a broker that may not be loaded, clients of which there is no listener or login, a clause that
// has no example.
func (b *Bench) Loading(x *workspace.Load, o LoadOptions) (*Loader, error) {
	if b.Record != nil {
		return nil, errors.New("a record bears no load")
	}
	l := &Loader{b: b, load: x}
	name, listener := x.Broker, x.Listener
	for _, c := range x.Clients {
		if d := b.kind(c.Kind); d != nil && name == "" {
			name, listener = d.Broker, d.Listener
		}
	}
	if l.broker = b.Workspace().Broker(name); l.broker == nil {
		return nil, fmt.Errorf("the workspace has no usable broker %q to load", name)
	}
	first, url, err := b.address(l.broker.Name, listener)
	if err != nil {
		return nil, err
	}
	if err := l.allowed(url); err != nil {
		return nil, err
	}
	l.target = l.broker.Name + "/" + first.Name + " " + url
	l.base = "hodstone/load/" + proof.RunID()
	p := &l.plan
	*p = fleet.Plan{
		Name:     x.Name,
		Shape:    x.Shape,
		Others:   x.Others,
		Size:     x.Size,
		Every:    x.Every,
		Jitter:   x.Jitter,
		Each:     x.Each,
		Connects: x.Connects,
		Storm:    x.Storm,
		Bound:    x.Bound,
		Find:     x.Find,
		Shard:    o.Shard,
		Seed:     o.Seed,
		WillBase: l.base + "/will",
		Broker:   l.process(url),
		Facts:    l.facts,
		Log:      l.lines,
	}
	if restart := b.restarter(l.broker); restart != nil {
		p.Restart = func() error { return restart(b.ctx, false) }
	}
	cl := b.Workspace().Contract.Clause(x.Clause)
	if x.Clause != "" && cl == nil {
		return nil, fmt.Errorf("the contract has no clause %q", x.Clause)
	}
	if cl != nil && cl.QoS != nil {
		p.QoS = *cl.QoS
	}
	if cl != nil && cl.Retain != nil {
		p.Retain = *cl.Retain
	}
	if x.QoS != nil {
		p.QoS = *x.QoS
	}
	if x.Retain != nil {
		p.Retain = *x.Retain
	}
	for _, c := range x.Clients {
		k, err := l.kindOf(c, cl, listener)
		if err != nil {
			return nil, err
		}
		p.Kinds = append(p.Kinds, k)
	}
	l.steps()
	if l.sample, err = l.sampled(cl); err != nil {
		return nil, err
	}
	l.fleet, err = fleet.New(*p)
	return l, err
}

// kind returns a kind of devices of the workspace, or nil.
func (b *Bench) kind(name string) *workspace.Device {
	for _, d := range b.Workspace().Devices {
		if d.Name == name {
			return d
		}
	}
	return nil
}

// allowed tells why the broker may not be loaded, or nil: a stand-in and one on this machine may.
func (l *Loader) allowed(url string) error {
	if l.broker.StandIn != nil || l.broker.Load || loopback(url) {
		return nil
	}
	return fmt.Errorf(
		"broker %s is neither a stand-in nor on this machine, and others may depend on it: if it is yours to load, write 'load: allowed' under it in the workspace",
		l.broker.Name,
	)
}

// loopback tells whether a URL leads to this machine.
func loopback(url string) bool {
	e, err := link.Parse(url)
	if err != nil {
		return false
	}
	if e.Network == "unix" || strings.EqualFold(e.Host, "localhost") {
		return true
	}
	ip, err := netip.ParseAddr(strings.Trim(e.Host, "[]"))
	return err == nil && ip.IsLoopback()
}

// process tells of the broker's process where that runs here.
func (l *Loader) process(url string) func() fleet.Process {
	if l.b.StandIn(l.broker.Name) != nil {
		return func() fleet.Process {
			p := fleet.ProcessOf(os.Getpid())
			p.Own, p.Name = true, "stand-in"
			return p
		}
	}
	e, err := link.Parse(url)
	if err != nil || !loopback(url) {
		return nil
	}
	_, port, err := net.SplitHostPort(e.Address)
	n, err2 := strconv.Atoi(port)
	if err != nil || err2 != nil {
		return nil
	}
	var mu sync.Mutex
	pid := 0
	return func() fleet.Process {
		mu.Lock()
		defer mu.Unlock()
		p := fleet.ProcessOf(pid)
		if pid == 0 || !p.Known {
			pid = fleet.Listening(n)
			p = fleet.ProcessOf(pid)
		}
		return p
	}
}

// lines are what followed logs have said since a time, the last of it.
func (l *Loader) lines(since time.Time) (out []string) {
	const most = 2000
	log := l.b.Log
	for next := max(log.Oldest(), 1); ; {
		some, _ := log.Read(next, most)
		if len(some) == 0 {
			break
		}
		for i := range some {
			if some[i].Role == trace.RoleLog && some[i].At.After(since) {
				out = append(out, some[i].Text)
			}
		}
		next = some[len(some)-1].Seq + 1
	}
	return out[max(0, len(out)-most):]
}

// steps makes the ramp.
func (l *Loader) steps() {
	x, p := l.load, &l.plan
	all := float64(p.Total())
	step := func(v float64) fleet.Step { return fleet.Step{Clients: int(v), Rate: x.Rate} }
	from, to := x.RampFrom, x.RampTo
	if x.RampOf == "rate" {
		step = func(v float64) fleet.Step { return fleet.Step{Clients: int(all), Rate: v} }
	} else if to == 0 || to > all {
		to = all
	}
	if from == 0 || from > to {
		from = to
	}
	if x.Over > 0 && x.Find == "" {
		first, last := step(from), step(to)
		first.Hold, last.Over, last.Hold = time.Second, x.Over, x.Hold
		p.Steps = []fleet.Step{first, last}
		return
	}
	by := x.RampBy
	if x.Find != "" { // a search makes steps of its own
		by = max(1, to-from)
	}
	p.Steps = fleet.Ramp(from, to, by, x.Hold, x.Falls, step)
}

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

// Target is where the load goes, for people.
func (l *Loader) Target() string { return l.target }

// Clients is how many clients of the workspace's load the whole fleet has.
func (l *Loader) Clients() int { return l.plan.Total() }

// Length is about how long it takes: the holding of the steps, without what is searched.
func (l *Loader) Length() (d time.Duration) {
	for _, s := range l.plan.Steps {
		d += s.Hold + s.Over
	}
	return d
}

// State returns how the load stands.
func (l *Loader) State() fleet.State { return l.fleet.State() }

// Hold keeps the load at its step, or lets it go on.
func (l *Loader) Hold(is bool) { l.fleet.Hold(is) }

// loadEcho is for how long after a load what it let the broker send may still reach an observer.
const loadEcho = 10 * time.Second

// topics are those of the contract on which the fleet publishes in the place of devices that the site does not have; what
// comes on them is judged by the load's own sample, and is no matter of the site's.
func (l *Loader) topics() map[string]bool {
	if l.load.Clause == "" {
		return nil
	}
	out := map[string]bool{}
	for _, k := range l.plan.Kinds {
		for n := range k.Count {
			if topic := k.Topic(n + 1); !trace.OwnTopic(topic) {
				out[topic] = true
			}
		}
	}
	return out
}

// Run carries the load out; see [fleet.Fleet.Run].
func (l *Loader) Run(ctx context.Context) *fleet.Result {
	stop := l.sample.begin(ctx)
	l.b.obs.loads(l, l.topics())
	defer time.AfterFunc(loadEcho, func() { l.b.obs.loadEnds(l) })
	r := l.fleet.Run(ctx)
	stop()
	r.Target = l.target
	l.sample.told(r)
	return r
}

// loads hold the load under way on an open bench, and the results of this session.
type loads struct {
	mu      sync.Mutex // guards what follows
	now     *Loader
	cancel  context.CancelFunc
	results []*fleet.Result
	err     error
}

// LoadState is how the loads stand.
type LoadState struct {
	Name, Target string
	State        fleet.State
	Judged       int // of the load under way
	Broken       int
	Results      []*fleet.Result // that ended, the latest last; not changed afterwards
	Err          error           // why the last could not begin
}

// StartLoad begins a load of the workspace in the background.
func (b *Bench) StartLoad(x *workspace.Load) error {
	t := &b.loads
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now != nil {
		return fmt.Errorf("%s is under way: stop it first", t.now.load.Name)
	}
	l, err := b.Loading(x, LoadOptions{Seed: b.opt.Seed})
	if t.err = err; err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	t.now, t.cancel = l, cancel
	b.wg.Go(func() {
		r := l.Run(ctx)
		cancel()
		t.mu.Lock()
		defer t.mu.Unlock()
		const most = 20
		t.results = append(t.results[max(0, len(t.results)-most+1):], r)
		t.now, t.cancel = nil, nil
	})
	return nil
}

// StopLoad ends the load under way.
func (b *Bench) StopLoad() {
	b.loads.mu.Lock()
	defer b.loads.mu.Unlock()
	if b.loads.cancel != nil {
		b.loads.cancel()
	}
}

// HoldLoad keeps the load at its step, or lets it go on.
func (b *Bench) HoldLoad() {
	b.loads.mu.Lock()
	defer b.loads.mu.Unlock()
	if l := b.loads.now; l != nil {
		l.Hold(!l.State().Held)
	}
}

// ExportLoad writes a load's result into a file, as .csv (its seconds) or .json (all of it). It overwrites nothing.
func (b *Bench) ExportLoad(name string, r *fleet.Result) error {
	write := report.WriteLoadJSON
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv":
		write = report.WriteLoadCSV
	case ".json":
	default:
		return fmt.Errorf("%s: a load is written as .svg, .pdf, .csv or .json", name)
	}
	return create(name, func(w io.Writer) error { return write(w, r) })
}

// LoadState returns how the loads stand.
func (b *Bench) LoadState() (s LoadState) {
	t := &b.loads
	t.mu.Lock()
	defer t.mu.Unlock()
	s.Results, s.Err = slices.Clone(t.results), t.err
	if l := t.now; l != nil {
		s.Name, s.Target, s.State = l.load.Name, l.target, l.State()
		l.sample.mu.Lock()
		s.Judged, s.Broken = l.sample.judged, l.sample.broken
		l.sample.mu.Unlock()
	}
	return s
}
