package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/infile"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/plain"
	"hodstone/internal/trace"
)

// maxPayload is the largest payload that is read from a file: what MQTT can carry.
const maxPayload = packet.MaxRemainingLength - packet.MaxRemainingLength/1000

// sendFlags are the options of send.
type sendFlags struct {
	session
	recording
	qos           uint8
	retain, lines bool
	every         time.Duration
	times         int
	expiry        time.Duration
	contentType   string
	responseTopic string
	rawResponse   bool
	correlation   string
	text, aliases bool
	userProps     []string
	wait          time.Duration
	given         func(flag string) bool
}

func (e *Env) send() *cobra.Command {
	f := &sendFlags{}
	c := &cobra.Command{
		Use:   "send (WORKSPACE|URL) TOPIC [PAYLOAD|@FILE|-]",
		Short: "Publish a message, once or again and again, and tell what came of it",
		Long: `Publish a message and wait for its acknowledgement. The payload stands on the command
line, in a file (@FILE) or on standard input (-); without one it is empty, which clears a
retained message.

Where a broker's service takes messages by HTTPS, the URL says with {topic} where the topic
stands, and the message is posted there, with a client certificate where one is given: so a
set of credentials is tried before it goes on the device.

    hodstone send 'https://HOST:8443/topics/{topic}' TOPIC PAYLOAD --certificate C --key K --ca CA

With a workspace the message is first held against the contract; what it breaks is told,
and it is sent all the same, for that may be what is tried.

Exit code 0: all were taken; 1: the broker did not take one, or no response came;
2: wrong use; 3: the broker was not reached or refused.`,
		Args: cobra.RangeArgs(2, 3),
		RunE: func(c *cobra.Command, args []string) error {
			f.given = c.Flags().Changed
			return e.runSend(c.Context(), f, args)
		},
	}
	fl := c.Flags()
	f.session.flags(fl)
	f.recording.flags(fl)
	fl.Uint8Var(&f.qos, "qos", 1, "the QoS to publish with; with a workspace, that of the topic's clause by default")
	fl.BoolVar(
		&f.retain,
		"retain",
		false,
		"let the broker store it; with a workspace, as the topic's clause says by default",
	)
	fl.BoolVar(&f.lines, "lines", false, "with -: every line of standard input is a message of its own")
	fl.DurationVar(
		&f.every,
		"every",
		0,
		"send it again and again, with this time between; until --times or interrupted",
	)
	fl.IntVar(&f.times, "times", 0, "how often; once without --every")
	fl.DurationVar(&f.expiry, "message-expiry", 0, "version 5: how long the broker may keep it for others")
	fl.StringVar(&f.contentType, "content-type", "", "version 5: what the payload is")
	fl.BoolVar(
		&f.text,
		"payload-format-utf8",
		false,
		"version 5: say that the payload is UTF-8 (payload format indicator 1)",
	)
	fl.BoolVar(&f.rawResponse, "raw", false, "write the response's bytes as they came, for other programs")
	fl.StringVar(
		&f.responseTopic,
		"response-topic",
		"",
		"version 5: where the response is to go; it is waited for and written out",
	)
	fl.StringVar(
		&f.correlation,
		"correlation-data",
		"",
		"version 5: comes back with the response; made up with --response-topic",
	)
	fl.DurationVar(&f.wait, "response-within", 10*time.Second, "how long to wait for a response")
	fl.BoolVar(&f.aliases, "topic-alias", false, "version 5: replace the topic by an alias where the broker allows it")
	fl.StringArrayVar(&f.userProps, "user-property", nil, "version 5: NAME=VALUE; may be given several times")
	return c
}

