// Package workbench is one open workspace at work: it starts and stops stand-ins,
// observers, devices and proofs, and holds what was seen against the contract. Screens
// and commands both call it.
package workbench

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/reach"
	"hodstone/internal/record"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Limits of a workbench.
const (
	traceLength   = 50_000 // events kept in memory: minutes of a busy site
	journeyLength = 5_000
	tickEvery     = 200 * time.Millisecond
	watchEvery    = 20 * time.Millisecond // far less than the trace's length lasts at full speed
	// connectRate is how many devices connect a second: after a broker's restart a
	// thousand of them would otherwise knock it over again.
	connectRate = 100
)

// Options say how a workbench is run.
type Options struct {
	// Faults are added to those of every stand-in of the workspace.
	Faults []string
	// Seed makes devices repeat; a random one where it is 0.
	Seed uint64
	// Peers is where the stand-ins' clients that are not ours are traced; the bench's own
	// log where it is nil. Tell is told, for people, who of them came, left or was
	// refused; it may be nil.
	Peers *trace.Log
	Tell  func(what, text string)
	// Credentials are files and folders to look at, in place of those that the workspace
	// names.
	Credentials []string
	// Follow re-reads the workspace's file when it is edited, so that what was found out
	// before is seen to be stale.
	Follow bool
	// Reach tries all ways in, and the TLS of the first that has it, at the start.
	Reach bool
}

// Bench is an open workspace at work. Its methods are safe for concurrent use.
type Bench struct {
	// Log is the trace of all devices and observers.
	Log *trace.Log
	// Events are what the wire screen shows: Log, or a record that was opened again.
	Events trace.Reader
	// Record is that record; nil for a bench at work.
	Record *record.File
	// Filter is what the wire screen begins with; see [trace.ParseFilter].
	Filter string
	// Recorder writes Log to a file; nil where nothing is recorded.
	Recorder *record.Recorder

	opt       Options
	ctx       context.Context
	stop      context.CancelFunc
	wg        sync.WaitGroup
	standins  map[string]*standin.Server
	urls      addresses
	observers []*observer
	started   time.Time
	dialled   sync.Map         // the local addresses of our own links to stand-ins
	probes    probes           // those of them that only look
	authority *trust.Authority // of the stand-ins' certificates; nil without TLS

	doc    *workspace.Document
	opened *workspace.Workspace // the first revision: what the stand-ins were made of
	obs    observing
	play   playing
	prov   proving

	mu    sync.Mutex // guards what follows
	reach reaching
	trust trusting
}

// New prepares the workbench and starts the stand-ins, so that addresses are known;
// nothing else runs yet. Its login passwords are completed: those of a stand-in
// that the file leaves out are made up.
func New(w *workspace.Workspace, o Options) (*Bench, error) {
	if o.Seed == 0 {
		o.Seed = mrand.Uint64()
	}
	b := &Bench{
		doc:      workspace.NewDocument(w),
		opened:   w,
		Log:      trace.NewLog(traceLength),
		opt:      o,
		standins: map[string]*standin.Server{},
		started:  time.Now(),
	}
	b.obs.init(w.Contract)
	b.reach = reaching{results: map[string]*reach.Result{}, settings: map[string]string{}}
	b.trust.surveys = map[string]*SurveyState{}
	b.ctx, b.stop = context.WithCancel(context.Background())
	b.Events = b.Log
	for _, br := range w.Brokers {
		for _, l := range br.Listeners {
			b.urls.set(br.Name, l.Name, l.URL)
		}
		if br.StandIn == nil {
			continue
		}
		if err := b.startStandIn(br); err != nil {
			b.Close()
			return nil, err
		}
	}
	return b, nil
}

// Reopen returns a workbench that only shows a record; nothing runs on it.
func Reopen(file *record.File) *Bench {
	name := file.Meta["workspace"]
	if name == "" {
		name = file.Path
	}
	w := &workspace.Workspace{File: file.Path, Name: name, Contract: &contract.Contract{}}
	b := &Bench{
		doc:      workspace.NewDocument(w),
		opened:   w,
		Log:      trace.NewLog(1),
		Events:   file,
		Record:   file,
		standins: map[string]*standin.Server{},
		started:  time.Now(),
	}
	b.obs.init(w.Contract)
	b.reach = reaching{results: map[string]*reach.Result{}, settings: map[string]string{}}
	b.trust.surveys = map[string]*SurveyState{}
	b.ctx, b.stop = context.WithCancel(context.Background())
	b.obs.analysed = 0
	b.wg.Go(b.analyse)
	return b
}

