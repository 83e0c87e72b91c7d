package workbench

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// The intervals of what goes on by itself.
const (
	pingEvery  = 2 * time.Second // a loss shows within this and a keep alive
	editsEvery = time.Second
	nudgeEvery = 300 * time.Millisecond // an observer shows that it sees, at most
)

// ReachState is how one way in stands.
type ReachState struct {
	Target reach.Target
	// Result is the latest, nil where it was never tried.
	Result *reach.Result
	// Stale tells that the settings were edited since.
	Stale bool
	// Waiting tells that it will be tried in the run under way.
	Waiting bool
}

// reaching is what the bench knows of ways in; b.mu guards it.
type reaching struct {
	results  map[string]*reach.Result
	settings map[string]string // what a result was obtained with, by target
	waiting  map[string]bool
	together []reach.Finding
	cancel   context.CancelFunc
	trouble  string // why the edited file cannot be used
	pasted   []reach.Target
	targets  []reach.Target // as they were found, nil when they have to be found anew
}

// Targets returns the ways into all brokers of the workspace, as the file has them now.
func (b *Bench) Targets() []reach.Target {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.targetsLocked())
}

// targetsLocked keeps the targets until the file or the pasted details change: a site may have
// thousands of devices, and screens ask ten times a second. b.mu is held.
func (b *Bench) targetsLocked() []reach.Target {
	if b.reach.targets == nil {
		b.reach.targets = append(b.findTargets(b.Workspace()), b.reach.pasted...)
	}
	return b.reach.targets
}

func (b *Bench) findTargets(w *workspace.Workspace) []reach.Target {
	out := []reach.Target{}
	for _, br := range w.Brokers {
		ways := br.Ways()
		for i, l := range ways {
			t := reach.Target{
				Name:       br.Name + "/" + l.Name,
				URL:        l.URL,
				CAs:        l.CA,
				ServerName: l.ServerName,
				Login:      w.Login(br.Login),
				Anonymous:  br.Anonymous,
				Versions:   versionsOf(w, br),
				Intrusive:  br.Intrusive,
				Accepted:   br.Accepted,
				StandIn:    br.StandIn != nil,
				Line:       l.Line,
			}
			if br.ClientID != "" {
				t.ClientID = br.OwnID()
			}
			if br.StandIn != nil {
				if b.standins[br.Name] == nil {
					t.Prior = "this stand-in is new in the file: it starts when the workspace is opened again"
				}
				t.URL = b.urls.get(br.Name, l.Name)
				if running, _, err := b.address(br.Name, l.Name); err == nil {
					t.CAs = running.CA
				}
				t.Login = b.Workspace().Login(br.Login) // with the password that was made up
			}
			t.Users = users(w, br, l.Name, i == 0)
			t.Logins = b.loginsAt(br, l.Name, i == 0, i == mostSecure(ways))
			out = append(out, t)
		}
	}
	return out
}

// mostSecure is the listener over which logins are tried: the first with TLS, else the first.
func mostSecure(ways []workspace.Listener) int {
	for i, l := range ways {
		if e, err := link.Parse(l.URL); err == nil && e.TLS {
			return i
		}
	}
	return 0
}

// versionsOf lists the protocol versions that the workspace uses at a broker: the observer's
// first, then those of the devices.
func versionsOf(w *workspace.Workspace, br *workspace.Broker) []packet.Version {
	out := []packet.Version{br.Version}
	if br.Version == 0 {
		out[0] = packet.V5
	}
	for _, d := range w.Devices {
		if at := w.Broker(d.Broker); at == br && d.Session.Version != 0 && !slices.Contains(out, d.Session.Version) {
			out = append(out, d.Session.Version)
		}
	}
	return out
}

// users names the devices that use a listener; first tells that it is the one for those that
// name none.
func users(w *workspace.Workspace, br *workspace.Broker, listener string, first bool) (out []string) {
	for _, d := range w.Devices {
		if w.Broker(d.Broker) != br || d.Listener != listener && !(d.Listener == "" && first) {
			continue
		}
		name := "device " + d.Name
		if d.Count > 0 {
			name = fmt.Sprintf("%d devices %s", d.Count, d.Name)
		}
		if d.Login != "" {
			name += " (login " + d.Login + ")"
		}
		out = append(out, name)
	}
	return out
}

