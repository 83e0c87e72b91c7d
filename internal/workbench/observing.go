package workbench

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/meter"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/reach"
	"hodstone/internal/record"
	"hodstone/internal/trace"
)

// observing is what is made of a trace: the judge, the journeys, the statistics. One goroutine
// feeds it; screens read it.
type observing struct {
	own map[string]bool // the observers whose messages are judged, by name; set before anything is fed

	// told is told of what an observer got, with its finding, and missed of who did not say what was due; both may be
	// nil. They are called with mu held.
	told func(*trace.Event, Finding)
	lack func([]contract.Breach)

	mu         sync.Mutex // guards what follows
	judge      *contract.Judge
	tried      map[string]bool // payloads of checks on the contract's topics
	loaded     map[string]bool // topics of a load's that are no matter of the site's
	loader     *Loader         // whose they are
	journeys   *trace.Journeys
	statistics *trace.Statistics
	monitor    *reach.Monitor
	findings   []numbered  // by the event's number, modulo the length of the trace
	lost       uint64      // events that came too fast
	traffic    meter.Meter // PUBLISH packets of the site, either way
	analysed   float64     // of a record
	revised    time.Time   // the contract was edited; zero for never
	eyes       map[string]*eyes
	late       lately
	players    map[string]Player             // what clients play, by name
	facts      map[string][]Fact             // of brokers, by their names
	logs       map[string]*record.LogClients // what the logs that are followed tell of clients, by their names
	heldOff    map[string]time.Time          // devices that we hold off; since when they may speak again
	stands     map[string]int                // names that taps give, whatever the client identifier, by how many
	opened     map[string]*bool              // whether a stand-in's client came by TLS
	peers      map[string]*peer              // who is not ours, and whose own packets are seen, by name
	contract   *contract.Contract
	drafts     *Drafter           // of what no clause covers; nil before any
	sent       *contract.Envelope // of the last message; those that are alike share it, and nobody changes it
	taken      int                // messages for drafts at this look at the trace
}

// eyes is what an observer is known to be able to see.
type eyes struct {
	flag    bool     // the publisher's retain flag comes through
	filters []string // that it may read; nil for everything
	refused []string // that it may not
	thawed  bool     // a frozen link goes on: what comes is late until a PINGRESP
	behind  behind
}

// lately is what was asked for last of two of the maps, which are asked for each event; it is void when they change.
type lately struct {
	client, broker string
	own            bool
	eyes           *eyes
}

// isOwn tells whether a client is one of the observers whose messages are judged.
func (o *observing) isOwn(client string) bool {
	if x := &o.late; x.client != client || client == "" {
		x.client, x.own = client, o.own[client]
	}
	return o.late.own
}

// eyesAt are those of the observer at a broker; nil where none is known.
func (o *observing) eyesAt(broker string) *eyes {
	if x := &o.late; x.broker != broker || broker == "" {
		x.broker, x.eyes = broker, o.eyes[broker]
	}
	return o.late.eyes
}

// looks adds an observer whose messages are judged; o.mu is held.
func (o *observing) looks(client string) { o.own[client], o.late = true, lately{} }

// has tells what the observer at a broker is known to be able to see; o.mu is held.
func (o *observing) has(broker string, see *eyes) { o.eyes[broker], o.late = see, lately{} }

// reads tells whether the observer is known to be able to read a topic.
func (e *eyes) reads(name string) bool {
	for _, f := range e.filters {
		if topic.Match(f, name) {
			return true
		}
	}
	return false
}

// Finding is what the judge said of a message received by an observer.
type Finding struct {
	Judgement contract.Judgement
	Sender    string // "" where unknown
}

// numbered is a finding about the event with the number.
type numbered struct {
	seq uint64
	Finding
}

func (o *observing) init(c *contract.Contract) {
	o.judge, o.journeys, o.statistics, o.monitor = contract.NewJudge(
		c,
		rule.All(),
	), trace.NewJourneys(
		journeyLength,
	), trace.NewStatistics(), reach.NewMonitor()
	o.contract, o.players, o.opened = c, map[string]Player{}, map[string]*bool{}
	o.analysed, o.eyes, o.own, o.late = 1, map[string]*eyes{}, map[string]bool{}, lately{}
	o.findings, o.sent = make([]numbered, traceLength), &contract.Envelope{}
}

