package wire

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// packetView is a packet, opened.
type packetView struct {
	event   trace.Event
	finding workbench.Finding
	judged  bool
	journey *trace.Journey
	spans   []packet.Span
	broken  error
	text    *look.Scrolled
	shows   payloadView
}

// payloadView is how a payload is shown.
type payloadView int

// The ways to show a payload.
const (
	payloadText payloadView = iota
	payloadTree
	payloadHex
)

var payloadNames = []string{"text", "tree", "hex"}

func newPacketView(s *Screen, e trace.Event) *packetView {
	v := &packetView{event: e, text: look.NewScrolled()}
	if len(e.Raw) > 0 {
		v.spans, v.broken = packet.Annotate(e.Raw, e.Version)
	}
	v.refresh(s)
	return v
}

// refresh takes in what the judge has found since, and further receivers.
func (v *packetView) refresh(s *Screen) {
	if v.event.Publish() == nil {
		return
	}
	v.finding, v.judged = s.bench.Finding(v.event.Seq)
	if j, ok := s.bench.Journey(v.event.Seq); ok {
		v.journey = &j
	}
}

func (v *packetView) actions(s *Screen) []look.Action {
	out := []look.Action{
		look.Let("esc backspace", "back", func() { s.open = nil }),
		v.text.Action(),
		look.Keys("[ ]", "previous, next packet", []string{"[", "]"}, func(k string) { v.beside(s, k == "]") }),
	}
	p := v.event.Publish()
	if p == nil {
		return out
	}
	if len(p.Payload) > 0 {
		out = append(out, look.Let("v", "payload as "+payloadNames[v.after()], func() { v.shows = v.after() }))
	}
	return append(append(out, copies(&v.event)...), s.says(&v.event)...)
}

// beside opens the packet before or after.
func (v *packetView) beside(s *Screen, after bool) {
	to := s.cursor - 1
	if after {
		to = s.cursor + 1
	}
	if e, ok := s.event(to); ok {
		s.cursor, s.follow = to, false
		s.open = newPacketView(s, e)
		s.open.shows = v.shows
	}
}

// after returns the next way to show the payload; a tree needs JSON.
func (v *packetView) after() payloadView {
	next := (v.shows + 1) % payloadView(len(payloadNames))
	if next == payloadTree {
		if _, ok := payload.Tree(v.event.Publish().Payload); !ok {
			next++
		}
	}
	return next
}

func (v *packetView) draw(c look.Canvas) {
	t := c.Theme
	e := &v.event
	way := map[trace.Kind]string{trace.Sent: "sent by " + e.Client + " to " + e.Broker, trace.Received: "received by " + e.Client + " from " + e.Broker,
		trace.Link: "link of " + e.Client + " to " + e.Broker}[e.Kind]
	x := c.Text(1, 0, title(e)+"  ", t.Strong)
	c.Text(
		x,
		0,
		look.Clip(
			fmt.Sprintf("%s at %s, connection %d, MQTT %s", way, e.At.Format("15:04:05.000000"), e.Conn, e.Version),
			c.W-x,
		),
		t.Dim,
	)
	v.text.Draw(c.Sub(0, 1, c.W, c.H-1), v.build(c.W, t))
}

func title(e *trace.Event) string {
	if e.Packet == nil {
		return e.Describe()
	}
	return e.Packet.Type().String()
}

func (v *packetView) build(w int, t *look.Theme) (out []look.Line) {
	add := func(parts ...look.Part) { out = append(out, parts) }
	rule := func(s string) { out = append(out, look.RuleLine(s, w, t)) }
	pair := func(k, val string, st look.Style) {
		for i, l := range look.Wrap(val, w-20) {
			if i == 0 {
				add(look.At(2, k, t.Dim), look.At(18, l, st))
			} else {
				add(look.At(18, l, st))
			}
		}
	}
	e := &v.event
	switch e.Kind {
	case trace.Link:
		pair(string(e.Link), e.Text, t.Text)
		return out
	case trace.Line, trace.Gap:
		pair(map[trace.Kind]string{trace.Line: "line", trace.Gap: "gap"}[e.Kind], e.Describe(), t.Text)
		return out
	}
	v.contract(t, rule, pair)
	v.hops(t, rule, pair)
	if about := packet.About(e.Packet, e.Version); e.Packet != nil && len(about.Properties) > 0 {
		rule(look.Plural(len(about.Properties), "property"))
		for _, p := range about.Properties {
			pair(p.ID.String(), p.Show(), t.Text)
		}
	}
	if p := e.Publish(); p != nil && len(p.Payload) > 0 {
		v.payload(p.Payload, w, t, rule, add)
	}
	rule(fmt.Sprintf("bytes, %d in all, and what they mean", len(e.Raw)))
	if v.broken != nil {
		pair("✗ malformed", v.broken.Error(), t.Broken)
	}
	per := 8
	if w >= 110 {
		per = 16
	}
	nameW := 26
	if w < 80 { // meaning needs the room more than bytes do
		per, nameW = 4, 22
	}
	at := 8 + per*3 + 2
	for _, s := range v.spans {
		st := t.Text
		value := s.Value
		if s.Secret {
			st = t.Old
		}
		for i := s.Start; i < s.End || i == s.Start; i += per {
			hex := fmt.Sprintf("% x", e.Raw[i:min(i+per, s.End)])
			if s.Secret {
				hex = strings.Repeat("•• ", min(i+per, s.End)-i)
			}
			parts := []look.Part{look.At(2, fmt.Sprintf("%04x", i), t.Old), look.At(8, hex, t.Ours)}
			if i == s.Start {
				parts = append(parts, look.At(at, s.Name, t.Dim), look.At(at+nameW, value, st))
			}
			add(parts...)
			if i-s.Start > 512 { // a long payload: its text stands above
				add(look.At(8, fmt.Sprintf("… %d more bytes", s.End-i-per), t.Dim))
				break
			}
		}
	}
	return out
}

