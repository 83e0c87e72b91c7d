package trace

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Filter picks events. The zero value lets everything through.
type Filter struct {
	text    string
	topics  []string
	clients []string
	types   map[packet.Type]bool
	words   []string
}

// FilterHelp says how a filter is written.
const FilterHelp = "topic:FILTER  client:NAME  type:PACKET[,PACKET]  or any word in topic, client or payload; all must fit"

// ParseFilter reads terms separated by spaces: topic:FILTER with an MQTT topic filter,
// client:NAME with a part of a name, type:PACKET[,PACKET…], and plain words.
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
				f.types = map[packet.Type]bool{}
			}
			for name := range strings.SplitSeq(value, ",") {
				t, err := parseType(name)
				if err != nil {
					return Filter{}, err
				}
				f.types[t] = true
			}
		default:
			f.words = append(f.words, strings.ToLower(term))
		}
	}
	return f, nil
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
	if f.types != nil && (e.Packet == nil || !f.types[e.Packet.Type()]) {
		return false
	}
	for _, c := range f.clients {
		if !strings.Contains(strings.ToLower(e.Client), c) {
			return false
		}
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

// touches tells whether the event is about a topic that the filter matches, or a
// subscription to just that filter.
func touches(e *Event, filter string) bool {
	switch p := e.Packet.(type) {
	case *packet.Publish:
		return p.Topic != "" && topic.Match(filter, p.Topic)
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
