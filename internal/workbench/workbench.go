// Package workbench is one open workspace at work: it starts and stops stand-ins,
// observers, devices and proofs, and holds what was seen against the contract. Screens
// and commands both call it.
package workbench

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
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
	// At is BROKER/LISTENER that all devices speak to, in place of what the workspace says; "" for that.
	At string
	// Proofs is the file that proofs are kept in; "" keeps them as long as the bench is open.
	Proofs string
	// Reach tries all ways in, and the TLS of the first that has it, at the start.
	Reach bool
}

// Bench is an open workspace at work. Its methods are safe for concurrent use.
type Bench struct {
	editing sync.Mutex // held while a revision of the workspace comes into force
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

	opt     Options
	ctx     context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
	started time.Time

	doc    *workspace.Document
	opened *workspace.Workspace // the first revision: what the stand-ins were made of

	// The parts of the bench, each with a lock of its own.
	brokers    brokers
	observers  observers
	obs        observing
	play       playing
	reach      reaching
	trust      trusting
	prov       proving
	keeping    keeping
	trying     trying
	explore    exploring
	noting     noting
	tapping    tapping
	saying     saying
	subjecting subjecting
	loads      loads
}

// New prepares the workbench and starts the stand-ins, so that addresses are known;
// nothing else runs yet. Its login passwords are completed: those of a stand-in
// that the file leaves out are made up.
func New(w *workspace.Workspace, o Options) (*Bench, error) {
	if o.Seed == 0 {
		o.Seed = mrand.Uint64()
	}
	b := &Bench{
		doc:     workspace.NewDocument(w),
		opened:  w,
		Log:     trace.NewLog(traceLength),
		opt:     o,
		started: time.Now(),
	}
	b.doc.Prepare(keepSecrets)
	b.obs.init(w.Contract)
	b.brokers.standins = map[string]*standin.Server{}
	b.reach.init()
	b.trust.surveys = map[string]*SurveyState{}
	b.ctx, b.stop = context.WithCancel(context.Background())
	b.Events = b.Log
	for _, br := range w.Brokers {
		for _, l := range br.Listeners {
			b.brokers.urls.set(br.Name, l.Name, l.URL)
		}
		if br.StandIn == nil {
			continue
		}
		if err := b.startStandIn(br); err != nil {
			b.Close()
			return nil, err
		}
	}
	if err := b.moveTo(o.At); err != nil {
		b.Close()
		return nil, err
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
		doc:     workspace.NewDocument(w),
		opened:  w,
		Log:     trace.NewLog(1),
		Events:  file,
		Record:  file,
		started: time.Now(),
	}
	b.obs.init(w.Contract)
	b.brokers.standins = map[string]*standin.Server{}
	b.reach.init()
	b.trust.surveys = map[string]*SurveyState{}
	b.ctx, b.stop = context.WithCancel(context.Background())
	b.obs.analysed = 0
	b.wg.Go(b.analyse)
	return b
}