// contract says how the message stands against the contract.
func (v *packetView) contract(t *look.Theme, rule func(string), pair func(k, val string, st look.Style)) {
	if !v.judged {
		return
	}
	rule("contract")
	j := v.finding.Judgement
	if j.Clause == nil {
		text := "no clause covers " + v.event.Topic()
		if j.Near != "" {
			text += "; meant for " + j.Near + "?"
		}
		pair("? stray", text, t.Warn)
	} else {
		pair("clause", j.Clause.Name+"  "+j.Clause.Note, t.Text)
		if len(j.Breaches) == 0 {
			pair("✓ kept", "nothing is wrong with this message", t.Kept)
		}
	}
	for _, b := range j.Breaches {
		pair("✗ breach", b.String(), t.Broken)
	}
	who := v.finding.Sender
	if who == "" {
		who = "unknown: the broker does not tell, and no client of ours sent it"
	}
	if v.journey != nil && v.journey.Will {
		who += ", by its will: the broker published it"
	}
	pair("sender", who, t.Text)
}

// hops follows the message to its receivers.
func (v *packetView) hops(t *look.Theme, rule func(string), pair func(k, val string, st look.Style)) {
	j := v.journey
	if j == nil {
		return
	}
	rule("journey")
	if j.Sender != "" {
		text := fmt.Sprintf("QoS %d", j.QoS)
		if j.Retain {
			text += ", retain"
		}
		if j.QoS > 0 && !j.Done.IsZero() {
			text += ", acknowledged after " + look.Duration(j.Done.Sub(j.SentAt))
		} else if j.QoS > 0 {
			text += ", not acknowledged yet"
		}
		if j.Resent > 0 {
			text += fmt.Sprintf(", sent again %d×", j.Resent)
		}
		if j.Tap != "" {
			text += ", " + string(j.Tap)
		}
		pair("from "+j.Sender, text, t.Text)
	}
	for _, h := range j.Hops {
		text := fmt.Sprintf("QoS %d, retain flag %d", h.QoS, map[bool]int{true: 1}[h.Retain])
		if h.Copy {
			text += ", a stored message that greeted its subscription"
		}
		if h.Delay > 0 {
			text += ", after " + look.Duration(h.Delay.Round(time.Microsecond))
		}
		pair("to "+h.Client, text, t.Text)
	}
	if len(j.Hops) == 0 {
		pair("to", "nobody that we watch", t.Dim)
	}
}

// payload shows what the message carries, in the way that is chosen. An image is named and
// measured first.
func (v *packetView) payload(b []byte, w int, t *look.Theme, rule func(string), add func(...look.Part)) {
	title := fmt.Sprintf("payload, %s", look.Plural(len(b), "byte"))
	picture, isImage := payload.Image(b)
	if isImage {
		title += fmt.Sprintf(": %s image, %d × %d", picture.Format, picture.Width, picture.Height)
	}
	rows, isTree := payload.Tree(b)
	shows := v.shows
	if shows == payloadTree && !isTree || shows == payloadText && !printable(b) {
		shows = payloadHex
	}
	rule(title + ", as " + payloadNames[shows])
	switch shows {
	case payloadTree:
		keyW, valueW := 0, 0
		for _, r := range rows {
			keyW, valueW = max(keyW, 2*r.Depth+look.Width(r.Key)), max(valueW, look.Width(r.Value))
		}
		valueAt := min(8+max(keyW, 9), w/2)
		kindAt := min(valueAt+valueW+2, w-8)
		for _, r := range rows {
			x := 2 + 2*r.Depth
			st := t.Text
			sign := "· "
			if r.Kind == "object" || r.Kind == "array" {
				st, sign = t.Dim, "▾ "
			}
			key := r.Key
			if key == "" {
				key = "payload"
			}
			add(
				look.At(x, sign+look.Middle(key, valueAt-x-3), t.Dim),
				look.At(valueAt, look.Clip(r.Value, kindAt-valueAt-1), st),
				look.At(kindAt, r.Kind, t.Old),
			)
		}
	case payloadHex:
		per := 16
		if w < 90 {
			per = 8
		}
		most := b[:min(len(b), maxHex)]
		for _, l := range payload.Hex(most, per) {
			add(look.At(2, l, t.Ours))
		}
		if len(b) > maxHex {
			add(look.At(2, fmt.Sprintf("… %d more bytes", len(b)-maxHex), t.Dim))
		}
	default:
		for _, l := range pretty(b[:min(len(b), maxShownText)]) {
			for _, wrapped := range look.Wrap(l, w-4) {
				add(look.At(2, wrapped, t.Text))
			}
		}
		if len(b) > maxShownText {
			add(look.At(2, fmt.Sprintf("… %d more bytes", len(b)-maxShownText), t.Dim))
		}
	}
}

// How much of a payload is shown: what a person would scroll over.
const (
	maxHex       = 64 << 10
	maxShownText = 256 << 10
)

func printable(b []byte) bool {
	if !utf8.Valid(b) {
		return false
	}
	for _, r := range string(b) {
		if r < ' ' && r != '\n' && r != '\t' && r != '\r' {
			return false
		}
	}
	return true
}

// pretty writes a text for reading: JSON indented, other text by lines.
func pretty(b []byte) []string {
	var out bytes.Buffer
	if json.Valid(b) && (b[0] == '{' || b[0] == '[') && json.Indent(&out, b, "", "  ") == nil {
		return strings.Split(out.String(), "\n")
	}
	return strings.Split(strings.ReplaceAll(string(b), "\t", "    "), "\n")
}
