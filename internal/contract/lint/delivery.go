package lint

import (
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

func retained(cl *contract.Clause) bool { return cl.Retain != nil && *cl.Retain }

// orders are words that end the topics of commands.
var orders = []string{"set", "cmd", "command", "do", "order", "request"}

var delivery = []*Lint{
	{"unconsumed", "Nobody is said to take what is published: either it is not needed, or somebody relies on it without being asked when it changes.",
		"add to: [PARTY], or take the clause away", each(func(p *Pass, cl *contract.Clause) {
			if len(cl.To) == 0 {
				p.Clause(cl, "nobody consumes %s", cl.Name)
			}
		})},
	{"unpublished", "Nobody is said to publish it: nobody can be held to it.",
		"add from: PARTY", each(func(p *Pass, cl *contract.Clause) {
			if cl.From == "" {
				p.Clause(cl, "nobody publishes %s", cl.Name)
			}
		})},
	{"retained-command", "A command that is stored is carried out again by whoever subscribes later: after a reboot, a week later.",
		"retain: false, and let the state say how things stand", each(func(p *Pass, cl *contract.Clause) {
			levels := strings.Split(cl.Topic.String(), "/")
			if retained(cl) && (cl.Answer != nil || cl.Repeat != "" || slices.Contains(orders, levels[len(levels)-1])) {
				p.Clause(cl, "%s is a command, and retained", cl.Name)
			}
		})},
	{"weak-will", "A will at QoS 0 may be lost on its way, and one that is not retained tells nobody who comes later that the party is lost.",
		"qos: 1 and retain: true", each(func(p *Pass, cl *contract.Clause) {
			switch {
			case cl.Presence == nil:
			case cl.QoS != nil && *cl.QoS == 0:
				p.Clause(cl, "the will of %s goes at QoS 0", cl.Name)
			case cl.Retain != nil && !*cl.Retain:
				p.Clause(cl, "the will of %s is not retained", cl.Name)
			}
		})},
	{"no-will", "A clause that tells whether somebody is there, without a will: who is lost stays there for ever.",
		"add presence: {coming: …, leaving: …, lost: …}", each(func(p *Pass, cl *contract.Clause) {
			if cl.Presence != nil {
				return
			}
			n := 0
			for _, v := range cl.Payload.Values {
				if slices.Contains([]string{"on", "off", "online", "offline", "up", "down", "lost", "connected", "disconnected", "alive", "gone"},
					strings.ToLower(v.Text)) {
					n++
				}
			}
			levels := words(cl.Topic.String())
			if n >= 2 && n == len(cl.Payload.Values) && (levels["status"] || levels["online"] || levels["presence"] || levels["alive"] || levels["connected"]) {
				p.Clause(cl, "%s seems to tell whether %s is there, and has no will", cl.Name, cl.From)
			}
		})},
	{"shared-will", "One will topic for several clients: when it comes, nobody knows who was lost, and who is there takes back what was said of another.",
		"give the topic a parameter for each client", each(sharedWill)},
	{"needless-qos-2", "QoS 2 costs four packets a message, and a consumer that takes less gets less: to it, it is no more than QoS 1.",
		"qos: 1 where a message twice does no harm", each(func(p *Pass, cl *contract.Clause) {
			if cl.QoS == nil || *cl.QoS != 2 {
				return
			}
			for _, x := range p.consumers(cl) {
				if x.Terms != nil && x.Terms.MaxQoS != nil && *x.Terms.MaxQoS < 2 {
					p.Clause(cl, "%s goes at QoS 2, and %s takes QoS %d at most", cl.Name, x.Name, *x.Terms.MaxQoS)
				}
			}
		})},
	{"beyond-terms", "What a clause asks for, a party that has to do with it cannot do, as its own terms say.",
		"change the clause, or the party's terms", each(beyondTerms)},
	{"beyond-limits", "What a clause asks for, a stand-in does not do within its limits.",
		"change the clause, or the limits of the stand-in", each(beyondLimits)},
}

func sharedWill(p *Pass, cl *contract.Clause) {
	if cl.Presence == nil || len(cl.Topic.Parameters()) > 0 {
		return
	}
	for _, s := range p.Site.Sessions {
		if s.Party == cl.From && s.Count > 1 {
			p.Clause(cl, "%d clients play %s, and all of them have their will on %s", s.Count, cl.From, cl.Topic)
			return
		}
	}
	party := p.Contract.Party(cl.From)
	if party != nil && party.Terms != nil && len(party.Terms.ClientID.Parameters()) > 0 {
		p.Clause(cl, "%s are several clients (%s), and all of them have their will on %s", cl.From, party.Terms.ClientID, cl.Topic)
		return
	}
	for _, other := range p.Clauses {
		if other.From == cl.From && len(other.Topic.Parameters()) > 0 && party != nil && len(party.Logins) > 1 {
			p.Clause(cl, "%s has several logins, and all of them have their will on %s", cl.From, cl.Topic)
			return
		}
	}
}

func beyondTerms(p *Pass, cl *contract.Clause) {
	for _, x := range p.concerned(cl) {
		t := x.Terms
		topic := cl.Topic.String()
		// The fixed header, the length of the topic, the packet identifier; properties are small.
		packetSize := 5 + 2 + len(topic) + 2 + cl.Payload.MaxSize
		switch n := strings.Count(topic, "/") + 1; {
		case t.MaxQoS != nil && cl.QoS != nil && *cl.QoS > *t.MaxQoS && (cl.From == x.Name || *cl.QoS != 2):
			p.Clause(cl, "%s goes at QoS %d, and the terms of %s allow QoS %d at most", cl.Name, *cl.QoS, x.Name, *t.MaxQoS)
		case t.TopicLevels > 0 && n > t.TopicLevels:
			p.Clause(cl, "the topic of %s has %d levels, and the terms of %s allow %d", cl.Name, n, x.Name, t.TopicLevels)
		case t.TopicLength > 0 && len(topic) > t.TopicLength:
			p.Clause(cl, "the topic of %s has %d bytes, and the terms of %s allow %d", cl.Name, len(topic), x.Name, t.TopicLength)
		case t.MaxPacket > 0 && packetSize > t.MaxPacket:
			p.Clause(cl, "a message of %s may have %d bytes, and the terms of %s allow packets of %d", cl.Name, packetSize, x.Name, t.MaxPacket)
		case cl.From == x.Name && len(t.Versions) > 0 && !slices.Contains(t.Versions, packet.V5) &&
			(cl.Expiry > 0 || cl.Properties.ContentType != "" || len(cl.Properties.User) > 0):
			p.Clause(cl, "%s is to carry what only version 5 has, and %s does not speak it", cl.Name, x.Name)
		}
	}
}

func beyondLimits(p *Pass, cl *contract.Clause) {
	for _, s := range p.Site.StandIns {
		switch {
		case s.MaxQoS != nil && cl.QoS != nil && *cl.QoS > *s.MaxQoS:
			p.Clause(cl, "clause %s asks for QoS %d; the stand-in %s allows QoS %d at most (maximum-qos)", cl.Name, *cl.QoS, s.Name, *s.MaxQoS)
		case s.NoRetained && retained(cl):
			p.Clause(cl, "clause %s asks for retained messages; the stand-in %s allows none (retain-available: false)", cl.Name, s.Name)
		case s.MaxPacket > 0 && len(cl.Topic.String())+cl.Payload.MaxSize > s.MaxPacket:
			p.Clause(cl, "clause %s asks for packets of %d bytes; the stand-in %s allows %d (maximum-packet-size)",
				cl.Name, len(cl.Topic.String())+cl.Payload.MaxSize, s.Name, s.MaxPacket)
		}
	}
}
