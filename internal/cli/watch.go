package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/record"
	"hodstone/internal/report"
	"hodstone/internal/trace"
)

const (
	commandTrace  = 50_000 // events of a command's own trace that wait for the recorder
	answerTimeout = 10 * time.Second
)

// recording holds the options of keeping a trace.
type recording struct {
	path    string
	maxSize int64
	maxAge  time.Duration
	follow  []string

	recorder *record.Recorder // at work, or nil
}

func (r *recording) flags(fl *pflag.FlagSet) {
	fl.StringVar(&r.path, "record", "", "record the trace into this file, which must not exist yet")
	fl.Int64Var(&r.maxSize, "record-max-size", 0, "begin another file when it is larger than so many bytes")
	fl.DurationVar(&r.maxAge, "record-max-age", 0, "begin another file when it is older")
	fl.StringArrayVar(&r.follow, "follow", nil, "NAME=PATH of a log, console or pipe whose lines go onto the record; may be given several times")
}

// start begins to record and to follow; close ends it and tells what came of it.
func (r *recording) start(ctx context.Context, e *Env, log *trace.Log, meta map[string]string) (close func() error, err error) {
	var recorder *record.Recorder
	if r.path != "" {
		recorder, err = record.Start(log, 1, record.Options{Path: r.path, Meta: meta, MaxSize: r.maxSize, MaxAge: r.maxAge})
		if err != nil {
			return nil, &exit{exitUsage, err}
		}
		r.recorder = recorder
	} else if r.maxSize != 0 || r.maxAge != 0 {
		return nil, usage("--record-max-size and --record-max-age go with --record")
	}
	ctx, stop := context.WithCancel(ctx)
	var following []<-chan struct{}
	close = func() error {
		stop()
		for _, done := range following {
			<-done
		}
		if recorder == nil {
			return nil
		}
		err := recorder.Close()
		s := recorder.State()
		fmt.Fprintf(e.ErrOut, "recorded %d events into %s", s.Events, strings.Join(append(s.Rotated, s.Path), ", "))
		if s.Missed > 0 {
			fmt.Fprintf(e.ErrOut, "; %d came too fast and are missing", s.Missed)
		}
		fmt.Fprintln(e.ErrOut)
		return err
	}
	for _, f := range r.follow {
		name, path, ok := strings.Cut(f, "=")
		if !ok || name == "" {
			close()
			return nil, usage("--follow takes NAME=PATH, not %q", f)
		}
		done, err := record.Follow(ctx, name, path, log)
		if err != nil {
			close()
			return nil, &exit{exitUsage, err}
		}
		following = append(following, done)
	}
	return close, nil
}

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

Exit code 0: well; 1: a message broke the contract, or fewer than --count came within
--for; 2: wrong use; 3: the broker was not reached or refused.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runWatch(c.Context(), f, args[0], args[1:]) },
	}
	fl := c.Flags()
	f.session.flags(fl)
	f.recording.flags(fl)
	fl.Uint8Var(&f.qos, "qos", 2, "the QoS to ask for")
	fl.BoolVar(&f.noLocal, "no-local", false, "version 5: leave out what this client itself published")
	fl.BoolVar(&f.rap, "retain-as-published", false, "version 5: keep the publisher's retain flag; stored messages cannot be told from live ones then")
	fl.Uint8Var(&f.retainHandling, "retain-handling", 0, "version 5: 0 sends the stored messages, 1 for a new subscription only, 2 none")
	fl.Uint32Var(&f.subscriptionID, "subscription-identifier", 0, "version 5: comes back with every message")
	fl.StringArrayVar(&f.subscribeUserProp, "user-property", nil, "version 5: NAME=VALUE for SUBSCRIBE; may be given several times")
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
	judge *contract.Judge

	mu     sync.Mutex
	count  int
	broken int
	done   chan struct{} // closed when count is reached
}

// watched is a message in JSON.
type watched struct {
	At string `json:"at"`
	*report.MessageRecord
	Stored     bool                    `json:"stored"` // it was retained and greets the subscription
	Properties []report.PropertyRecord `json:"properties,omitempty"`
	Clause     string                  `json:"clause,omitempty"`
	Stray      bool                    `json:"stray,omitempty"` // no clause covers the topic
	Breaches   []string                `json:"breaches,omitempty"`
}

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
		return usage("--no-local, --retain-as-published, --retain-handling, --subscription-identifier and --user-property need version 5")
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
	w := &watching{e: e, f: f, p: p, done: make(chan struct{})}
	if p.contract != nil {
		w.judge = contract.NewJudge(p.contract, rule.All())
	}
	p.options.Message = w.message
	p.options.Hooks = trace.Record(trace.Source{Client: "watch", Role: trace.RoleObserver, Broker: p.name, Version: p.options.Version}, log)
	if f.duration > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, f.duration)
		defer cancel()
	}
	var subs []packet.Subscription
	for _, x := range filters {
		subs = append(subs, packet.Subscription{Filter: x, QoS: packet.QoS(f.qos), NoLocal: f.noLocal, RetainAsPublished: f.rap, RetainHandling: packet.RetainHandling(f.retainHandling)})
	}
	if err := w.run(ctx, subs, user); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case f.count > 0 && w.count < f.count:
		return &exit{exitBroken, fmt.Errorf("%d of %d messages came", w.count, f.count)}
	case w.broken > 0:
		return &exit{exitBroken, fmt.Errorf("%d of %d messages broke the contract", w.broken, w.count)}
	}
	return nil
}

// run stays connected until the context ends or the count is reached.
func (w *watching) run(ctx context.Context, subs []packet.Subscription, ps packet.Properties) error {
	c := client.New(w.p.options)
	defer c.Disconnect(0)
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(rand.Uint64(), 1))}
	for first := true; ; first = false {
		start := time.Now()
		err := enter(ctx, c, subs, ps)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil && first {
			return err
		}
		if err == nil {
			if !first {
				fmt.Fprintln(w.e.ErrOut, "hodstone: back at", w.p.name)
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
		fmt.Fprintf(w.e.ErrOut, "hodstone: %s: %v; trying again in %s\n", w.p.name, err, wait.Round(time.Millisecond))
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
	}
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
	if err != nil {
		return notReached("not subscribed", err)
	}
	for i, code := range ack.Codes {
		if code > 2 {
			return &exit{exitNotReached, fmt.Errorf("the broker refused the filter %s: %s", subs[i].Filter, code.In(packet.SUBACK, c.Version()))}
		}
	}
	return nil
}

// message writes a message; it is called by the client's reading goroutine.
func (w *watching) message(m *packet.Publish) {
	now := time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.f.count > 0 && w.count == w.f.count {
		return
	}
	w.count++
	stored := m.Retain && !w.f.rap
	out := watched{At: now.Format(time.RFC3339Nano), MessageRecord: report.NewMessageRecord(m), Stored: stored, Properties: report.NewPropertyRecords(m.Properties)}
	if w.judge != nil {
		j := w.judge.Message(contract.Message{At: now, Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Granted: packet.QoS(w.f.qos), Retain: m.Retain, RetainKnown: w.f.rap, Copy: stored})
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
		e := json.NewEncoder(w.e.Out)
		e.SetEscapeHTML(false)
		e.Encode(out)
	} else {
		fmt.Fprintln(w.e.Out, report.MessageLine(now, m, stored))
		if out.Stray {
			fmt.Fprintln(w.e.Out, "    ? stray: no clause covers this topic")
		}
		for _, b := range out.Breaches {
			fmt.Fprintln(w.e.Out, "    ✗ "+b)
		}
	}
	if w.count == w.f.count {
		close(w.done)
	}
}
