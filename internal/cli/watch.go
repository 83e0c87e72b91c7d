package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/plain"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
)

const (
	commandTrace  = 50_000 // events of a command's own trace that wait for the recorder
	answerTimeout = 10 * time.Second
)

// watchFlags are the options of watch.
type watchFlags struct {
	session
	recording
	qos               uint8
	noLocal, rap      bool
	retainHandling    uint8
	subscriptionID    uint32
	json, devices     bool
	count             int
	duration          time.Duration
	subscribeUserProp []string
}

func (e *Env) watch() *cobra.Command {
	f := &watchFlags{}
	c := &cobra.Command{
		Use:   "watch (WORKSPACE|URL) [FILTER…]",
		Short: "Show the messages that come, and hold them against the contract",
		Long: `Subscribe to the topic filters, everything by default, and write a line for each message.
With a workspace every message is held against its contract; a stand-in of the workspace
is started together with the devices.

Messages and answers that were due and did not come are told too, and so are refused rights and
what devices of ours fail to do; nothing is missed while the link is down, and at a broker that is
not a stand-in only what was heard before: the rights may hide the rest.

Exit code 0: well; 1: something broke the contract, was missed or refused, or fewer than --count
came within --for; 2: wrong use; 3: the broker was not reached or refused.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runWatch(c.Context(), f, args[0], args[1:]) },
	}
	fl := c.Flags()
	f.session.flags(fl)
	f.recording.flags(fl)
	fl.Uint8Var(&f.qos, "qos", 2, "the QoS to ask for")
	fl.BoolVar(&f.noLocal, "no-local", false, "version 5: leave out what this client itself published")
	fl.BoolVar(
		&f.rap,
		"retain-as-published",
		false,
		"version 5: keep the publisher's retain flag; stored messages cannot be told from live ones then",
	)
	fl.Uint8Var(
		&f.retainHandling,
		"retain-handling",
		0,
		"version 5: 0 sends the stored messages, 1 for a new subscription only, 2 none",
	)
	fl.Uint32Var(&f.subscriptionID, "subscription-identifier", 0, "version 5: comes back with every message")
	fl.StringArrayVar(
		&f.subscribeUserProp,
		"user-property",
		nil,
		"version 5: NAME=VALUE for SUBSCRIBE; may be given several times",
	)
	fl.BoolVar(&f.json, "json", false, "write a JSON document for each message, one to a line")
	fl.IntVar(&f.count, "count", 0, "end after so many messages")
	fl.DurationVar(&f.duration, "for", 0, "end after this time")
	fl.BoolVar(&f.devices, "devices", false, "with a workspace of a real broker: run its devices too")
	return c
}

// watching is a watch at work.
type watching struct {
	e     *Env
	f     *watchFlags
	p     *place
	log   *trace.Log
	seen  *workbench.Observation // nil without a contract
	nudge func()                 // shows that the link stands
	blind string                 // since when, or how long, nothing was seen

	// What follows is of the goroutine that reads the trace, and read when it has ended.
	count  int
	broken int             // messages that broke the contract
	worse  map[string]int  // what else went wrong, by what it is
	told   map[string]bool // what was told once already
	done   chan struct{}   // closed when count is reached
}

// watched is a message in JSON.
type watched struct {
	At string `json:"at"`
	*report.MessageRecord
	Stored     bool                    `json:"stored"` // it was retained and greets the subscription
	Sender     string                  `json:"sender,omitempty"`
	Properties []report.PropertyRecord `json:"properties,omitempty"`
	Clause     string                  `json:"clause,omitempty"`
	Stray      bool                    `json:"stray,omitempty"` // no clause covers the topic
	Breaches   []string                `json:"breaches,omitempty"`
}

// happened is what is no message in JSON.
type happened struct {
	At string `json:"at"`
	// Event is "missing" for a message or an answer that was due, "refused" for rights, "device" for what a device
	// fails to do, "blind" and "sees" for the observer.
	Event  string `json:"event"`
	Client string `json:"client,omitempty"`
	Clause string `json:"clause,omitempty"`
	Topic  string `json:"topic,omitempty"`
	Text   string `json:"text"`
}

// The kinds of what happened.
const (
	hapMissing = "missing"
	hapRefused = "refused"
	hapDevice  = "device"
	hapBlind   = "blind"
	hapSees    = "sees"
)

func (e *Env) runWatch(ctx context.Context, f *watchFlags, where string, filters []string) (err error) {
	if len(filters) == 0 {
		filters = []string{"#"}
	}
	for _, x := range filters {
		if err := topic.CheckFilter(x); err != nil {
			return &exit{exitUsage, err}
		}
	}
	if f.qos > 2 || f.retainHandling > 2 {
		return usage("--qos and --retain-handling take 0, 1 or 2")
	}
	p, err := e.find(&f.session, where)
	if err != nil {
		return err
	}
	defer p.close()
	log := trace.NewLog(commandTrace)
	if p.bench != nil {
		log = p.bench.Log
	}
	user, err := userProperties(f.subscribeUserProp)
	if err != nil {
		return err
	}
	if f.subscriptionID > 0 {
		user = append(user, packet.Int(packet.SubscriptionIdentifier, f.subscriptionID))
	}
	if p.options.Version != packet.V5 && (len(user) > 0 || f.noLocal || f.rap || f.retainHandling > 0) {
		return usage(
			"--no-local, --retain-as-published, --retain-handling, --subscription-identifier and --user-property need version 5",
		)
	}
	stopRecord, err := f.recording.start(ctx, e, log, p.meta(where))
	if err != nil {
		return err
	}
	defer func() {
		if closing := stopRecord(); closing != nil && err == nil {
			err = closing
		}
	}()
	w := &watching{
		e:     e,
		f:     f,
		p:     p,
		log:   log,
		done:  make(chan struct{}),
		worse: map[string]int{},
		told:  map[string]bool{},
	}
	if p.contract != nil {
		w.seen = workbench.NewObservation(p.contract, watchName, p.name, p.bench.Players(), w.message, w.missing)
	}
	rec := trace.NewRecorder(
		trace.Source{Client: watchName, Role: trace.RoleObserver, Broker: p.name, Version: p.options.Version},
		log,
	)
	p.options.Hooks = rec.Hooks()
	if f.duration > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, f.duration, errors.New("the time is over"))
		defer cancel()
	}
	var subs []packet.Subscription
	for _, x := range filters {
		subs = append(
			subs,
			packet.Subscription{
				Filter:            x,
				QoS:               packet.QoS(f.qos),
				NoLocal:           f.noLocal,
				RetainAsPublished: f.rap,
				RetainHandling:    packet.RetainHandling(f.retainHandling),
			},
		)
	}
	c := client.New(p.options)
	w.nudge = func() { c.AskPing() }
	reading, stop := context.WithCancel(context.WithoutCancel(ctx))
	over := make(chan struct{})
	go func() {
		defer close(over)
		w.read(reading)
	}()
	err = w.run(ctx, c, rec, subs, user)
	stop()
	<-over
	if err != nil {
		return err
	}
	if w.blind != "" {
		plain.Fprintln(e.ErrOut, "hodstone:", w.blind)
	}
	return w.verdict()
}

// watchName is what the client of watch is called on the trace.
const watchName = "watch"

// verdict turns what was seen into the exit code.
func (w *watching) verdict() error {
	var wrong []string
	if w.broken > 0 {
		wrong = append(wrong, fmt.Sprintf("%d of %s broke the contract", w.broken, plain.Count(w.count, "message")))
	}
	for _, x := range []struct{ what, one, many string }{{hapMissing, "message or answer that was due did not come",
		"messages or answers that were due did not come"},
		{hapRefused, "thing was refused", "things were refused"},
		{hapDevice, "failure of a device", "failures of devices"}} {
		if n := w.worse[x.what]; n == 1 {
			wrong = append(wrong, "1 "+x.one)
		} else if n > 1 {
			wrong = append(wrong, fmt.Sprintf("%d %s", n, x.many))
		}
	}
	switch {
	case w.f.count > 0 && w.count < w.f.count:
		return &exit{exitBroken, fmt.Errorf("%d of %s came", w.count, plain.Count(w.f.count, "message"))}
	case len(wrong) > 0:
		return &exit{exitBroken, errors.New(strings.Join(wrong, "; "))}
	}
	return nil
}

// read follows the trace until the context ends, and then to its end.
func (w *watching) read(ctx context.Context) {
	js := trace.NewJourneys(1000) // without a contract, for stored copies alone
	for next := uint64(1); ; {
		events, missed := w.log.Read(next, 2000)
		next += uint64(len(events)) + missed
		for i := range events {
			w.event(&events[i])
		}
		if w.seen != nil {
			if w.seen.Take(events, missed) && w.nudge != nil {
				w.nudge()
			}
		} else {
			for i := range events {
				if e := &events[i]; e.Client == watchName && e.Kind == trace.Received && e.Publish() != nil {
					js.Add(e)
					w.message(e, workbench.Finding{})
				}
			}
		}
		if len(events) > 0 {
			continue
		}
		if ctx.Err() != nil {
			return
		}
		wait, cancel := context.WithTimeout(ctx, watchTick)
		w.log.Wait(wait, next)
		cancel()
	}
}

// watchTick is how often it is looked whether something is due.
const watchTick = 200 * time.Millisecond

// event tells of what is no message: refused rights, failures of devices, the observer's own sight.
func (w *watching) event(e *trace.Event) {
	refused := func(what string, code packet.ReasonCode, t packet.Type) {
		w.happen(
			e,
			hapRefused,
			"",
			"",
			fmt.Sprintf("%s: %s was refused: %s %s", e.Client, what, code.Code(t, e.Version), code.In(t, e.Version)),
		)
	}
	switch {
	case e.Role == trace.RoleDevice && e.Kind == trace.Line:
		w.happen(e, hapDevice, "", "", e.Client+": "+e.Text)
	case e.Client == watchName && e.Kind == trace.Link &&
		(e.Link == client.LinkEnded || e.Link == client.LinkFailed) && e.By != client.ByUs:
		w.happen(e, hapBlind, "", "", "the observer does not see: "+e.Text)
	case e.Client == watchName && e.Kind == trace.Link && e.Link == client.Watching && w.told[hapBlind]:
		w.happen(e, hapSees, "", "", "the observer sees again")
	case e.Kind != trace.Received || e.Own() || e.Role == trace.RoleObserver && e.Client != watchName:
	default:
		switch p := e.Packet.(type) {
		case *packet.Connack:
			if p.Code != 0 {
				refused("CONNECT", p.Code, packet.CONNACK)
			}
		case *packet.Suback:
			for _, c := range p.Codes {
				if c >= 0x80 {
					refused("a subscription", c, packet.SUBACK)
				}
			}
		case *packet.Puback:
			if p.Code >= 0x80 {
				refused("a message", p.Code, packet.PUBACK)
			}
		case *packet.Pubrec:
			if p.Code >= 0x80 {
				refused("a message", p.Code, packet.PUBREC)
			}
		}
	}
}

// happen writes what is no message.
func (w *watching) happen(e *trace.Event, what, clause, topic, text string) {
	if w.over() {
		return
	}
	w.worse[what]++
	w.told[what] = true
	at, name := time.Now(), ""
	if e != nil {
		at, name = e.At, e.Client
	}
	if w.f.json {
		w.encode(
			happened{
				At:     at.Format(time.RFC3339Nano),
				Event:  what,
				Client: name,
				Clause: clause,
				Topic:  topic,
				Text:   text,
			},
		)
		return
	}
	sign := map[string]string{hapMissing: "○", hapRefused: "✗", hapDevice: "✗", hapBlind: "!", hapSees: "✓"}[what]
	plain.Fprintf(w.e.Out, "%s  %s %s\n", at.Format("15:04:05.000"), sign, text)
}

// missing tells of messages and answers that were due.
func (w *watching) missing(found []contract.Breach) {
	for _, b := range found {
		w.happen(&trace.Event{At: b.At, Client: b.Sender}, hapMissing, b.Clause, b.Topic, b.String())
	}
}

func (w *watching) encode(v any) {
	e := json.NewEncoder(w.e.Out)
	e.SetEscapeHTML(false)
	e.Encode(v)
}

// over tells whether enough has come.
func (w *watching) over() bool { return w.f.count > 0 && w.count == w.f.count }

// run stays connected until the context ends or the count is reached.
func (w *watching) run(
	ctx context.Context,
	c *client.Client,
	rec *trace.Recorder,
	subs []packet.Subscription,
	ps packet.Properties,
) error {
	defer func() {
		if w.seen != nil { // before we end it ourselves
			w.blind = w.seen.Blind()
		}
		c.Disconnect(0)
	}()
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(rand.Uint64(), 1))}
	for first := true; ; first = false {
		start := time.Now()
		err := enter(ctx, c, subs, ps)
		if ctx.Err() != nil {
			if err != nil && (first || errors.Is(ctx.Err(), context.DeadlineExceeded)) {
				return w.out(first, err)
			}
			return nil
		}
		if err != nil && first {
			return w.p.why(ctx, err)
		}
		if err == nil {
			if w.seen != nil {
				// A broker that is not ours may grant a filter and deliver only what the rights allow: what was
				// never heard there is not missed.
				filters := []string{}
				for _, s := range subs {
					if w.p.standIn {
						filters = append(filters, s.Filter)
					}
				}
				w.seen.Sees(w.p.name, filters, w.f.rap)
			}
			rec.Add(trace.Event{Kind: trace.Link, Link: client.Watching, Text: "watches"})
			if !first {
				plain.Fprintln(w.e.ErrOut, "hodstone: back at", w.p.name)
			}
			if first && w.p.bench != nil && (w.p.standIn || w.f.devices) {
				w.p.bench.Start()
			}
			select {
			case <-ctx.Done():
				return nil
			case <-w.done:
				return nil
			case <-c.Done():
				err = backoff.Ended(c.Ended(), time.Since(start), w.p.options.Connect.ClientID)
			}
		}
		wait := backoff.Next()
		plain.Fprintf(w.e.ErrOut, "hodstone: %s: %v; trying again in %s\n", w.p.name, err, wait.Round(time.Millisecond))
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return w.out(false, err)
			}
			return nil
		case <-time.After(wait):
		}
	}
}

// out is how a watch ends whose time is over while it is not in: nobody must take that for a quiet broker.
func (w *watching) out(never bool, err error) error {
	what := "the time was over while the link was down"
	if never {
		what = "nothing was watched: it ended before the broker had answered"
	}
	return &exit{exitNotReached, fmt.Errorf("%s: %s: %w", w.p.name, what, err)}
}

// enter connects and subscribes.
func enter(ctx context.Context, c *client.Client, subs []packet.Subscription, ps packet.Properties) error {
	ctx, cancel := context.WithTimeoutCause(ctx, answerTimeout, fmt.Errorf("no answer within %s", answerTimeout))
	defer cancel()
	if _, err := c.Connect(ctx); err != nil {
		return notReached("not connected", err)
	}
	if len(subs) == 0 {
		return nil
	}
	ack, err := c.Subscribe(ctx, subs, ps...)
	if errors.Is(err, client.ErrNotConnected) { // right after CONNACK
		<-c.Done()
		if ended := c.Ended(); ended != nil {
			err = ended
		}
	}
	if err != nil {
		return notReached("not subscribed", err)
	}
	for i, code := range ack.Codes {
		if code > 2 {
			return &exit{
				exitNotReached,
				fmt.Errorf("the broker refused the filter %s: %s", subs[i].Filter, code.In(packet.SUBACK, c.Version())),
			}
		}
	}
	return nil
}

// message writes a message that came.
func (w *watching) message(e *trace.Event, f workbench.Finding) {
	if w.over() {
		return
	}
	w.count++
	m := *e.Publish()
	m.Topic = e.Topic()
	stored := e.Meaning.Stored == trace.StorageCopy
	out := watched{
		At:            e.At.Format(time.RFC3339Nano),
		MessageRecord: report.NewMessageRecord(&m),
		Stored:        stored,
		Sender:        f.Sender,
		Properties:    report.NewPropertyRecords(m.Properties),
	}
	if j := f.Judgement; w.seen != nil {
		if out.Stray = j.Clause == nil; !out.Stray {
			out.Clause = j.Clause.Name
		}
		for i := range j.Breaches {
			out.Breaches = append(out.Breaches, j.Breaches[i].String())
		}
	}
	if len(out.Breaches) > 0 {
		w.broken++
	}
	if w.f.json {
		w.encode(out)
	} else {
		if j := f.Judgement; j.Clause != nil {
			if text, ok := j.Clause.Payload.Spelled(m.Payload); ok {
				m.Payload = []byte(text)
			}
		}
		line := report.MessageLine(e.At, &m, stored)
		if f.Sender != "" {
			line += "  from " + f.Sender
		}
		plain.Fprintln(w.e.Out, line)
		if out.Stray {
			plain.Fprintln(w.e.Out, "    ? stray: no clause covers this topic")
		}
		for _, b := range out.Breaches {
			plain.Fprintln(w.e.Out, "    ✗ "+b)
		}
	}
	if w.over() {
		close(w.done)
	}
}
