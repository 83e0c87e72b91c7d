package workbench

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/sending"
	"hodstone/internal/workspace"
)

// saying holds what is sent by hand.
type saying struct {
	mu   sync.Mutex // guards what follows
	said []string   // the sentences, oldest first
	runs []*run
	last int
}

// run is a message that is sent, once or again and again.
type run struct {
	Sending
	cancel context.CancelFunc
}

// Sending is a message that is sent by hand, as it stands.
type Sending struct {
	ID    int
	Text  string // the sentence
	Topic string
	By    string // the device that sends it, "" for Hodstone's own client
	Every time.Duration
	Times int // 0 for without end
	// Sent is how many went out and were taken, Failed how many were not, and Why the last of these was not.
	Sent, Failed int
	Why          string
	Began, Last  time.Time
	Running      bool
}

// The bounds of what is kept of what was sent by hand.
const (
	maxSaid = 200
	maxRuns = 20
)

// sayWithin bounds the flow of one message that is sent by hand.
const sayWithin = 10 * time.Second

// Site is what a sentence can speak of.
func (b *Bench) Site() sending.Site {
	w := b.Workspace()
	s := sending.Site{Contract: w.Contract, Values: map[string][]string{}}
	note := func(of map[string]string) {
		for name, v := range of {
			if !slices.Contains(s.Values[name], v) {
				s.Values[name] = append(s.Values[name], v)
			}
		}
	}
	for _, d := range b.Devices() {
		s.Actors = append(s.Actors, sending.Actor{
			Name: d.Name, Party: d.Party, Params: d.Params, Connected: d.Phase == device.On || d.Phase == device.Frozen,
		})
		note(d.Params)
	}
	snap := b.Snapshot()
	for _, c := range snap.Cells {
		s.Topics = append(s.Topics, c.Topic)
		note(c.Clause.Topic.Values(c.Topic))
	}
	for _, x := range snap.Strays {
		s.Topics = append(s.Topics, x.Topic)
	}
	for name, p := range w.Contract.Parameters {
		for _, v := range p.Values {
			note(map[string]string{name: v})
		}
		slices.Sort(s.Values[name])
	}
	for _, br := range w.Brokers {
		s.Brokers = append(s.Brokers, br.Name)
	}
	return s
}

// Hear reads a sentence, and says what the contract makes of it; the error says why it cannot be sent. What could be
// read of it is returned all the same.
func (b *Bench) Hear(text string) (*sending.Order, error) {
	s, err := sending.Read(text)
	site := b.Site()
	o, missing := s.Order(site.Contract, site.Actors)
	if err != nil || missing != nil {
		return o, cmp.Or(err, missing)
	}
	if s.On != "" && !slices.Contains(site.Brokers, s.On) {
		return o, fmt.Errorf("there is no broker %s", s.On)
	}
	if s.On != "" && o.Speaker != "" {
		if d := b.Device(o.Speaker); d != nil && d.State().Broker != s.On {
			o.Speaker = "" // it is on another one
		}
	}
	o.Judge(site.Contract, site.Actors)
	return o, nil
}

// Said are the sentences that were sent, oldest first.
func (b *Bench) Said() []string {
	b.saying.mu.Lock()
	defer b.saying.mu.Unlock()
	return slices.Clone(b.saying.said)
}

// Sendings are the messages that are sent by hand, or were last, oldest first.
func (b *Bench) Sendings() (out []Sending) {
	b.saying.mu.Lock()
	defer b.saying.mu.Unlock()
	for _, r := range b.saying.runs {
		out = append(out, r.Sending)
	}
	return out
}

// StopSending ends a message that is sent again and again, by its number; 0 ends all.
func (b *Bench) StopSending(id int) {
	b.saying.mu.Lock()
	defer b.saying.mu.Unlock()
	for _, r := range b.saying.runs {
		if r.ID == id || id == 0 {
			r.cancel()
		}
	}
}

