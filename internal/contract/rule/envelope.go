package rule

import (
	"fmt"

	"hodstone/internal/contract"
)

// QoS holds a message to the QoS that it is to be published with, as far as the receiver can know it.
var QoS = &contract.Rule{Name: contract.RuleQoS,
	Doc:   "The message is published with the clause's QoS. A receiver that was granted less cannot see it (3.1.1 §3.8.4): then nothing is said. Nor is it of stored copies, nor where the publisher is seen to have kept it and the broker changed it.",
	Start: stateless(qos)}

func qos(p *contract.Pass) {
	want, m := p.Clause.QoS, p.Message
	if want == nil || m.Copy || m.QoS == *want || m.Granted < *want && m.QoS <= *want ||
		m.Sent != nil && m.Sent.QoS == *want {
		return
	}
	p.Breach(contract.Breach{Expected: fmt.Sprintf("QoS %d", *want), Seen: fmt.Sprintf("QoS %d", m.QoS)})
}

// Retain holds a message to the retain flag that it is to be published with.
var Retain = &contract.Rule{Name: contract.RuleRetain,
	Doc:   "The message is published with the clause's retain flag. Only an observer in version 5 at a broker that was seen to pass the flag on (retain as published, 5.0 §3.8.3.1) can tell.",
	Start: stateless(retain)}

func retain(p *contract.Pass) {
	want, m := p.Clause.Retain, p.Message
	if want == nil || m.Copy || !m.RetainKnown || m.Retain == *want || m.Sent != nil && m.Sent.Retain == *want {
		return
	}
	p.Breach(contract.Breach{Expected: fmt.Sprintf("retain %v", *want), Seen: fmt.Sprintf("retain %v", m.Retain)})
}

// From holds a clause to its publishing party.
var From = &contract.Rule{Name: contract.RuleFrom,
	Doc:   "The message comes from the party that the clause names. Where the sender is not known, or what it plays, nothing is said.",
	Start: stateless(from)}

func from(p *contract.Pass) {
	m := p.Message
	if p.Clause.From == "" || m.Copy || m.Party == "" || m.Party == p.Clause.From {
		return
	}
	p.Breach(
		contract.Breach{
			Expected: "from party " + p.Clause.From,
			Seen:     fmt.Sprintf("from %s, which plays %s", m.Sender, m.Party),
		},
	)
}
