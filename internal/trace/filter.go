package trace

import (
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Filter picks events. The zero value lets everything through.
type Filter struct {
	text    string
	topics  []string
	clients []string
	types   map[packet.Type]bool
	kinds   map[Kind]bool // of events that are no packets
	words   []string
	since   moment
	until   moment
}

// moment is a point in time, or a time of day.
type moment struct {
	at    time.Time
	clock bool // at holds a time of day only
}

// kindNames are the words for events that are no packets, beside the packet types.
var kindNames = map[string]Kind{"link": Link, "line": Line, "gap": Gap}

// FilterHelp says how a filter is written.
const FilterHelp = "topic:FILTER  client:NAME  type:PACKET[,PACKET]  since:15:04:05  until:15:04:05  or any word in topic, client or payload; all must fit"

// ParseFilter reads terms separated by spaces: topic:FILTER with an MQTT topic filter,
// client:NAME with a part of a name, type:PACKET[,PACKET…] where link, line and gap stand for
// what is no packet, since:TIME and until:TIME with a time of day or one of RFC 3339, and
// plain words.
func ParseFilter(s string) (Filter, error) {
	f := Filter{text: strings.TrimSpace(s)}
	for _, term := range strings.Fields(s) {
		key, value, ok := strings.Cut(term, ":")
		switch {
		case ok && key == "topic":
			if err := topic.CheckFilter(value); err != nil {
				return Filter{}, err
			}
			f.topics = append(f.topics, value)
		case ok && key == "client":
			f.clients = append(f.clients, strings.ToLower(value))
		case ok && key == "type":
			if f.types == nil {
				f.types, f.kinds = map[packet.Type]bool{}, map[Kind]bool{}
			}
			for name := range strings.SplitSeq(value, ",") {
				if k, ok := kindNames[strings.ToLower(name)]; ok {
					f.kinds[k] = true
					continue
				}
				t, err := parseType(name)
				if err != nil {
					return Filter{}, err
				}
				f.types[t] = true
			}
		case ok && (key == "since" || key == "until"):
			m, err := parseMoment(value)
			if err != nil {
				return Filter{}, err
			}
			if key == "since" {
				f.since = m
			} else {
				f.until = m
			}
		default:
			f.words = append(f.words, strings.ToLower(term))
		}
	}
	return f, nil
}

// WordFilter returns a filter for plain words, whatever they look like.
func WordFilter(s string) Filter {
	return Filter{text: s, words: strings.Fields(strings.ToLower(s))}
}

func parseMoment(s string) (moment, error) {
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
		return moment{at: t}, nil
	}
	for _, layout := range []string{"15:04:05.999999999", "15:04"} {
		if t, err := time.Parse(layout, s); err == nil {
			return moment{t, true}, nil
		}
	}
	return moment{}, fmt.Errorf("%q is no time: write 15:04, 15:04:05.123 or 2026-11-23T15:04:05Z", s)
}

// compare tells whether t is before (-1) or after (1) the moment.
func (m moment) compare(t time.Time) int {
	if !m.clock {
		return t.Compare(m.at)
	}
	t = t.Local()
	ofDay := time.Date(0, 1, 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
	return ofDay.Compare(m.at)
}

func parseType(name string) (packet.Type, error) {
	for t := packet.CONNECT; t <= packet.AUTH; t++ {
		if strings.EqualFold(t.String(), name) {
			return t, nil
		}
	}
	return 0, fmt.Errorf("%q is no packet type: write PUBLISH, SUBSCRIBE, PINGREQ …", name)
}

// String returns the filter as it was written.
func (f Filter) String() string { return f.text }

// Match tells whether the event fits all terms.
func (f *Filter) Match(e *Event) bool {
	if f.types != nil && !f.kinds[e.Kind] && (e.Packet == nil || !f.types[e.Packet.Type()]) {
		return false
	}
	if !f.since.at.IsZero() && f.since.compare(e.At) < 0 || !f.until.at.IsZero() && f.until.compare(e.At) > 0 {
		return false
	}
	if !f.MatchClient(e.Client) {
		return false
	}
	for _, t := range f.topics {
		if !touches(e, t) {
			return false
		}
	}
	for _, w := range f.words {
		if !mentions(e, w) {
			return false
		}
	}
	return true
}

// What follows lets a store narrow down what it reads before Match decides.

// Types returns the packet types asked for; nil where other events may fit too.
func (f *Filter) Types() (out []packet.Type) {
	if len(f.kinds) > 0 {
		return nil
	}
	for t := range f.types {
		out = append(out, t)
	}
	return out
}

// HasClients tells whether names of clients are asked for, and MatchClient whether one fits.
func (f *Filter) HasClients() bool { return len(f.clients) > 0 }

// MatchClient tells whether a client's name fits.
func (f *Filter) MatchClient(name string) bool {
	for _, c := range f.clients {
		if !strings.Contains(strings.ToLower(name), c) {
			return false
		}
	}
	return true
}

// HasTopics tells whether topics are asked for, and MatchTopic whether one fits.
func (f *Filter) HasTopics() bool { return len(f.topics) > 0 }

// MatchTopic tells whether a topic name fits.
func (f *Filter) MatchTopic(name string) bool {
	for _, t := range f.topics {
		if !topic.Match(t, name) {
			return false
		}
	}
	return true
}

// Span returns the points in time asked for; zero where there is none, or only a time of day.
func (f *Filter) Span() (since, until time.Time) {
	if !f.since.clock {
		since = f.since.at
	}
	if !f.until.clock {
		until = f.until.at
	}
	return since, until
}

// touches tells whether the event is about a topic that the filter matches, or a
// subscription to just that filter.
func touches(e *Event, filter string) bool {
	switch p := e.Packet.(type) {
	case *packet.Publish:
		name := e.Topic()
		return name != "" && topic.Match(filter, name)
	case *packet.Connect:
		return p.Will != nil && topic.Match(filter, p.Will.Topic)
	case *packet.Subscribe:
		for _, s := range p.Subscriptions {
			if s.Filter == filter {
				return true
			}
		}
	}
	return false
}

func mentions(e *Event, word string) bool {
	if strings.Contains(strings.ToLower(e.Client), word) || strings.Contains(strings.ToLower(e.Describe()), word) {
		return true
	}
	p := e.Publish()
	return p != nil && strings.Contains(strings.ToLower(string(p.Payload)), word)
}