func (b *Bench) startStandIn(br *workspace.Broker) error {
	peers := b.opt.Peers
	if peers == nil {
		peers = b.Log
	}
	var logins []standin.Login
	for _, name := range br.StandIn.Logins {
		l := b.Workspace().Login(name)
		if l == nil {
			continue // told as a problem of the workspace
		}
		if !l.HasPassword && !l.HasToken && l.Certificate == nil {
			var raw [12]byte
			rand.Read(raw[:])
			l.Password, l.HasPassword = workspace.NewSecret(hex.EncodeToString(raw[:])), true
		}
		r := br.StandIn.RightsOf(name)
		logins = append(
			logins,
			standin.Login{Name: name, Username: l.Username, Password: l.Password.Reveal(), Token: l.Token.Reveal(),
				Publish: r.Publish, Subscribe: r.Subscribe},
		)
	}
	faults, err := fault.Set(append(slices.Clone(br.StandIn.Faults), b.opt.Faults...)...)
	if err != nil {
		return err
	}
	s, err := standin.New(
		standin.Options{
			Logins:    logins,
			Anonymous: br.StandIn.Anonymous,
			Limits:    br.StandIn.Limits,
			Hooks:     trace.RecordPeers(br.Name, peers, b.isOurs, b.opt.Tell),
			Faults:    faults,
		},
	)
	if err != nil {
		return err
	}
	b.standins[br.Name] = s
	for i := range br.StandIn.Listeners {
		l := &br.StandIn.Listeners[i]
		config, err := b.certify(l, br.StandIn)
		if err != nil {
			return err
		}
		reached, _, err := s.ListenURL(l.URL, config)
		if err != nil {
			return fmt.Errorf("broker %s: %w", br.Name, err)
		}
		b.urls.set(br.Name, l.Name, reached)
	}
	return nil
}

// isOurs tells whether a stand-in's connection is one that Hodstone made, and so is traced at
// its own end. It goes by the address, for a real device may come under the client identifier
// of the simulated one that it replaces.
func (b *Bench) isOurs(address string, gone bool) bool {
	if b.opt.Peers != nil {
		return false
	}
	if gone {
		b.dialled.Delete(address)
		return true
	}
	_, ours := b.dialled.Load(address)
	return ours
}

// StandIn returns a broker's stand-in at work, or nil.
func (b *Bench) StandIn(broker string) *standin.Server { return b.standins[broker] }

// StandIns names the brokers that are stand-ins at work.
func (b *Bench) StandIns() (out []string) {
	for _, br := range b.Workspace().Brokers {
		if b.standins[br.Name] != nil {
			out = append(out, br.Name)
		}
	}
	return out
}

// URLs returns how a broker's listeners are reached, in their order.
func (b *Bench) URLs(broker string) (out []string) {
	if br := b.Workspace().Broker(broker); br != nil {
		for _, l := range br.Ways() {
			out = append(out, b.urls.get(br.Name, l.Name))
		}
	}
	return out
}

// Authority returns the CA of the stand-ins' certificates; it also signs certificates for
// clients.
func (b *Bench) Authority() (*trust.Authority, error) {
	if b.authority == nil {
		var err error
		if b.authority, err = trust.NewAuthority("Hodstone stand-in"); err != nil {
			return nil, err
		}
	}
	return b.authority, nil
}

// certify makes a stand-in's certificate for a TLS listener, and lets our clients
// trust it.
func (b *Bench) certify(l *workspace.Listener, br *workspace.StandIn) (*tls.Config, error) {
	flaw := br.Certificate
	e, err := link.Parse(l.URL)
	if err != nil || !e.TLS {
		return nil, err
	}
	if own := br.OwnTLS; own != nil { // the user's own, in place of ours
		l.CA = own.CAs
		return &tls.Config{
			Certificates: []tls.Certificate{own.Certificate},
			ClientAuth:   tls.VerifyClientCertIfGiven,
			ClientCAs:    trust.Pool(own.CAs),
		}, nil
	}
	if _, err := b.Authority(); err != nil {
		return nil, err
	}
	names := []string{"localhost", "127.0.0.1", "::1"}
	if !slices.Contains(names, e.Host) {
		names = append(names, e.Host)
	}
	if flaw == "wrong-name" {
		names = []string{"elsewhere.example"}
	}
	cert, err := b.authority.Issue(
		trust.Request{
			CommonName: "stand-in",
			Names:      names,
			Expired:    flaw == "expired",
			Incomplete: flaw == "incomplete",
		},
	)
	if err != nil {
		return nil, err
	}
	l.CA = []*x509.Certificate{b.authority.Root()}
	return &tls.Config{
		Certificates: []tls.Certificate{cert},
		ClientAuth:   tls.VerifyClientCertIfGiven,
		ClientCAs:    b.authority.Pool(),
	}, nil
}

