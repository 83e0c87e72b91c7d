package report

import (
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/trace"
)

// EventRecord is an event of a trace as JSON. Fields that do not apply are left out.
type EventRecord struct {
	N          uint64           `json:"n"`
	At         string           `json:"at"` // RFC 3339, with nanoseconds
	Client     string           `json:"client,omitempty"`
	Role       string           `json:"role,omitempty"`
	Broker     string           `json:"broker,omitempty"`
	Connection int              `json:"connection,omitempty"`
	Kind       string           `json:"kind"` // sent, received, link, line, gap
	Version    string           `json:"version,omitempty"`
	Packet     string           `json:"packet,omitempty"`
	ID         uint16           `json:"packet_identifier,omitempty"`
	Reason     string           `json:"reason,omitempty"`
	Message    *MessageRecord   `json:"message,omitempty"`
	Properties []PropertyRecord `json:"properties,omitempty"`
	Text       string           `json:"text,omitempty"`
	Broken     string           `json:"broken,omitempty"` // the rule that the bytes break
	Missed     uint64           `json:"missed,omitempty"`
	Raw        string           `json:"raw,omitempty"` // hexadecimal; secrets are masked
}

// MessageRecord is a PUBLISH.
type MessageRecord struct {
	Topic   string `json:"topic"`
	QoS     int    `json:"qos"`
	Retain  bool   `json:"retain"`
	Dup     bool   `json:"dup,omitempty"`
	Payload string `json:"payload"`
	// Encoding is "base64" where the payload is not well-formed UTF-8.
	Encoding string `json:"payload_encoding,omitempty"`
	Bytes    int    `json:"payload_bytes"`
}

// PropertyRecord is a property in the standard's words.
type PropertyRecord struct {
	Name  string `json:"name"`
	Key   string `json:"key,omitempty"` // of a user property
	Value any    `json:"value"`
}

// NewMessageRecord turns a PUBLISH into its record.
func NewMessageRecord(p *packet.Publish) *MessageRecord {
	m := &MessageRecord{
		Topic:   p.Topic,
		QoS:     int(p.QoS),
		Retain:  p.Retain,
		Dup:     p.Dup,
		Payload: string(p.Payload),
		Bytes:   len(p.Payload),
	}
	if !utf8.Valid(p.Payload) {
		m.Payload, m.Encoding = base64.StdEncoding.EncodeToString(p.Payload), "base64"
	}
	return m
}

// NewPropertyRecords turns properties into records.
func NewPropertyRecords(ps packet.Properties) (out []PropertyRecord) {
	for _, p := range ps {
		r := PropertyRecord{Name: p.ID.String(), Key: p.Key}
		switch {
		case p.ID == packet.CorrelationData:
			r.Value = base64.StdEncoding.EncodeToString([]byte(p.Value))
		case p.ID == packet.AuthData:
			r.Value = p.Show()
		case p.Text():
			r.Value = p.Value
		default:
			r.Value = p.Int
		}
		out = append(out, r)
	}
	return out
}

// WayOf says which way a packet went: "sent" by the client, or "received".
func WayOf(k trace.Kind) string { return kindWords[k] }

// kindWords are the kinds of events in words.
var kindWords = map[trace.Kind]string{
	trace.Sent:     "sent",
	trace.Received: "received",
	trace.Link:     "link",
	trace.Line:     "line",
	trace.Gap:      "gap",
	trace.Held:     "held",
	trace.Lost:     "lost",
}

// Stopped says in a word that a packet has not left the client: the link holds it back, or it was lost
// with the link; "" for any other event.
func Stopped(e *trace.Event) string {
	switch e.Kind {
	case trace.Held:
		return "held"
	case trace.Lost:
		return "lost"
	}
	return ""
}

// NewEventRecord turns an event into its record.
func NewEventRecord(e *trace.Event) EventRecord {
	r := EventRecord{
		N:          e.Seq,
		At:         e.At.Format(time.RFC3339Nano),
		Client:     e.Client,
		Role:       string(e.Role),
		Broker:     e.Broker,
		Connection: e.Conn,
		Kind:       kindWords[e.Kind],
		Text:       e.Text,
		Broken:     e.Broken,
		Missed:     e.Missed,
		Raw:        hex.EncodeToString(e.Raw),
	}
	if e.Version != 0 {
		r.Version = e.Version.String()
	}
	if e.Kind == trace.Link {
		r.Text = string(e.Link) + ": " + e.Text
	}
	if e.Packet == nil {
		return r
	}
	r.Packet = e.Packet.Type().String()
	about := packet.About(e.Packet, e.Version)
	r.ID, r.Properties = about.ID, NewPropertyRecords(about.Properties)
	if about.Coded {
		r.Reason = fmt.Sprintf(
			"%s %s",
			about.Code.Code(e.Packet.Type(), e.Version),
			about.Code.In(e.Packet.Type(), e.Version),
		)
	}
	if p := e.Publish(); p != nil {
		r.Message = NewMessageRecord(p)
		r.Message.Topic = e.Topic()
	}
	return r
}

