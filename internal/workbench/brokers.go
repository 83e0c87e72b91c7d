package workbench

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// brokers are those of the workspace at work: the stand-ins, and how all of them are reached.
type brokers struct {
	standins map[string]*standin.Server // made when the workspace is opened, and not changed after
	urls     addresses
	dialled  sync.Map // the local addresses of our own links to stand-ins
	probes   probes   // those of them that only look

	mu        sync.Mutex       // guards what follows
	authority *trust.Authority // of the stand-ins' certificates; nil before it is needed
}

// startStandIn starts a broker's stand-in on its listeners.
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
			Pace:      br.StandIn.Pace,
			Hooks:     trace.RecordPeers(br.Name, peers, b.isOurs, b.opt.Tell),
			Faults:    faults,
			System:    true,
		},
	)
	if err != nil {
		return err
	}
	b.brokers.standins[br.Name] = s
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
		b.brokers.urls.set(br.Name, l.Name, reached)
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
		b.brokers.dialled.Delete(address)
		return true
	}
	_, ours := b.brokers.dialled.Load(address)
	return ours
}

// StandIn returns a broker's stand-in at work, or nil.
func (b *Bench) StandIn(broker string) *standin.Server { return b.brokers.standins[broker] }

// StandIns names the brokers that are stand-ins at work.
func (b *Bench) StandIns() (out []string) {
	for _, br := range b.Workspace().Brokers {
		if b.brokers.standins[br.Name] != nil {
			out = append(out, br.Name)
		}
	}
	return out
}

// URLs returns how a broker's listeners are reached, in their order.
func (b *Bench) URLs(broker string) (out []string) {
	if br := b.Workspace().Broker(broker); br != nil {
		for _, l := range br.Ways() {
			out = append(out, b.brokers.urls.get(br.Name, l.Name))
		}
	}
	return out
}

// Authority returns the CA of the stand-ins' certificates; it also signs certificates for
// clients.
func (b *Bench) Authority() (*trust.Authority, error) {
	b.brokers.mu.Lock()
	defer b.brokers.mu.Unlock()
	if b.brokers.authority == nil {
		var err error
		if b.brokers.authority, err = trust.NewAuthority("Hodstone stand-in"); err != nil {
			return nil, err
		}
	}
	return b.brokers.authority, nil
}

// certify makes a stand-in's certificate for a TLS listener, and lets our clients
// trust it.
func (b *Bench) certify(l *workspace.Listener, br *workspace.StandIn) (*tls.Config, error) {
	flaw := br.Certificate
	if all, err := fault.Set(append(slices.Clone(br.Faults), b.opt.Faults...)...); err == nil {
		for _, f := range all {
			if f.Certificate != "" {
				flaw = f.Certificate
			}
		}
	}
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
	authority, err := b.Authority()
	if err != nil {
		return nil, err
	}
	names := []string{"localhost", "127.0.0.1", "::1"}
	if !slices.Contains(names, e.Host) {
		names = append(names, e.Host)
	}
	if flaw == "wrong-name" {
		names = []string{"elsewhere.example"}
	}
	cert, err := authority.Issue(
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
	l.CA = []*x509.Certificate{authority.Root()}
	return &tls.Config{
		Certificates: []tls.Certificate{cert},
		ClientAuth:   tls.VerifyClientCertIfGiven,
		ClientCAs:    authority.Pool(),
	}, nil
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
		// At once: a dial that is given up meanwhile is ours too.
		return link.Dial(ctx, u, link.Options{TLS: config, Opened: func(local net.Addr) {
			if br := b.Workspace().Broker(broker); br != nil && b.brokers.standins[br.Name] != nil {
				b.brokers.dialled.Store(local.String(), true)
				b.brokers.probes.forget(local)
			}
		}})
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
			return l, b.brokers.urls.get(br.Name, l.Name), nil
		}
	}
	return l, "", fmt.Errorf("broker %s has no listener %q", br.Name, listener)
}

// addresses are how listeners are reached. Safe for concurrent use; the zero value is empty.
type addresses struct {
	mu    sync.Mutex
	known map[string]string // by BROKER/LISTENER
}

func (a *addresses) get(broker, listener string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.known[broker+"/"+listener]
}

func (a *addresses) set(broker, listener, url string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.known == nil {
		a.known = map[string]string{}
	}
	a.known[broker+"/"+listener] = url
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
	// Behind is how late messages come to the observer, whoever sends them; 0 for not.
	Behind time.Duration
}

// Brokers returns the brokers that are watched.
func (b *Bench) Brokers() []BrokerState {
	var out []BrokerState
	b.obs.mu.Lock()
	pings, silent := b.obs.monitor.Pings(time.Now())
	late := map[string]time.Duration{}
	for name, x := range b.obs.eyes {
		late[name] = x.behind.late(time.Now())
	}
	b.obs.mu.Unlock()
	for _, o := range b.observers.all() {
		s := o.state()
		s.Behind = late[s.Name]
		s.Ping, s.Silent, s.Leaves = pings[s.Name], silent[s.Name], o.leave != nil
		if si := o.broker.StandIn; si != nil {
			s.StandIn, s.Faults = true, append(append([]string(nil), si.Faults...), b.opt.Faults...)
		}
		out = append(out, s)
	}
	return out
}