// Observation judges what one observer gets, with the whole trace for telling who sent what: for commands that
// have no screens.
type Observation struct{ o observing }

// NewObservation returns one for the client of the name on the broker. players are what clients play, by name. told
// is told of each message with its finding, lack of what was due and did not come.
func NewObservation(
	c *contract.Contract,
	client, broker string,
	players map[string]Player,
	told func(*trace.Event, Finding),
	lack func([]contract.Breach),
) *Observation {
	x := &Observation{}
	x.o.init(c)
	x.o.plays(players)
	x.o.looks(client)
	x.o.told, x.o.lack = told, lack
	x.o.judge.Expect(broker, time.Now())
	return x
}

// Sees tells which filters the observer subscribed to, nil for everything, and whether it sees the publisher's
// retain flag. It begins to see with the event [client.Watching].
func (x *Observation) Sees(broker string, filters []string, flag bool) {
	x.o.mu.Lock()
	defer x.o.mu.Unlock()
	x.o.has(broker, &eyes{filters: filters, flag: flag})
}

// Take follows events. It tells whether the observer has to show that it still sees: by a PINGREQ.
func (x *Observation) Take(events []trace.Event, missed uint64) (prove bool) {
	return len(x.o.take(events, missed, true)) > 0
}

// Blind says in a line whether the observer could not see; "" where it saw all along.
func (x *Observation) Blind() string {
	x.o.mu.Lock()
	defer x.o.mu.Unlock()
	now := time.Now()
	s := Snapshot{At: now, Sights: x.o.judge.Sights(now)}
	return s.Blind()
}

// watch is the one reader that follows journeys and judges messages. It looks at once when
// something comes, but not more often than every [watchEvery].
func (b *Bench) watch() {
	next := uint64(1)
	room := make([]trace.Event, 256)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for b.ctx.Err() == nil {
		n, missed := b.Log.ReadInto(next, room)
		next += uint64(n) + missed
		waiting := b.obs.take(room[:n], missed, n < len(room))
		clear(room[:n]) // or it would hold their packets
		for _, broker := range waiting {
			b.prove(broker)
		}
		if n == len(room) {
			continue
		}
		timer.Reset(watchEvery)
		select {
		case <-timer.C:
		case <-b.ctx.Done():
			return
		}
		wait, stop := context.WithTimeout(b.ctx, tickEvery)
		b.Log.Wait(wait, next)
		stop()
	}
}

// prove lets the observer at a broker show that it still sees: only then is a silence one.
func (b *Bench) prove(broker string) {
	for _, o := range b.observers.all() {
		if o.broker.Name == broker {
			select {
			case o.nudge <- struct{}{}:
			default:
			}
		}
	}
}

// take follows events. It returns the brokers whose observers have to prove that they see.
func (o *observing) take(events []trace.Event, missed uint64, all bool) []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.taken = 0
	if o.lost += missed; missed > 0 {
		// What was not read may have been what was waited for.
		now := time.Now()
		for name := range o.eyes {
			o.judge.Blind(name, now)
			o.sees(name, now)
		}
	}
	for i := range events {
		o.event(&events[i])
	}
	if !all {
		return nil
	}
	return o.judge.Waiting(time.Now())
}

func (o *observing) sees(broker string, at time.Time) {
	if e := o.eyes[broker]; e != nil {
		reads := e.reads
		if e.filters == nil {
			reads = nil
		}
		o.judge.Sees(broker, at, reads)
	}
}

