package rule

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// repeats is how often the same may come again before it is held against the publisher: a message that is sent again
// after a connection broke, or a device that says how things stand when it is back, are no breach.
const repeats = 2

// Only holds a clause to coming with something new.
var Only = &contract.Rule{Name: contract.RuleRepeat,
	Doc: "A clause that comes upon changes, or on edges, does not come with the same payload, byte for byte, again and again: the second repeat in a row is a breach, told once until something else comes. One repeat may be a device that is back, or a message sent twice at QoS 1. Stored copies do not count.",
	Start: func(*contract.Contract) func(*contract.Pass) {
		type line struct {
			payload []byte
			n       int
		}
		lines := map[*contract.Cell]*line{}
		return func(p *contract.Pass) {
			switch {
			case p.Clause == nil || p.Clause.Only == "":
				return
			case p.Fact != contract.FactMessage:
				delete(lines, p.Cell)
				return
			case p.Message.Copy:
				return
			}
			l := lines[p.Cell]
			if l == nil {
				l = &line{n: -1}
				lines[p.Cell] = l
			}
			if l.n < 0 || !bytes.Equal(l.payload, p.Message.Payload) {
				l.payload, l.n = bytes.Clone(p.Message.Payload), 0
				return
			}
			if l.n++; l.n == repeats {
				what := "another value each time"
				if p.Clause.Only == contract.OnEdges {
					what = "the other value at each edge"
				}
				p.Breach(contract.Breach{Expected: what, Seen: fmt.Sprintf("the same %d times in a row", repeats+1)})
			}
		}
	}}

// Expiry holds a message to its message expiry interval.
var Expiry = &contract.Rule{Name: contract.RuleExpiry,
	Doc: "The message is published with the clause's message expiry interval (5.0 §3.3.2.3.3). Where its publisher's packet is not seen, only what a broker cannot have made of it is a breach: a longer time, for it only counts down; none at all, where the party's terms say that it speaks version 5. Stored copies, and observers before version 5, show nothing.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		return func(p *contract.Pass) {
			if p.Fact != contract.FactMessage || p.Clause.Expiry == 0 || p.Message.Copy {
				return
			}
			m, want := p.Message, uint32(p.Clause.Expiry/time.Second)
			write := func(n uint32, there bool) string {
				if !there {
					return "no message expiry interval"
				}
				return (time.Duration(n) * time.Second).String()
			}
			expected := "a message expiry interval of " + p.Clause.Expiry.String()
			if sent := m.Sent; sent != nil && sent.Version != 0 {
				if n, there := sent.Properties.Int(packet.MessageExpiry); !there || n != want {
					p.Breach(contract.Breach{Expected: expected, Seen: write(n, there)})
				}
				return
			}
			if m.Version != packet.V5 {
				return
			}
			if n, there := m.Properties.Int(packet.MessageExpiry); there && n > want || !there && speaks5(c, p.Clause) {
				p.Breach(contract.Breach{Expected: expected, Seen: write(n, there)})
			}
		}
	}}

// speaks5 tells whether the publisher of a clause speaks nothing but version 5, as its terms say.
func speaks5(c *contract.Contract, cl *contract.Clause) bool {
	party := c.Party(cl.From)
	return party != nil && party.Terms != nil && slices.Equal(party.Terms.Versions, []packet.Version{packet.V5})
}

// Properties holds a message to the content type and the user properties that are agreed.
var Properties = &contract.Rule{Name: contract.RuleProperties,
	Doc: "The message carries the clause's content type (5.0 §3.3.2.3.9) and user properties (§3.3.2.3.7), which a broker passes on unaltered; others may stand beside them. That they are missing is a breach only where the publisher's packet is seen, or where the party's terms say that it speaks version 5.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		return func(p *contract.Pass) {
			if p.Fact != contract.FactMessage || p.Clause.Properties.ContentType == "" && len(p.Clause.Properties.User) == 0 {
				return
			}
			m := p.Message
			have, all := m.Properties, speaks5(c, p.Clause)
			if sent := m.Sent; sent != nil && sent.Version != 0 {
				have, all = sent.Properties, true
			} else if m.Version != packet.V5 {
				return
			}
			want := &p.Clause.Properties
			if got, there := have.Str(packet.ContentType); want.ContentType != "" && got != want.ContentType && (there || all) {
				seen := "none"
				if there {
					seen = fmt.Sprintf("%.60q", got)
				}
				p.Breach(contract.Breach{Keyword: "content-type", Expected: want.ContentType, Seen: seen})
			}
			if missing := without(have, want.User); len(missing) > 0 && (all || names(have, want.User)) {
				p.Breach(contract.Breach{Keyword: "user", Expected: strings.Join(missing, ", "), Seen: "not there"})
			}
		}
	}}

// without lists the pairs that are not among the user properties.
func without(have packet.Properties, want [][2]string) (missing []string) {
	for _, pair := range want {
		if !slices.ContainsFunc(have, func(x packet.Property) bool {
			return x.ID == packet.UserProperty && x.Key == pair[0] && x.Value == pair[1]
		}) {
			missing = append(missing, fmt.Sprintf("%s=%s", pair[0], pair[1]))
		}
	}
	return missing
}

// names tells whether one of the pairs is there by its name: then its value is another.
func names(have packet.Properties, want [][2]string) bool {
	return slices.ContainsFunc(want, func(pair [2]string) bool {
		return slices.ContainsFunc(have, func(x packet.Property) bool { return x.ID == packet.UserProperty && x.Key == pair[0] })
	})
}