// Say sends what a sentence says, in the background; what becomes of it stands in [Bench.Sendings]. The error says why
// nothing is sent.
func (b *Bench) Say(text string) (id int, err error) {
	if b.Record != nil {
		return 0, errors.New("a record is looked at: nothing can be sent")
	}
	o, err := b.Hear(text)
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	t := &b.saying
	t.mu.Lock()
	defer t.mu.Unlock()
	if n := len(t.said); n == 0 || t.said[n-1] != text {
		t.said = append(t.said, text)
		t.said = t.said[max(0, len(t.said)-maxSaid):]
	}
	t.last++
	r := &run{Sending{ID: t.last, Text: text, Topic: o.Topic, By: o.Speaker, Every: o.Every, Times: o.Times,
		Began: time.Now(), Running: true}, cancel}
	if r.Every == 0 {
		r.Times = 1
	}
	t.runs = append(t.runs, r)
	if len(t.runs) > maxRuns { // those at their end go first
		if i := slices.IndexFunc(t.runs, func(x *run) bool { return !x.Running }); i >= 0 {
			t.runs = slices.Delete(t.runs, i, i+1)
		} else {
			t.runs, t.last = t.runs[:len(t.runs)-1], t.last-1
			cancel()
			return 0, fmt.Errorf("%d messages are sent again and again already: stop one first", maxRuns)
		}
	}
	if o.Clause != nil {
		b.noteSaid(o)
	}
	b.wg.Go(func() { b.goOn(ctx, r, o) })
	return r.ID, nil
}

// goOn sends a message as often as it was said.
func (b *Bench) goOn(ctx context.Context, r *run, o *sending.Order) {
	defer r.cancel()
	tick := time.NewTicker(max(o.Every, time.Millisecond))
	defer tick.Stop()
	for n := 0; r.Times == 0 || n < r.Times; n++ {
		if n > 0 {
			select {
			case <-tick.C:
			case <-ctx.Done():
			}
		}
		if ctx.Err() != nil {
			break
		}
		err := b.speak(ctx, o)
		b.saying.mu.Lock()
		r.Last = time.Now()
		if err == nil {
			r.Sent++
		} else if ctx.Err() == nil {
			r.Failed, r.Why = r.Failed+1, err.Error()
		}
		b.saying.mu.Unlock()
	}
	b.saying.mu.Lock()
	r.Running = false
	b.saying.mu.Unlock()
}

// speak sends a message once, by the device that it is sent as, or by Hodstone's own client.
func (b *Bench) speak(ctx context.Context, o *sending.Order) error {
	ctx, cancel := context.WithTimeoutCause(ctx, sayWithin, fmt.Errorf("no acknowledgement within %s", sayWithin))
	defer cancel()
	if d := b.Device(o.Speaker); d != nil {
		return d.Publish(ctx, packet.Publish{Topic: o.Topic, Payload: o.Payload, QoS: o.QoS, Retain: o.Retain})
	}
	broker := o.On
	if broker == "" {
		broker = b.brokerOf(o)
	}
	return b.Send(ctx, broker, Message{Topic: o.Topic, Payload: o.Payload, QoS: o.QoS, Retain: o.Retain})
}

// brokerOf is the broker of the devices that the message concerns; "" for the first.
func (b *Bench) brokerOf(o *sending.Order) string {
	if o.Clause == nil {
		return ""
	}
	for _, d := range b.Devices() {
		if d.Party == o.Clause.From || slices.Contains(o.Clause.To, d.Party) {
			return d.Broker
		}
	}
	return ""
}

// noteSaid notes a message for a trial that is recorded.
func (b *Bench) noteSaid(o *sending.Order) {
	step := expression.Object{{Key: "clause", Value: o.Clause.Name}}
	if values := o.Clause.Topic.Values(o.Topic); len(values) > 0 {
		var params expression.Object
		for _, k := range slices.Sorted(maps.Keys(values)) {
			params = append(params, expression.Member{Key: k, Value: values[k]})
		}
		step = append(step, expression.Member{Key: "parameters", Value: params})
	}
	v, err := o.Clause.Payload.Code().Decode(o.Payload)
	if err != nil {
		return // a trial cannot write it
	}
	step = append(step, expression.Member{Key: "payload", Value: v})
	if o.Speaker != "" && o.Speaker == o.As {
		step = append(step, expression.Member{Key: "as", Value: o.Speaker})
	}
	if o.Sentence.QoS != nil {
		step = append(step, expression.Member{Key: "qos", Value: int(o.QoS)})
	}
	if o.Sentence.Retain != nil {
		step = append(step, expression.Member{Key: "retain", Value: o.Retain})
	}
	b.Did(workspace.StepSend, step)
}

// Begin is a sentence to begin with: a clause's message for some values of its parameters, as the party or device
// would send it ("" for its party), made of the last payload on the topic or of an example.
func (b *Bench) Begin(cl *contract.Clause, of map[string]string, as string) string {
	values := map[string]string{}
	for _, name := range cl.Topic.Parameters() {
		values[name] = of[name]
	}
	var last []byte
	if topic, err := cl.Topic.Topic(values); err == nil {
		for _, c := range b.Snapshot().Cells {
			if c.Topic == topic {
				last = c.Last.Payload
			}
		}
	}
	return sending.Begin(cl, values, as, last).String()
}