// maxPerKind is how many logins of one kind of device are tried: a thousand pens have the same
// rights.
const maxPerKind = 4

// loginsAt lists the logins whose rights are tried at a listener: some of each kind of device that comes by it, for
// another listener may want what they do not have; and, at one of them, those that no device uses.
func (b *Bench) loginsAt(br *workspace.Broker, listener string, first, rest bool) (out []*workspace.Login) {
	w := b.Workspace()
	out = deviceLogins(w, func(d *workspace.Device) bool {
		at := w.Broker(d.Broker)
		return at != nil && at.Name == br.Name && (d.Listener == listener || d.Listener == "" && first)
	})
	if !rest {
		return out
	}
	used := deviceLogins(w, func(*workspace.Device) bool { return true })
	for _, x := range w.Brokers {
		if l := w.Login(x.Login); l != nil {
			used = append(used, l)
		}
	}
	kinds := map[string]bool{} // those of a kind of device beyond the ones that are tried have the same rights
	for _, d := range w.Devices {
		for n := range max(1, d.Count) {
			kinds[workspace.FillIn(d.Login, n+1)] = true
		}
	}
	for _, l := range w.Logins {
		known := br.StandIn == nil && len(w.Brokers) == 1 ||
			br.StandIn != nil && slices.Contains(br.StandIn.Logins, l.Name)
		if known && !kinds[l.Name] && !slices.Contains(used, l) {
			out = append(out, l)
		}
	}
	return out
}