// event follows one event.
func (o *observing) event(e *trace.Event) {
	if o.fact(e) { // no matter of the site's
		return
	}
	if e.Role == trace.RoleLog && e.Kind == trace.Line {
		o.logLine(e)
	}
	j := o.journeys.Add(e)
	o.statistics.Add(e)
	o.monitor.Add(e)
	m := e.Publish()
	if m != nil && e.Role == trace.RoleCheck && e.Kind == trace.Sent && !trace.OwnTopic(e.Topic()) {
		o.tries(m)
	}
	own := e.Own()
	if m != nil && !own && (e.Kind == trace.Sent || e.Kind == trace.Received) {
		o.traffic.Add(e.At)
	}
	if !o.isOwn(e.Client) || e.Role == trace.RoleCheck { // a check may call its own client by the same name
		o.departs(e, m, own)
		o.session(e)
		return
	}
	if e.Kind == trace.Link {
		o.linked(e)
		return
	}
	if e.Kind != trace.Received {
		return
	}
	x := o.eyesAt(e.Broker)
	at := e.At
	if x != nil {
		at = x.when(e, j)
	}
	if m != nil && j != nil && !own && !o.tried[string(m.Payload)] && !o.loaded[e.Topic()] {
		o.message(e, m, j, x, at)
	}
	o.missing(o.judge.Seen(e.Broker, at))
	if _, is := e.Packet.(*packet.Pingresp); is && x != nil && x.thawed {
		x.thawed = false
		o.sees(e.Broker, e.At)
	}
}

// tries keeps what a check publishes on the contract's own topics: it says on its face what it is, and no clause is
// judged by it.
func (o *observing) tries(m *packet.Publish) {
	const most = 10_000
	if !bytes.HasPrefix(m.Payload, []byte(proof.CheckMark)) {
		return
	}
	if o.tried == nil || len(o.tried) >= most {
		o.tried = map[string]bool{}
	}
	o.tried[string(m.Payload)] = true
}

// loads takes in the topics of a load that begins.
func (o *observing) loads(l *Loader, topics map[string]bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.loader, o.loaded = l, topics
}

// loadEnds takes in that all has come that a load sent.
func (o *observing) loadEnds(l *Loader) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.loader == l {
		o.loader, o.loaded = nil, nil
	}
}

// missing tells of what was due and did not come.
func (o *observing) missing(found []contract.Breach) {
	if o.lack != nil && len(found) > 0 {
		o.lack(found)
	}
}

// linked follows how an observer's link fares.
func (o *observing) linked(e *trace.Event) {
	switch e.Link {
	case client.Watching:
		if x := o.eyes[e.Broker]; x != nil {
			x.behind.under = [2][]departure{}
		}
		o.sees(e.Broker, e.At)
	case client.LinkFrozen, client.LinkEnded, client.LinkFailed:
		if x := o.eyes[e.Broker]; x != nil { // what is under way now comes never, or after a thaw that is known of
			x.behind.under = [2][]departure{}
		}
		o.judge.Blind(e.Broker, e.At)
	case client.LinkThawed:
		if x := o.eyes[e.Broker]; x != nil {
			x.thawed = true
		}
	}
}

// message lets the judge judge what an observer got with its eyes, which may be nil, as of a time.
func (o *observing) message(e *trace.Event, m *packet.Publish, j *trace.Journey, eyes *eyes, at time.Time) {
	hop := &j.Hops[len(j.Hops)-1]
	msg := contract.Message{
		At:          at,
		Seq:         e.Seq,
		Topic:       e.Topic(),
		Payload:     m.Payload,
		QoS:         m.QoS,
		Granted:     e.Meaning.Granted,
		Retain:      m.Retain,
		RetainKnown: e.Meaning.Flag && eyes != nil && eyes.flag,
		Copy:        hop.Copy,
		Unsure:      e.Meaning.Stored == trace.StorageMaybe,
		Sender:      j.Sender,
		Eye:         e.Broker,
		Cleared:     j.Sender != "" && j.Retain,
		Version:     e.Version,
		Properties:  m.Properties,
	}
	if j.Sender != "" {
		if x := o.sent; len(j.Properties) > 0 || x.QoS != j.QoS || x.Retain != j.Retain || x.Version != j.Version || len(x.Properties) > 0 {
			o.sent = &contract.Envelope{QoS: j.QoS, Retain: j.Retain, Version: j.Version, Properties: j.Properties}
		}
		msg.Sent = o.sent
	}
	if j.Role == trace.RoleDevice || j.Role == trace.RolePeer {
		msg.Party = o.players[j.Sender].Party
	}
	o.missing(o.judge.Before(e.Broker, at))
	f := Finding{o.judge.Message(msg), j.Sender}
	o.findings[e.Seq%traceLength] = numbered{e.Seq, f}
	if f.Judgement.Clause == nil {
		o.stray(e, j)
	}
	if o.told != nil {
		o.told(e, f)
	}
}