// JSONLines writes events as JSON, one to a line.
type JSONLines struct{ e *json.Encoder }

// NewJSONLines returns a writer of JSON Lines.
func NewJSONLines(w io.Writer) *JSONLines {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return &JSONLines{e}
}

// Write writes one event.
func (j *JSONLines) Write(e *trace.Event) error { return j.e.Encode(NewEventRecord(e)) }

// Close does nothing.
func (j *JSONLines) Close() error { return nil }

// CSV writes events as comma-separated values with a header (RFC 4180).
type CSV struct{ w *csv.Writer }

// NewCSV returns a writer of CSV and writes the header.
func NewCSV(w io.Writer) *CSV {
	c := &CSV{csv.NewWriter(w)}
	c.w.Write(
		[]string{
			"n",
			"at",
			"client",
			"role",
			"broker",
			"connection",
			"kind",
			"version",
			"packet",
			"packet identifier",
			"reason",
			"topic",
			"qos",
			"retain",
			"dup",
			"payload bytes",
			"payload",
			"text",
		},
	)
	return c
}

// Write writes one event.
func (c *CSV) Write(e *trace.Event) error {
	r := NewEventRecord(e)
	row := []string{
		strconv.FormatUint(r.N, 10),
		r.At,
		r.Client,
		r.Role,
		r.Broker,
		strconv.Itoa(r.Connection),
		r.Kind,
		r.Version,
		r.Packet,
		"",
		r.Reason,
		"",
		"",
		"",
		"",
		"",
		"",
		r.Text,
	}
	if r.ID != 0 {
		row[9] = strconv.Itoa(int(r.ID))
	}
	if m := r.Message; m != nil {
		copy(
			row[11:],
			[]string{
				m.Topic,
				strconv.Itoa(m.QoS),
				strconv.FormatBool(m.Retain),
				strconv.FormatBool(m.Dup),
				strconv.Itoa(m.Bytes),
				m.Payload,
			},
		)
	} else if e.Packet != nil {
		row[17] = e.Describe()
	}
	if r.Broken != "" {
		row[17] = "broken: " + r.Broken
	}
	for i := range row {
		row[i] = cell(row[i])
	}
	return c.w.Write(row)
}

// Close writes what is left.
func (c *CSV) Close() error {
	c.w.Flush()
	return c.w.Error()
}

// EventLine writes an event as a line for a terminal.
func EventLine(e *trace.Event) string {
	way := map[trace.Kind]string{trace.Sent: "→", trace.Received: "←", trace.Link: "·", trace.Line: "│", trace.Gap: "⋯", trace.Held: "▯", trace.Lost: "╳"}[e.Kind]
	s := fmt.Sprintf("%8d  %s  %-14s %s %s", e.Seq, e.At.Format("15:04:05.000000"), e.Client, way, e.Describe())
	if word := Stopped(e); word != "" {
		s += " (" + word + ")"
	}
	if p := e.Publish(); p != nil && len(p.Payload) > 0 {
		s += "  " + payloadText(p.Payload)
	}
	if e.Broken != "" {
		s += "  ✗ " + e.Broken
	}
	return s
}

// How much of a payload stands on a line: what a person reads.
const (
	mostText  = 4096
	mostBytes = 32
)

// cell keeps what stands in a cell of CSV from being taken for a formula by who opens it: it then
// begins with an apostrophe. Numbers stay numbers.
func cell(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}

// payloadText writes a payload on one line: as text where it is text, shortened where it is long.
func payloadText(b []byte) string {
	if !utf8.Valid(b) {
		if len(b) > mostBytes {
			return fmt.Sprintf("% x … %d bytes", b[:mostBytes], len(b))
		}
		return fmt.Sprintf("% x", b)
	}
	tail := ""
	if len(b) > mostText {
		tail = fmt.Sprintf(" … %d bytes", len(b))
		b = b[:mostText]
		for !utf8.Valid(b) { // not in the middle of a character
			b = b[:len(b)-1]
		}
	}
	return plain.Visible(strings.ReplaceAll(string(b), "\n", "⏎")) + tail
}

// MessageLine writes a message that arrived as a line for a terminal.
func MessageLine(at time.Time, p *packet.Publish, stored bool) string {
	flags := fmt.Sprintf("q%d", p.QoS)
	switch {
	case stored:
		flags += " stored"
	case p.Retain:
		flags += " retain"
	}
	if p.Dup {
		flags += " DUP"
	}
	return fmt.Sprintf("%s  %s  %s  %s", at.Format("15:04:05.000"), p.Topic, flags, payloadText(p.Payload))
}
