package packet

import "strings"

// Aliases are the topic aliases that one side of a connection has set (5.0 §3.3.2.3.4).
// The zero value has none. It is not safe for concurrent use.
type Aliases struct{ set map[string]uint32 }

// Abbreviate returns the message with its topic replaced by an alias where one is set; with
// the alias beside the topic, which sets it, where there is room below most; and as it is
// otherwise, or where it has an alias of its own.
func (a *Aliases) Abbreviate(p *Publish, most int) *Publish {
	if _, own := p.Properties.Int(TopicAlias); own || p.Topic == "" || most == 0 {
		return p
	}
	alias, known := a.set[p.Topic]
	if !known {
		if len(a.set) >= most {
			return p
		}
		if a.set == nil {
			a.set = map[string]uint32{}
		}
		alias = uint32(len(a.set) + 1)
		a.set[strings.Clone(p.Topic)] = alias // the packet's frame need not be kept
	}
	short := *p
	short.Properties = append(Properties{Int(TopicAlias, alias)}, p.Properties...)
	if known {
		short.Topic = ""
	}
	return &short
}

// Forget takes back the alias that was set last, for a message that was not sent after all.
func (a *Aliases) Forget(topic string) { delete(a.set, topic) }