// deviceLogins lists logins of the devices that fit, some of each kind.
func deviceLogins(w *workspace.Workspace, fits func(*workspace.Device) bool) (out []*workspace.Login) {
	for _, d := range w.Devices {
		if !fits(d) {
			continue
		}
		for n := range min(max(1, d.Count), maxPerKind) {
			if l := w.Login(workspace.FillIn(d.Login, n+1)); l != nil && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out
}

// settingsOf sums up what a result depends on, as a hash, for there are secrets in it.
func settingsOf(t reach.Target) string {
	s := fmt.Sprint(t.URL, t.ServerName, t.Versions, t.Prior, t.Accepted)
	if t.Anonymous != nil {
		s += fmt.Sprint(*t.Anonymous)
	}
	for _, c := range t.CAs {
		s += string(c.Raw)
	}
	if l := t.Login; l != nil {
		s += fmt.Sprint(l.Name, l.Username, l.Password.Reveal(), l.Token.Reveal(), l.SCRAM)
		if l.Certificate != nil {
			s += string(l.Certificate.Certificate[0])
		}
	}
	return fmt.Sprintf("%x", sha256.Sum256([]byte(s)))
}

// StartReach tries ways in, in the background; no names stand for all. One run at a time.
func (b *Bench) StartReach(names ...string) error {
	if b.Record != nil {
		return errors.New("a record has no brokers to reach")
	}
	var targets []reach.Target
	for _, t := range b.Targets() {
		if len(names) == 0 || slices.Contains(names, t.Name) {
			targets = append(targets, t)
		}
	}
	if len(targets) == 0 {
		return errors.New("there is no listener to try: add a broker to the workspace, or paste connection details")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.reach.cancel != nil {
		return errors.New("ways in are being tried: stop that first")
	}
	ctx, cancel := context.WithCancel(b.ctx)
	b.reach.cancel = cancel
	b.reach.waiting = map[string]bool{}
	for _, t := range targets {
		b.reach.waiting[t.Name] = true
		b.reach.settings[t.Name] = settingsOf(t)
	}
	o := b.reachOptions()
	o.Progress = func(r reach.Result) {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.reach.waiting, r.Target.Name)
		b.reach.results[r.Target.Name] = &r
	}
	b.wg.Go(func() {
		reach.Run(ctx, targets, o)
		cancel()
		b.mu.Lock()
		defer b.mu.Unlock()
		b.reach.cancel, b.reach.waiting = nil, nil
		b.combine()
	})
	return nil
}

// reachOptions are those of all runs.
func (b *Bench) reachOptions() reach.Options {
	return reach.Options{Dialled: b.probed, Log: b.Log}
}

// combine looks at all results together, those of earlier runs too; b.mu is held.
func (b *Bench) combine() {
	var all []reach.Result
	var names []string
	for name, r := range b.reach.results {
		if !r.Running {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		all = append(all, *b.reach.results[name])
	}
	rep := reach.Combine(all)
	for i := range rep.Results {
		b.reach.results[rep.Results[i].Target.Name] = &rep.Results[i]
	}
	b.reach.together = append(rep.Findings, b.SharedIdentifiers()...)
}

// SharedIdentifiers finds devices of the workspace that come to one broker with the same
// client identifier: they would throw each other out (3.1.1 §3.1.4).
func (b *Bench) SharedIdentifiers() (out []reach.Finding) {
	type key struct{ broker, id string }
	users := map[key][]string{}
	var order []key
	for _, d := range b.Workspace().Devices {
		br := b.Workspace().Broker(d.Broker)
		if br == nil {
			continue
		}
		for n := range max(1, d.Count) {
			k := key{br.Name, workspace.FillIn(d.Session.ClientID, n+1)}
			if !slices.Contains(users[k], d.Name) {
				users[k] = append(users[k], d.Name)
			}
			if len(users[k]) == 2 && !slices.Contains(order, k) {
				order = append(order, k)
			}
		}
	}
	for _, k := range order {
		out = append(
			out,
			reach.Finding{
				Severity: trust.Broken,
				What: fmt.Sprintf(
					"the devices %s share the client identifier %q at %s, and will throw each other out",
					strings.Join(users[k], " and "),
					k.id,
					k.broker,
				),
				Remedy: "give each an identifier of its own",
			},
		)
	}
	return out
}

// Reach tries all ways in and waits for it; for commands.
func (b *Bench) Reach(ctx context.Context, targets []reach.Target) *reach.Report {
	return reach.Run(ctx, targets, b.reachOptions())
}

// StopReach ends the run under way; what is not known then counts as stopped.
func (b *Bench) StopReach() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.reach.cancel != nil {
		b.reach.cancel()
	}
}

// ReachBoard is how all ways in stand.
type ReachBoard struct {
	Ways     []ReachState
	Together []reach.Finding
	Running  bool
	// Trouble tells why the edited workspace cannot be used; "" for none.
	Trouble string
}

// ReachBoard returns how all ways in stand.
func (b *Bench) ReachBoard() ReachBoard {
	b.mu.Lock()
	defer b.mu.Unlock()
	targets := b.targetsLocked()
	board := ReachBoard{
		Together: slices.Clone(b.reach.together),
		Running:  b.reach.cancel != nil,
		Trouble:  b.reach.trouble,
	}
	for _, t := range targets {
		board.Ways = append(
			board.Ways,
			ReachState{Target: t, Result: b.reach.results[t.Name], Waiting: b.reach.waiting[t.Name],
				Stale: b.reach.results[t.Name] != nil && b.reach.settings[t.Name] != settingsOf(t)},
		)
	}
	return board
}

// Doors returns the doors that were found open at a broker; known tells whether a way into it was
// tried and led in, for else nothing could be found.
func (b *Bench) Doors(broker string) (doors []reach.Door, known bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var all []*reach.Result
	for _, t := range b.targetsLocked() {
		if r := b.reach.results[t.Name]; r != nil && t.Broker() == broker {
			all = append(all, r)
			known = known || r.In()
		}
	}
	return reach.OpenDoors(all), known
}

// Paste reads connection details as a way in of their own, under the name "pasted".
func (b *Bench) Paste(text string) (*reach.Details, error) {
	d, err := reach.Paste(text)
	if err != nil {
		return nil, err
	}
	t, err := PastedTarget(d)
	if err != nil {
		return nil, err
	}
	if t.Login != nil {
		t.Logins = []*workspace.Login{t.Login}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.reach.pasted, b.reach.targets = []reach.Target{t}, nil
	return d, nil
}

// Stays returns how the observers stay in at their brokers.
func (b *Bench) Stays() []reach.Stay {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	return b.obs.monitor.Stays()
}

// Drop ends the observer's link at a broker on purpose, to see how soon that is noticed and
// how it comes back: "cut" resets it from our side, "freeze" lets nothing through any more as a
// pulled cable does, so that only the keep alive tells, "throw out" lets a stand-in end it.
func (b *Bench) Drop(broker, how string) error {
	for _, o := range b.present() {
		if o.broker.Name == broker {
			return o.drop(how)
		}
	}
	return fmt.Errorf("there is no observer at broker %s", broker)
}

// StayIn lets a client of ours stay in at a broker that no observer watches, by one of its
// listeners, to see how it stays in: it pings, and reads nothing.
func (b *Bench) StayIn(broker, listener string) error {
	br := b.Workspace().Broker(broker)
	switch {
	case b.Record != nil:
		return errors.New("a record has no brokers to stay in at")
	case broker == "" || br == nil:
		return fmt.Errorf(
			"the workspace that was opened has no broker %s: open it again when it is written down",
			broker,
		)
	case slices.ContainsFunc(b.present(), func(o *observer) bool { return o.broker == br }):
		return fmt.Errorf("the observer is at broker %s already", broker)
	}
	ctx, cancel := context.WithCancel(b.ctx)
	o := newObserver(b, br, listener)
	o.leave = cancel
	b.mu.Lock()
	b.observers = append(b.observers, o)
	b.mu.Unlock()
	b.wg.Go(func() { o.run(ctx) })
	return nil
}

// Leave ends what StayIn began; the error says where there is nothing to end.
func (b *Bench) Leave(broker string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, o := range b.observers {
		if o.broker.Name != broker {
			continue
		}
		if o.leave == nil {
			return fmt.Errorf("the observer at %s watches the contract: it stays", broker)
		}
		b.obs.mu.Lock()
		b.obs.monitor.Leave(broker)
		b.obs.mu.Unlock()
		o.leave()
		b.observers = slices.Delete(b.observers, i, i+1)
		return nil
	}
	return fmt.Errorf("there is no observer at broker %s", broker)
}

// drop ends the observer's link on purpose.
func (o *observer) drop(how string) error {
	if !o.client.Connected() {
		return fmt.Errorf("the observer is not in at %s: there is nothing to drop", o.broker.Name)
	}
	s := o.b.standins[o.broker.Name]
	if how == "throw out" && s == nil {
		return errors.New("only a stand-in lets its clients be thrown out; on another's broker do it there")
	}
	o.b.obs.mu.Lock()
	o.b.obs.monitor.Purpose(o.broker.Name, how, time.Now())
	o.b.obs.mu.Unlock()
	err := fmt.Errorf("a link is dropped by \"cut\", \"freeze\" or \"throw out\", not by %q", how)
	switch how {
	case "throw out":
		if err = nil; !s.ThrowOut(o.id) {
			err = fmt.Errorf("the stand-in does not have the observer %s", o.id)
		}
	case "cut":
		err = o.client.Cut()
	case "freeze":
		err = o.client.Pull()
	}
	if err != nil { // what was meant did not happen
		o.b.obs.mu.Lock()
		o.b.obs.monitor.Withdraw(o.broker.Name)
		o.b.obs.mu.Unlock()
	}
	return err
}

// ping keeps the observer's link proven.
func (o *observer) ping(ctx context.Context) {
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	var last time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-o.client.Done():
			return
		case <-o.nudge:
			if time.Since(last) < nudgeEvery {
				continue
			}
			last = time.Now()
			o.client.AskPing()
		case <-tick.C:
			last = time.Now()
			wait, cancel := context.WithTimeout(ctx, observerTimeout)
			o.client.Ping(wait)
			cancel()
		}
	}
}