// Snapshot is what was seen, at a moment.
type Snapshot struct {
	At       time.Time
	Started  time.Time
	Cells    []*contract.Cell // never changed afterwards
	Strays   []contract.Stray
	Unkept   int               // messages on further strays
	Breaches []contract.Breach // the latest, oldest first
	Total    int               // breaches in all
	Missed   uint64            // events that came faster than they could be judged
	Sights   []contract.Sight  // how the observers see
	Met      map[string]int    // of how many clients of a party the own packets were seen
	// Refused are the filters that an observer may not read, by broker.
	Refused map[string][]string
}

// Blind says in a line since when and for how long somebody could not see, or that they were blind before; "" where all
// have seen all along.
func (s *Snapshot) Blind() string {
	var out []string
	for _, x := range s.Sights {
		switch {
		case !x.Ever:
			out = append(out, fmt.Sprintf("the observer at %s has not begun to see: nothing is judged there", x.Eye))
		case !x.Open:
			out = append(
				out,
				fmt.Sprintf(
					"the observer at %s is blind since %s (%s): nothing is judged there",
					x.Eye,
					x.Since.Format("15:04:05"),
					s.At.Sub(x.Since).Round(time.Second),
				),
			)
		}
	}
	for _, x := range s.Sights {
		if refused := s.Refused[x.Eye]; len(refused) > 0 && x.Open {
			out = append(out, fmt.Sprintf("the observer at %s may not read %s", x.Eye, list(refused, 3)))
		}
	}
	if len(out) > 0 {
		return strings.Join(out, "; ")
	}
	for _, x := range s.Sights {
		if x.Blind >= time.Second {
			out = append(
				out,
				fmt.Sprintf(
					"the observer at %s was blind for %s, up to %s",
					x.Eye,
					x.Blind.Round(time.Second),
					x.Since.Format("15:04:05"),
				),
			)
		}
	}
	return strings.Join(out, "; ")
}

// list writes names, at most so many.
func list(names []string, most int) string {
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// Snapshot returns what was seen up to now.
func (b *Bench) Snapshot() Snapshot {
	o := &b.obs
	o.mu.Lock()
	defer o.mu.Unlock()
	now := time.Now()
	s := Snapshot{
		At:      now,
		Started: b.started,
		Cells:   o.judge.Cells(),
		Strays:  o.judge.Strays(),
		Unkept:  o.judge.Unkept(),
		Missed:  o.lost,
		Sights:  o.judge.Sights(now),
		Met:     o.judge.Met(),
	}
	for name, e := range o.eyes {
		if len(e.refused) > 0 {
			if s.Refused == nil {
				s.Refused = map[string][]string{}
			}
			s.Refused[name] = e.refused
		}
	}
	s.Breaches, s.Total = o.judge.Breaches()
	return s
}

// Rate returns how many PUBLISH packets of the site a second went over, either way, in the last
// seconds.
func (b *Bench) Rate() float64 {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	return b.obs.traffic.Rate(time.Now())
}

// Finding returns what the judge said of the observer's event with the number.
func (b *Bench) Finding(seq uint64) (Finding, bool) {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	if b.obs.findings == nil {
		return Finding{}, false
	}
	f := &b.obs.findings[seq%traceLength]
	return f.Finding, f.seq == seq && seq != 0
}

// Journey returns the journey that the event with the number belongs to, as a copy.
func (b *Bench) Journey(seq uint64) (trace.Journey, bool) {
	found := b.Journeys(1, func(j *trace.Journey) bool {
		for i := range j.Hops {
			if j.Hops[i].Seq == seq {
				return true
			}
		}
		return j.SentSeq == seq
	})
	if len(found) == 0 {
		return trace.Journey{}, false
	}
	return found[0], true
}

// Players are what the bench's devices play, by name.
func (b *Bench) Players() map[string]Player { return Players(b.Workspace()) }