// input returns the payloads to send, one after another.
func (e *Env) input(f *sendFlags, args []string) (next func() ([]byte, error), err error) {
	once := func(b []byte) func() ([]byte, error) {
		return func() ([]byte, error) { return b, nil }
	}
	if len(args) < 3 {
		return once(nil), nil
	}
	in := e.In
	if in == nil {
		in = strings.NewReader("")
	}
	file, isFile := strings.CutPrefix(args[2], "@")
	switch {
	case f.lines && args[2] != "-":
		return nil, usage("--lines goes with -, the standard input")
	case f.lines:
		s := bufio.NewScanner(in)
		s.Buffer(nil, maxPayload)
		return func() ([]byte, error) {
			if !s.Scan() {
				return nil, errors.Join(s.Err(), io.EOF)
			}
			return bytes.Clone(s.Bytes()), nil
		}, nil
	case args[2] == "-":
		b, err := io.ReadAll(io.LimitReader(in, maxPayload+1))
		if err == nil && len(b) > maxPayload {
			err = fmt.Errorf("more than %d bytes: MQTT carries no more", maxPayload)
		}
		if err != nil {
			return nil, usage("the payload cannot be read: %w", err)
		}
		return once(b), nil
	case isFile:
		b, err := infile.Read(file, maxPayload)
		if errors.Is(err, infile.ErrTooLarge) {
			err = fmt.Errorf("%s has more than %d bytes; MQTT carries no more", file, maxPayload)
		}
		if err != nil {
			return nil, usage("the payload cannot be read: %w", err)
		}
		return once(b), nil
	}
	return once([]byte(args[2])), nil
}

func (f *sendFlags) properties() (ps packet.Properties, err error) {
	if f.text {
		ps = append(ps, packet.Int(packet.PayloadFormat, 1))
	}
	if f.expiry > 0 {
		ps = append(ps, packet.Int(packet.MessageExpiry, uint32(f.expiry/time.Second)))
	}
	for _, s := range []struct {
		id    packet.PropertyID
		value string
	}{{packet.ContentType, f.contentType}, {packet.CorrelationData, f.correlation}} {
		if s.value != "" {
			ps = append(ps, packet.Str(s.id, s.value))
		}
	}
	user, err := userProperties(f.userProps)
	return append(ps, user...), err
}

func (e *Env) runSend(ctx context.Context, f *sendFlags, args []string) (err error) {
	name := args[1]
	if err := topic.CheckName(name); overHTTP(args[0]) && err == nil {
		return e.post(ctx, f, args[0], args)
	}
	if err := topic.CheckName(name); err != nil {
		return &exit{exitUsage, err}
	}
	if f.qos > 2 {
		return usage("--qos takes 0, 1 or 2")
	}
	if f.times < 0 || f.every < 0 {
		return usage("--times and --every cannot be negative")
	}
	next, err := e.input(f, args)
	if err != nil {
		return err
	}
	ps, err := f.properties()
	if err != nil {
		return err
	}
	p, err := e.find(&f.session, args[0])
	if err != nil {
		return err
	}
	defer p.close()
	switch {
	case p.standIn:
		return usage(
			"broker %s is a stand-in, which would be started for this message only and nobody would hear it: run 'hodstone stand-in %s' and send to the URL that it tells",
			p.name,
			args[0],
		)
	case p.options.Version != packet.V5 && (len(ps) > 0 || f.responseTopic != "" || f.aliases):
		return usage("properties of a message need version 5; the connection is made in %s", p.options.Version)
	}
	m := packet.Publish{Topic: name, QoS: packet.QoS(f.qos), Retain: f.retain, Properties: ps}
	if p.contract != nil {
		f.asAgreed(p.contract, &m)
	}
	log := trace.NewLog(commandTrace)
	stopRecord, err := f.recording.start(ctx, e, log, p.meta(args[0]))
	if err != nil {
		return err
	}
	defer func() {
		if closing := stopRecord(); closing != nil && err == nil {
			err = closing
		}
	}()
	p.options.UseAliases = f.aliases
	p.options.Hooks = trace.Record(
		trace.Source{Client: "send", Role: trace.RoleObserver, Broker: p.name, Version: p.options.Version},
		log,
	)
	c := client.New(p.options)
	if err := enter(ctx, c, nil, nil); err != nil {
		return p.why(ctx, err)
	}
	defer c.Disconnect(0)
	return e.sendAll(ctx, f, p, c, next, m)
}