// Start sets the observers and devices going.
func (b *Bench) Start() {
	if b.Record != nil {
		return
	}
	b.started, b.obs.parties = time.Now(), b.Parties()
	b.play.gate = rate.NewLimiter(connectRate, 1)
	for _, kind := range b.Workspace().Devices {
		for n := range max(1, kind.Count) {
			b.play.list = append(b.play.list, b.newDevice(kind, n+1))
		}
	}
	b.observe()
	b.wg.Go(b.watch)
	if b.opt.Follow {
		b.wg.Go(b.follow)
	}
	b.Examine()
	// The observers come first, so that they see the devices arrive.
	b.wg.Go(func() {
		for _, o := range b.present() {
			o.waitReady(b.ctx, time.Second)
		}
		for _, d := range b.play.all() {
			if b.ctx.Err() == nil {
				d.Start()
			}
		}
		if b.opt.Reach && b.ctx.Err() == nil {
			b.StartReach()
			if ways := b.SurveyTargets(); len(ways) > 0 {
				b.StartSurvey(ways[0], trust.Device{})
			}
		}
	})
}

// present returns the observers as they are now.
func (b *Bench) present() []*observer {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.observers)
}

// Close ends everything that the workbench runs and waits for it.
func (b *Bench) Close() {
	b.StopProof()
	b.stop()
	b.wg.Wait()
	var wg sync.WaitGroup
	for _, d := range b.play.all() {
		wg.Go(d.Stop)
	}
	wg.Wait()
	for _, s := range b.standins {
		s.Close()
	}
}

// dialer returns how a broker's listener is reached with a login, which may be nil; ""
// is the first listener.
func (b *Bench) dialer(broker, listener string, login *workspace.Login) func(context.Context) (*link.Link, error) {
	return func(ctx context.Context) (*link.Link, error) {
		l, u, err := b.address(broker, listener)
		if err != nil {
			return nil, err
		}
		var own *tls.Certificate
		if login != nil {
			own = login.Certificate
		}
		config := trust.ClientTLS(l.CA, l.ServerName, own)
		made, err := link.Dial(ctx, u, link.Options{TLS: config})
		if br := b.Workspace().Broker(broker); err == nil && b.standins[br.Name] != nil {
			b.dialled.Store(made.LocalAddr().String(), true)
			b.probes.forget(made.LocalAddr())
		}
		return made, err
	}
}

// address returns a broker's listener and the URL by which it is reached.
func (b *Bench) address(broker, listener string) (l workspace.Listener, url string, err error) {
	br := b.Workspace().Broker(broker)
	if br == nil {
		return l, "", fmt.Errorf("there is no broker %q in the workspace", broker)
	}
	for _, l := range br.Ways() {
		if listener == "" || l.Name == listener {
			return l, b.urls.get(br.Name, l.Name), nil
		}
	}
	return l, "", fmt.Errorf("broker %s has no listener %q", br.Name, listener)
}

// Target returns what a proof needs for BROKER, BROKER/LISTENER, or "" for the first.
func (b *Bench) Target(where string) (proof.Target, error) {
	broker, listener, _ := strings.Cut(where, "/")
	l, url, err := b.address(broker, listener)
	if err != nil {
		return proof.Target{}, err
	}
	br := b.Workspace().Broker(broker)
	login := b.Workspace().Login(br.Login)
	return proof.Target{
		Broker:    br.Name,
		Listener:  l.Name + " " + url,
		URL:       url,
		StandIn:   br.StandIn != nil,
		Dial:      b.probing(b.dialer(br.Name, l.Name, login)),
		Login:     login,
		Anonymous: br.Anonymous,
		Intrusive: br.Intrusive,
		ClientID:  br.ClientID,
	}, nil
}

// Send publishes a message by hand, from Hodstone's own client on the broker ("" for
// the first), and waits for its acknowledgement.
func (b *Bench) Send(ctx context.Context, broker string, m Message) error {
	for _, o := range b.present() {
		if broker == "" || o.broker.Name == broker {
			return o.send(ctx, m)
		}
	}
	return errors.New("there is no broker to send to")
}

// BrokerState is how Hodstone's own client stands at a broker.
type BrokerState struct {
	Name    string
	URL     string
	StandIn bool
	Faults  []string
	In      bool
	Why     string // why it is not in
	// Leaves tells that our client is there only because [Bench.StayIn] was asked for: [Bench.Leave]
	// ends it.
	Leaves bool
	// Plain tells that the observer's password goes over a link that is not encrypted, to a
	// broker that is not ours.
	Plain bool
	// Ping is the latest round trip of a PINGREQ, 0 for none. Silent is how long one has been
	// without an answer, 0 where that is no longer than sound links take.
	Ping, Silent time.Duration
}

// Brokers returns the brokers that are watched.
func (b *Bench) Brokers() []BrokerState {
	var out []BrokerState
	b.obs.mu.Lock()
	pings, silent := b.obs.monitor.Pings(time.Now())
	b.obs.mu.Unlock()
	for _, o := range b.present() {
		s := o.state()
		s.Ping, s.Silent, s.Leaves = pings[s.Name], silent[s.Name], o.leave != nil
		if si := o.broker.StandIn; si != nil {
			s.StandIn, s.Faults = true, append(append([]string(nil), si.Faults...), b.opt.Faults...)
		}
		out = append(out, s)
	}
	return out
}
