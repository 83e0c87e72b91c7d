// Package reach finds out whether a client gets in at a broker, stage by stage, and, where it
// does not, why: the cause, not the symptom, with a remedy that fits what was seen.
package reach

import (
	"context"
	"crypto/x509"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Stage is a part of the way in.
type Stage string

// The stages, in their order. A way in has those that its URL asks for.
const (
	StageName      Stage = "name"
	StageTCP       Stage = "TCP"
	StageTLS       Stage = "TLS"
	StageUpgrade   Stage = "upgrade"
	StageConnect   Stage = "CONNECT"
	StageRoundTrip Stage = "round trip"
)

// Stages returns the stages of an endpoint.
func Stages(e link.Endpoint) []Stage {
	s := []Stage{StageName, StageTCP}
	if e.TLS {
		s = append(s, StageTLS)
	}
	if e.WebSocket {
		s = append(s, StageUpgrade)
	}
	return append(s, StageConnect, StageRoundTrip)
}

// State is how a stage stands.
type State string

// The states.
const (
	Untried State = "not tried"
	Done    State = "done"
	Failed  State = "failed"
)

// Step is a stage as it went.
type Step struct {
	Stage  Stage
	State  State
	Took   time.Duration
	Learnt string // in a few words
}

// Diagnosis is why a client does not get in.
type Diagnosis struct {
	Cause Cause
	// What says it in plain words, Remedy what to try next.
	What, Remedy string
	// Seen is the evidence: an error, an alert, bytes.
	Seen string
}

// Target is a way in that is to be tried.
type Target struct {
	// Name is BROKER/LISTENER of a workspace, or the URL.
	Name string
	URL  string
	// CAs are to be trusted; nil for the system's. ServerName is the name that the
	// certificate must hold, the URL's host where it is empty.
	CAs        []*x509.Certificate
	ServerName string
	// Login is presented, nil for none. Anonymous tells whether clients without one are meant
	// to get in; nil for not said.
	Login     *workspace.Login
	Anonymous *bool
	// ClientID is the client identifier; one is made up where it is empty.
	ClientID string
	// Versions are those that are allowed, the first is used for all that is done once.
	Versions []packet.Version
	// Intrusive allows a wrong password to be tried.
	Intrusive bool
	// Accepted are doors that are left open on purpose, with the reason.
	Accepted map[string]string
	// Users are who in the workspace uses this way in: devices, logins.
	Users []string
	// Logins are the logins of the workspace's devices at this broker, to see what they may do.
	Logins []*workspace.Login
	// StandIn tells that the broker is Hodstone's own.
	StandIn bool
	// Line is where the listener stands in the workspace's file; 0 for nowhere.
	Line int
	// Prior is a problem that keeps the target from being tried, such as a CA that cannot be
	// read; "" for none.
	Prior string
}

// Broker returns the name of the target's broker: that of the workspace, or the URL's host.
func (t *Target) Broker() string {
	if e, err := link.Parse(t.Name); err == nil {
		return e.Host
	}
	broker, _, _ := strings.Cut(t.Name, "/")
	return broker
}

// Options say how ways in are tried.
type Options struct {
	// Resolver looks names up; the system's where it is nil.
	Resolver interface {
		LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
	}
	// Own returns the machine's own addresses; those of its interfaces where it is nil.
	Own func() []netip.Addr
	// Wait bounds each stage; [DefaultWait] where it is 0.
	Wait time.Duration
	// Dialled is told the local address of each connection; may be nil.
	Dialled func(net.Addr)
	// Log gets the packets of all clients too, under [trace.RoleProbe], beside those of each result; may be nil.
	Log *trace.Log
	// Progress is told of each target as it goes on, and may keep what it is told; it must not wait. May be nil.
	Progress func(Result)
	// Now is the time; the present where it is nil.
	Now func() time.Time
}

// DefaultWait is how long a stage may take: people wait no longer, and a sound network needs
// a hundredth of it.
const DefaultWait = 5 * time.Second

// Way is one address of a target, tried.
type Way struct {
	Address string // HOST:PORT, or a socket's path
	// Extra tells that it is no address of the name's, but another of this machine's own,
	// tried to see where the broker listens.
	Extra     bool
	Steps     []Step
	In        bool
	Diagnosis *Diagnosis // nil where In
	Presented *trust.Presented
}

// VersionResult is what came of a CONNECT in one version.
type VersionResult struct {
	Version packet.Version
	In      bool
	Seen    string
	Took    time.Duration
}

// Result is what came of one target.
type Result struct {
	Target  Target
	Started time.Time
	Running bool
	Doing   string // what is being done
	Took    time.Duration
	Lookup  Step
	Ways    []Way
	// Versions are the results for all versions allowed, where a way leads in.
	Versions []VersionResult
	Grants   []Grant
	Answers  []Answer // to clients with other credentials
	Findings []Finding
	Doors    []Door
	// Rights are what logins were found to be allowed beyond their work.
	Rights []Rights
	// Ping is the round trip of a PINGREQ; 0 where none came back.
	Ping time.Duration
	// Events are the packets that went over, a client for each thing that was tried.
	Events []trace.Event
}

// In tells whether an address of the target's leads in.
func (r *Result) In() bool {
	for i := range r.Ways {
		if r.Ways[i].In && !r.Ways[i].Extra {
			return true
		}
	}
	return false
}

// Diagnosis returns why the target leads nowhere, nil where it leads in.
func (r *Result) Diagnosis() *Diagnosis {
	if r.In() {
		return nil
	}
	var last *Diagnosis
	for i := range r.Ways {
		if d := r.Ways[i].Diagnosis; d != nil && !r.Ways[i].Extra {
			// Where addresses differ, the one that came furthest tells most.
			if last == nil || r.Ways[i].reached() > 1 {
				last = d
			}
		}
	}
	return last
}

// reached counts the stages that were done.
func (w *Way) reached() (n int) {
	for _, s := range w.Steps {
		if s.State == Done {
			n++
		}
	}
	return n
}

// Severity is how much a finding matters; the words are those of package trust.
type Severity = trust.Severity

// Finding is what several attempts tell together; where is left empty.
type Finding = trust.Finding

// Answer is what a client got that came with other credentials.
type Answer struct {
	Who      string // [NoLogin], "wrong password"
	In       bool
	Seen     string
	Intended *bool // nil where the workspace does not say
}

// Kept tells whether the answer is the one intended.
func (a Answer) Kept() bool { return a.Intended == nil || *a.Intended == a.In }

// Report is what came of trying targets together.
type Report struct {
	Results  []Result
	Findings []Finding // that concern several targets
}

// maxEvents is how many events of one target are kept: all of them, but for a broker that
// greets with a flood.
const maxEvents = 2_000

// maxAtOnce is how many targets are tried at a time: they mostly wait.
const maxAtOnce = 8

// Run tries the targets, several at a time, and then looks at them together.
func Run(ctx context.Context, targets []Target, o Options) *Report {
	if o.Wait == 0 {
		o.Wait = DefaultWait
	}
	if o.Resolver == nil {
		o.Resolver = net.DefaultResolver
	}
	if o.Own == nil {
		o.Own = ownAddresses
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	results := make([]Result, len(targets))
	gate := make(chan struct{}, maxAtOnce)
	var wg sync.WaitGroup
	for i := range targets {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			r := runner{o: o, target: targets[i], log: trace.NewLog(maxEvents)}
			results[i] = r.run(ctx)
		})
	}
	wg.Wait()
	return Combine(results)
}

// Explain tries one way in again to find out why its login does not get in; nil where it does, or nothing was found.
func Explain(ctx context.Context, t Target, version packet.Version, o Options) *Diagnosis {
	t.Versions, t.Logins = []packet.Version{version}, nil
	rep := Run(ctx, []Target{t}, o)
	return rep.Results[0].Diagnosis()
}

// ownAddresses lists the addresses of this machine's interfaces.
func ownAddresses() (out []netip.Addr) {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLinkLocalUnicast() {
			out = append(out, p.Addr().Unmap())
		}
	}
	return out
}