// asAgreed takes the QoS and the retain flag from the topic's clause, unless they were given.
func (f *sendFlags) asAgreed(k *contract.Contract, m *packet.Publish) {
	cl, _ := k.Find(m.Topic)
	if cl == nil {
		return
	}
	if cl.QoS != nil && !f.given("qos") {
		m.QoS = *cl.QoS
	}
	if cl.Retain != nil && !f.given("retain") {
		m.Retain = *cl.Retain
	}
}

// sendAll sends until it has been done often enough, the input ends or the context does.
func (e *Env) sendAll(
	ctx context.Context,
	f *sendFlags,
	p *place,
	c *client.Client,
	next func() ([]byte, error),
	m packet.Publish,
) error {
	times := f.times
	if times == 0 && f.every == 0 && !f.lines {
		times = 1
	}
	for n := 0; times == 0 || n < times; n++ {
		if n > 0 && f.every > 0 {
			select {
			case <-time.After(f.every):
			case <-ctx.Done():
				return nil
			}
		}
		b, err := next()
		if errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return usage("the payload cannot be read: %w", err)
		}
		m.Payload = b
		if p.contract != nil {
			e.forewarn(p.contract, &m)
		}
		if err := e.sendOne(ctx, f, c, m); err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
	}
	return nil
}

// forewarn tells what the message breaks of the contract.
func (e *Env) forewarn(k *contract.Contract, m *packet.Publish) {
	j := contract.NewJudge(k, rule.All()).
		Message(contract.Message{At: time.Now(), Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Granted: m.QoS,
			Retain: m.Retain, RetainKnown: true})
	if j.Clause == nil {
		near := ""
		if j.Near != "" {
			near = "; meant for " + j.Near + "?"
		}
		plain.Fprintf(e.ErrOut, "hodstone: no clause covers %s%s\n", m.Topic, near)
	}
	for i := range j.Breaches {
		plain.Fprintf(e.ErrOut, "hodstone: this breaks clause %s: %s\n", j.Clause.Name, j.Breaches[i].String())
	}
}

func (e *Env) sendOne(ctx context.Context, f *sendFlags, c *client.Client, m packet.Publish) error {
	within := answerTimeout
	if f.responseTopic != "" {
		within = f.wait
	}
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("nothing came within %s", within))
	defer cancel()
	start := time.Now()
	if f.responseTopic != "" {
		r, err := c.Request(ctx, m, f.responseTopic)
		if err != nil {
			return &exit{exitBroken, err}
		}
		plain.Fprintf(e.ErrOut, "%s: response after %s\n", m.Topic, time.Since(start).Round(time.Microsecond))
		to := e.Out
		if f.rawResponse {
			to = e.raw
		} else {
			r.Payload = append(r.Payload, '\n')
		}
		_, err = to.Write(r.Payload)
		return err
	}
	code, err := c.Publish(ctx, m)
	ack := map[packet.QoS]packet.Type{1: packet.PUBACK, 2: packet.PUBCOMP}[m.QoS]
	switch {
	case err != nil:
		return &exit{exitBroken, err}
	case code >= 0x80:
		return &exit{
			exitBroken,
			fmt.Errorf("%s: the broker did not take it: 0x%02X, %s", m.Topic, byte(code), code.In(ack, packet.V5)),
		}
	case m.QoS == 0:
		plain.Fprintf(e.Out, "%s: sent at QoS 0, %d bytes; nobody acknowledges that\n", m.Topic, len(m.Payload))
	default:
		word := ""
		if code != 0 {
			word = ", " + code.In(ack, packet.V5)
		}
		plain.Fprintf(
			e.Out,
			"%s: %s after %s, %d bytes%s\n",
			m.Topic,
			ack,
			time.Since(start).Round(time.Microsecond),
			len(m.Payload),
			word,
		)
	}
	return nil
}