// Again is the sentence that sends a message once more, as its clause's party would.
func (b *Bench) Again(topic string, m *packet.Publish) string {
	s := &sending.Sentence{To: topic, Payload: sending.Quoted(string(m.Payload)), Nothing: len(m.Payload) == 0}
	qos, retain := m.QoS, m.Retain
	if cl, _ := b.Workspace().Contract.Find(topic); cl != nil {
		s = sending.Begin(cl, cl.Topic.Values(topic), "", m.Payload)
		if len(m.Payload) == 0 {
			s.Payload, s.Nothing = "", true
		}
		if cl.QoS != nil && *cl.QoS == qos {
			return s.String()
		}
	} else if retain {
		s.Retain = &retain
	}
	s.QoS = &qos
	return s.String()
}

// Prepared is the sentence of a message that stands ready in the workspace. The error says why it cannot be made.
func (b *Bench) Prepared(p *workspace.Prepared) (string, error) {
	s := &sending.Sentence{
		As:     p.As,
		To:     p.Topic,
		Of:     p.Parameters,
		QoS:    p.QoS,
		Retain: p.Retain,
		Every:  p.Every,
		Times:  p.Times,
	}
	cl := b.Workspace().Contract.Clause(p.Clause)
	var v any
	if p.Payload != nil {
		var err error
		v, err = p.Payload.Eval(nil, expression.Funcs{
			Now:    func() string { return time.Now().UTC().Format("2006-01-02T15:04:05.000Z") },
			Count:  func() int { return 0 },
			Choice: func(int) int { return 0 },
		})
		if err != nil {
			return "", fmt.Errorf("message %s: %w", p.Name, err)
		}
	}
	switch {
	case cl == nil && p.Clause != "":
		return "", fmt.Errorf("there is no clause %s: was the workspace edited?", p.Clause)
	case cl == nil && v == nil:
		s.Nothing = true
	case cl == nil:
		if text, is := v.(string); is {
			s.Payload = sending.Quoted(text)
		} else {
			s.Payload = contract.Compact(v)
		}
	default:
		var body []byte
		if p.Payload != nil {
			var err error
			if body, err = cl.Payload.Code().Encode(v); err != nil {
				return "", fmt.Errorf("message %s cannot be written as %s: %w", p.Name, cl.Payload.Format, err)
			}
		}
		begun := sending.Begin(cl, p.Parameters, p.As, body)
		s.As, s.To, s.Payload, s.Nothing = begun.As, begun.To, begun.Payload, begun.Nothing
	}
	return s.String(), nil
}

// Pin shows a clause's live value beside its devices from now on, or no longer: it is written into the workspace's file.
func (b *Bench) Pin(clause string, of map[string]string, pinned bool) error {
	return b.edit(func(d *workspace.Document, _ *workspace.Workspace) error {
		return d.Rewrite(func(text string) (string, error) { return workspace.PutReadout(text, clause, of, pinned) })
	})
}

// Pinned tells whether a clause's value is a readout for these parameters.
func (b *Bench) Pinned(clause string, of map[string]string) bool {
	return slices.ContainsFunc(b.Workspace().Readouts, func(r *workspace.Readout) bool {
		return r.Clause == clause && maps.Equal(r.Parameters, of)
	})
}

// ReadoutState is a readout with the cell that it shows.
type ReadoutState struct {
	Clause *contract.Clause
	Of     map[string]string
	Cell   *contract.Cell // nil before the first message
}

// Readouts are the workspace's readouts, a line for each topic that fits.
func (b *Bench) Readouts() (out []ReadoutState) {
	w := b.Workspace()
	cells := b.Snapshot().Cells
	for _, r := range w.Readouts {
		cl := w.Contract.Clause(r.Clause)
		if cl == nil {
			continue
		}
		found := false
		for _, c := range cells {
			if c.Clause.Name != r.Clause {
				continue
			}
			of := cl.Topic.Values(c.Topic)
			fits := true
			for name, v := range r.Parameters {
				fits = fits && of[name] == v
			}
			if !fits {
				continue
			}
			found = true
			out = append(out, ReadoutState{Clause: cl, Of: of, Cell: c})
		}
		if !found {
			out = append(out, ReadoutState{Clause: cl, Of: r.Parameters})
		}
	}
	return out
}