// Start sets the observers and devices going.
func (b *Bench) Start() {
	if b.Record != nil {
		return
	}
	b.started = time.Now()
	b.obs.plays(b.Players())
	b.play.gate = rate.NewLimiter(connectRate, 1)
	for _, kind := range b.Workspace().Devices {
		for n := range max(1, kind.Count) {
			b.play.list = append(b.play.list, b.newDevice(kind, n+1))
		}
	}
	b.observe()
	b.startTaps()
	b.wg.Go(b.watch)
	if b.opt.Follow {
		b.wg.Go(b.follow)
	}
	b.Examine()
	// The observers come first, so that they see the devices arrive.
	b.wg.Go(func() {
		for _, o := range b.observers.all() {
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
	b.closeTaps()
	for _, s := range b.brokers.standins {
		s.Close()
	}
}

// Fingerprint names the state of the workspace's file: the first half of its SHA-256.
func (b *Bench) Fingerprint() string {
	sum := sha256.Sum256([]byte(b.doc.Text()))
	return fmt.Sprintf("SHA-256 %x… of the workspace's file", sum[:16])
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
		Limited:   b.limited(br),
		Way:       b.way(br, l, url, login),
		Doors:     b.doors(br, l.Name, login),
		Agreement: b.agreement(br, l.Name),
		Restart:   b.restarter(br),
	}, nil
}

// agreement is what the contract says about the logins at a broker, as clients of a listener come; nil without a
// contract.
func (b *Bench) agreement(br *workspace.Broker, listener string) *proof.Agreement {
	w := b.Workspace()
	if len(w.Contract.Clauses) == 0 {
		return nil
	}
	a := &proof.Agreement{Contract: w.Contract, Unrestricted: br.Accepted[workspace.DoorUnrestricted]}
	access, _ := w.Access()
	first := len(br.Ways()) > 0 && br.Ways()[0].Name == listener
	kinds := map[string]int{}
	for _, l := range w.Logins {
		known := br.StandIn == nil || slices.Contains(br.StandIn.Logins, l.Name)
		if !known || l.Name == br.Login {
			continue
		}
		s := proof.Speaker{Login: l, Dial: b.probing(b.dialer(br.Name, listener, l)), Here: true}
		if i := slices.IndexFunc(access, func(x workspace.Access) bool { return x.Login == l.Name }); i >= 0 {
			s.Party, s.Values = access[i].Party, access[i].Parameters
			s.Here = here(w, br, s.Party, listener, first)
			if kinds[s.Party]++; kinds[s.Party] > maxPerKind {
				a.More++
				continue
			}
		}
		a.Speakers = append(a.Speakers, s)
	}
	return a
}

// here tells whether clients of a party come by a listener of a broker: as its devices do, or, where the workspace has
// none, by any.
func here(w *workspace.Workspace, br *workspace.Broker, party, listener string, first bool) bool {
	none := true
	for _, d := range w.Devices {
		if d.Plays != party {
			continue
		}
		if none = false; w.Broker(d.Broker) == br && (d.Listener == listener || d.Listener == "" && first) {
			return true
		}
	}
	return none
}

// way is how a listener is reached below MQTT; nil where that cannot be told.
func (b *Bench) way(br *workspace.Broker, l workspace.Listener, url string, login *workspace.Login) *proof.Way {
	endpoint, err := link.Parse(url)
	if err != nil {
		return nil
	}
	w := &proof.Way{
		Endpoint:       endpoint,
		CAs:            l.CA,
		LeastTLS:       l.LeastTLS,
		ClientRequired: l.ClientCertificate,
		Opened:         b.probed,
	}
	if br.StandIn != nil {
		w.Opened = func(local net.Addr) {
			b.brokers.dialled.Store(local.String(), true)
			b.probed(local)
		}
	}
	if endpoint.TLS {
		var own *tls.Certificate
		if login != nil {
			own = login.Certificate
		}
		w.TLS = trust.ClientTLS(l.CA, l.ServerName, own)
	}
	return w
}

// doors are the other listeners of a broker.
func (b *Bench) doors(br *workspace.Broker, but string, login *workspace.Login) (out []proof.Door) {
	for _, l := range br.Ways() {
		if l.Name != but {
			out = append(out, proof.Door{Name: l.Name, Dial: b.probing(b.dialer(br.Name, l.Name, login))})
		}
	}
	return out
}

// limited finds a login of a stand-in that may not publish or subscribe to everything; nil where there is none.
func (b *Bench) limited(br *workspace.Broker) *proof.Limited {
	if br.StandIn == nil {
		return nil
	}
	for _, name := range br.StandIn.Logins {
		r, l := br.StandIn.RightsOf(name), b.Workspace().Login(name)
		if l == nil || name == br.Login || r.Publish == nil || r.Subscribe == nil {
			continue
		}
		return &proof.Limited{Login: l, Publish: filled(r.Publish, name), Subscribe: filled(r.Subscribe, name)}
	}
	return nil
}

// filled puts a login's name into filters.
func filled(filters []string, login string) (out []string) {
	for _, f := range filters {
		out = append(out, strings.ReplaceAll(f, "{login}", login))
	}
	return out
}

// Send publishes a message by hand, from Hodstone's own client on the broker ("" for
// the first), and waits for its acknowledgement.
func (b *Bench) Send(ctx context.Context, broker string, m Message) error {
	for _, o := range b.observers.all() {
		if broker == "" || o.broker.Name == broker {
			return o.send(ctx, m)
		}
	}
	return errors.New("there is no broker to send to")
}
