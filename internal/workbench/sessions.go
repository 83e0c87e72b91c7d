package workbench

import (
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Player is what a client plays, and what is known of it beside its packets.
type Player struct {
	Party      string
	Parameters map[string]string // the values of the contract's parameters that are its own
	Encrypted  *bool             // whether it comes by TLS; nil where that is not known
}

// maxPlayers is how many clients of stand-ins are told apart.
const maxPlayers = 50_000

// Players are what the devices of a workspace play, by name.
func Players(w *workspace.Workspace) map[string]Player {
	out := map[string]Player{}
	for _, kind := range w.Devices {
		var encrypted *bool
		if br := w.Broker(kind.Broker); br != nil {
			for i, l := range br.Ways() {
				if l.Name == kind.Listener || kind.Listener == "" && i == 0 {
					encrypted = encryptedBy(l.URL)
				}
			}
		}
		for n := range max(1, kind.Count) {
			p := Player{Party: kind.Plays, Parameters: map[string]string{}, Encrypted: encrypted}
			for name, v := range kind.Parameters {
				p.Parameters[name] = workspace.FillIn(v, n+1)
			}
			out[device.Name(kind, n+1)] = p
		}
	}
	return out
}

// encryptedBy tells by a URL whether the way is by TLS; nil for none that is known.
func encryptedBy(url string) *bool {
	scheme, _, ok := strings.Cut(url, "://")
	is := map[string]bool{
		"mqtts": true,
		"wss":   true,
		"ssl":   true,
		"tls":   true,
		"mqtt":  false,
		"ws":    false,
		"tcp":   false,
	}
	if encrypted, known := is[strings.ToLower(scheme)]; ok && known {
		return &encrypted
	}
	return nil
}

// playing are the devices' roles, and what the clients of stand-ins turn out to play.
func (o *observing) plays(players map[string]Player) {
	o.players = maps.Clone(players)
	if o.players == nil {
		o.players = map[string]Player{}
	}
}

// standsFor tells that whoever comes under a device's name is that device: so many taps more, or fewer, say so.
func (o *observing) standsFor(name string, more int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.stands == nil {
		o.stands = map[string]int{}
	}
	o.stands[name] += more
}

// holdsOff tells that devices are held off by us, or, with off false, that they may speak again: what they do not say
// meanwhile, and until they had the time to, is no breach.
func (o *observing) holdsOff(names []string, off bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.heldOff == nil {
		o.heldOff = map[string]time.Time{}
	}
	for _, name := range names {
		if o.heldOff[name] = (time.Time{}); !off {
			o.heldOff[name] = time.Now()
		}
	}
	o.excuse()
}

// excuse has the judge excuse who is held off; o.mu is held.
func (o *observing) excuse() {
	if len(o.heldOff) == 0 || o.judge == nil {
		return
	}
	o.judge.Excuse(func(rule contract.RuleName, cl *contract.Clause, topic string, at time.Time) bool {
		const settles = 5 * time.Second
		owed := []string{cl.From}
		if rule == contract.RuleAnswer {
			owed = cl.To
		}
		values := cl.Topic.Values(topic)
		for name, since := range o.heldOff {
			p, known := o.players[name]
			over := !since.IsZero() && at.After(since.Add(cl.Every.Period+cl.Every.Tolerance+settles))
			if !known || over || !slices.Contains(owed, p.Party) {
				continue
			}
			own := true
			for k, v := range values {
				own = own && (p.Parameters[k] == "" || p.Parameters[k] == v)
			}
			if own {
				return true
			}
		}
		return false
	})
}

// session lets the judge look at what a client's own packets and links show.
func (o *observing) session(e *trace.Event) {
	if e.Role != trace.RoleDevice && e.Role != trace.RolePeer || e.Own() {
		return
	}
	connect, _ := e.Packet.(*packet.Connect)
	if e.Role == trace.RolePeer {
		o.counts(e)
		o.meet(e, connect)
	}
	p, known := o.players[e.Client]
	if !known || p.Party == "" {
		return
	}
	s := contract.Session{Client: e.Client, Broker: e.Broker, Party: p.Party, Parameters: p.Parameters, At: e.At,
		Seq: e.Seq, Version: e.Version, Packet: e.Packet, Bytes: len(e.Raw), Topic: e.Topic(), Encrypted: p.Encrypted}
	switch {
	case e.Kind == trace.Link && e.Link == client.LinkFrozen:
		s.Step = contract.StepCut
	case e.Kind == trace.Link && e.Link == client.LinkThawed:
		s.Step = contract.StepMended
	case e.Kind == trace.Link && e.Link == client.LinkEnded:
		s.Step, s.ByBroker = contract.StepEnded, e.By == client.ByBroker
	case e.Packet == nil, e.Broken != "":
		return
	case e.Kind == trace.Sent:
		s.Step = contract.StepSent
	case e.Kind == trace.Received:
		s.Step = contract.StepGot
	default:
		return
	}
	if e.Publish() != nil && !o.judge.Follows(p.Party) {
		return
	}
	o.missing(o.judge.Session(s))
}

// peer is what is seen of a client that is not ours.
type peer struct {
	links          int // that are open
	since          time.Time
	sent, received int // messages
}

// counts follows whether such a client is there, and what it says.
func (o *observing) counts(e *trace.Event) {
	p := o.peers[e.Client]
	if p == nil {
		if o.peers == nil || len(o.peers) >= maxPlayers {
			o.peers = map[string]*peer{}
		}
		p = &peer{since: e.At}
		o.peers[e.Client] = p
	}
	switch {
	case e.Kind == trace.Link && e.Link == client.LinkOpened:
		if p.links++; p.links == 1 {
			p.since = e.At
		}
	case e.Kind == trace.Link && e.Link == client.LinkEnded:
		if p.links = max(0, p.links-1); p.links == 0 {
			p.since = e.At
		}
	case e.Publish() != nil && e.Kind == trace.Sent:
		p.sent++
	case e.Publish() != nil && e.Kind == trace.Received:
		p.received++
	}
}

// seen adds what is seen of the real device that stands in a device's place.
func (o *observing) seen(st *device.State) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if p := o.peers[st.Name]; p != nil {
		st.Real = &device.Presence{Here: p.links > 0, Since: p.since}
		st.Sent, st.Received = p.sent, p.received
	}
}

// meet finds out what a client of a stand-in's plays: by its login, or its client identifier.
func (o *observing) meet(e *trace.Event, connect *packet.Connect) {
	if e.Kind == trace.Link && e.Link == client.LinkOpened {
		_, listener, _ := strings.Cut(e.Text, " at ")
		o.opened[e.Client] = encryptedBy(listener)
		if len(o.opened) > maxPlayers {
			clear(o.opened)
		}
	}
	if connect == nil || e.Kind != trace.Sent {
		return
	}
	if p, is := o.players[e.Client]; is && o.stands[e.Client] > 0 {
		p.Encrypted = o.opened[e.Client]
		o.players[e.Client] = p
		return
	}
	party, values := o.contract.PartyOf(connect.ClientID, connect.Username)
	if party == nil || len(o.players) > maxPlayers {
		delete(o.players, e.Client) // under this name it is somebody else now
		return
	}
	o.players[e.Client] = Player{party.Name, values, o.opened[e.Client]}
}
