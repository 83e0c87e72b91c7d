package check

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
)

// demand is something that a section asks of a server, by the places in 3.1.1 and 5.0, "" where a version does not have
// it. unseen is why no check can see it, or why none looks.
type demand struct{ v311, v5, what, unseen string }

// demands is the one table of what the two standards ask of a server. Which checks hold it to that follows from their
// sections.
var demands = []demand{
	{
		"1.5.3",
		"1.5.4",
		"strings are well-formed UTF-8 without U+0000, else the link is closed; U+FEFF stays where it is",
		"",
	},
	{"2.2.1", "2.1.2", "reserved packet types close the link", ""},
	{"2.2.2", "2.1.3", "reserved flags close the link", ""},
	{"2.2.3", "1.5.5", "the remaining length has four bytes at most", ""},
	{"2.3.1", "2.2.1", "packet identifiers are not 0, and those of the server's own are not in use", ""},
	{"", "2.2.2.1", "properties are no longer than their packet", ""},
	{"", "2.2.2.2", "properties are what the packet may have", ""},
	{
		"",
		"2.4",
		"reason codes are those of the packet",
		"our client reads strictly: a code that a packet may not have ends the link, and whatever check it was",
	},
	{"3.1", "3.1", "CONNECT comes first and once; the server keeps what the session is asked to be", ""},
	{
		"3.1.2.1",
		"3.1.2.1",
		"another protocol name may be refused",
		"a server may speak other protocols on the same port: no answer is wrong",
	},
	{"3.1.2.2", "3.1.2.2", "another protocol level is refused", ""},
	{"3.1.2.3", "3.1.2.3", "the reserved connect flag is 0", ""},
	{"3.1.2.4", "3.1.2.4", "clean session or clean start", ""},
	{"3.1.2.5", "3.1.2.5", "the will is published when the connection ends without DISCONNECT", ""},
	{"3.1.2.6", "3.1.2.6", "will QoS", ""},
	{"3.1.2.7", "3.1.2.7", "will retain", ""},
	{
		"3.1.2.9",
		"",
		"no password without a user name",
		"where credentials are demanded such a CONNECT is refused for want of a user name: the reason cannot be told apart",
	},
	{"3.1.2.10", "3.1.2.10", "silence for one and a half keep alives ends the link", ""},
	{"", "3.1.2.11.2", "session expiry, once", ""},
	{"", "3.1.2.11.3", "our receive maximum is kept, and is not 0", ""},
	{"", "3.1.2.11.4", "our maximum packet size is kept, and is not 0", ""},
	{"", "3.1.2.11.5", "no more topic aliases than we allow", "held to it by property.alias (3.3.2.3.4)"},
	{
		"",
		"3.1.2.11.6",
		"response information comes only where it was asked for",
		"told by property.request-response where it comes: no server has to send it",
	},
	{"", "3.1.2.11.7", "no reasons where none are wanted", ""},
	{"", "3.1.2.11.9", "the authentication method", "held to it by auth.unknown-method (4.12)"},
	{"", "3.1.2.11.10", "no authentication data without a method", ""},
	{"3.1.3.1", "3.1.3.1", "client identifiers of 23 letters and digits, and empty ones", ""},
	{"", "3.1.3.2", "the properties of the will", ""},
	{"", "3.1.3.2.2", "the will delay", ""},
	{
		"3.1.3.2",
		"3.1.3.3",
		"the will topic is a topic name",
		"a will to no topic name may be refused or never arrive: both keep it",
	},
	{
		"3.1.3.3",
		"3.1.3.4",
		"the will message is published as it is",
		"held to it by will.on-cut and will.on-close (3.1.2.5)",
	},
	{"3.1.4", "3.1.4", "the answer to CONNECT, the same identifier twice, and packets that come with CONNECT", ""},
	{"3.2", "3.2", "CONNACK comes first", ""},
	{
		"3.2.2.1",
		"3.2.2.1",
		"reserved acknowledge flags are 0",
		"our client reads strictly: it would end the link, and no check would be kept",
	},
	{"3.2.2.2", "3.2.2.1.1", "session present tells the truth", ""},
	{
		"3.2.2.3",
		"3.2.2.2",
		"a refusal has its code, and the link is closed",
		"5.0: held to it by the checks of login (3.2.2.3) and connect.versions (3.1.2.2)",
	},
	{"", "3.2.2.3", "what CONNACK tells is what happens", ""},
	{"", "3.2.2.3.6", "the server's maximum packet size", ""},
	{"", "3.2.2.3.7", "the assigned client identifier is told", ""},
	{"", "3.2.2.3.14", "the server's keep alive", ""},
	{"3.3.1.1", "3.3.1.1", "DUP", ""},
	{"3.3.1.2", "3.3.1.2", "QoS is not 3", ""},
	{"3.3.1.3", "3.3.1.3", "retain", ""},
	{"3.3.2.1", "3.3.2.1", "a topic name has no wildcards", ""},
	{"", "3.3.2.3", "properties are passed on", ""},
	{"", "3.3.2.3.3", "message expiry", ""},
	{"", "3.3.2.3.4", "topic aliases", ""},
	{"", "3.3.2.3.5", "a response topic has no wildcards", ""},
	{"", "3.3.2.3.8", "subscription identifiers come back", ""},
	{"", "3.3.2.3.9", "a content type, once", ""},
	{"3.3.3", "3.3.3", "a payload is anything", ""},
	{"3.3.5", "3.3.4", "who gets a message, and how often", ""},
	{"3.4", "3.4.2.1", "PUBACK, and its codes", "3.1.1: held to it by qos.pairings (4.3)"},
	{"", "3.5.2.1", "PUBREC, and its codes", ""},
	{"3.6.1", "3.6.1", "the flags of PUBREL", ""},
	{"3.8.1", "3.8.1", "the flags of SUBSCRIBE", ""},
	{"", "3.8.2.1.2", "a subscription identifier is not 0", ""},
	{"3.8.3", "3.8.3", "SUBSCRIBE has filters, and no reserved bits", ""},
	{"3.8.3.1", "3.8.3.1", "requested QoS, and the options", ""},
	{"3.8.4", "3.8.4", "SUBACK comes; a subscription replaces the one before; stored messages greet it", ""},
	{"3.9.3", "3.9.3", "a code for each filter, in order", ""},
	{"3.10.1", "3.10.1", "the flags of UNSUBSCRIBE", ""},
	{"3.10.3", "3.10.3", "UNSUBSCRIBE has filters", ""},
	{"3.10.4", "3.10.4", "UNSUBACK comes, and the subscription ends", ""},
	{"", "3.11.3", "a code for each filter of UNSUBSCRIBE", "held to it by subscribe.unsubscribe (3.10.4)"},
	{"3.12.4", "3.12.4", "PINGREQ is answered", ""},
	{
		"3.14.1",
		"3.14.1",
		"the flags of DISCONNECT",
		"the link ends with DISCONNECT in any case: whether for its flags is not to be seen",
	},
	{"", "3.14.2.1", "the code of DISCONNECT decides about the will", ""},
	{"", "3.14.2.2.2", "DISCONNECT may change the session's expiry", ""},
	{"3.14.4", "3.14.4", "DISCONNECT discards the will", ""},
	{"", "3.15", "AUTH", "a server's own methods are not known: only that an unknown one is refused is seen (4.12)"},
	{"4.1", "4.1", "the session's state is kept", ""},
	{"4.2", "4.2", "a connection that is ordered and loses nothing, by each transport", ""},
	{"4.3", "4.3", "QoS", ""},
	{"4.3.2", "4.3.2", "QoS 1", ""},
	{"4.3.3", "4.3.3", "QoS 2", ""},
	{"4.4", "4.4", "what is sent again when a session is resumed", ""},
	{
		"4.5",
		"4.5",
		"a message is kept before it is acknowledged",
		"a loss of memory between the two cannot be brought about from outside without a restart",
	},
	{"4.6", "4.6", "order", ""},
	{"4.7", "4.7", "topic names and filters", ""},
	{"4.7.1", "4.7.1", "wildcards stand alone in their level, # at the end", ""},
	{"4.7.2", "4.7.2", "topics that begin with $", ""},
	{"4.7.3", "4.7.3", "topic names and filters have a character at least, and match character by character", ""},
	{"", "4.8.2", "shared subscriptions", ""},
	{"", "4.9", "flow control", ""},
	{"", "4.10", "request and response", ""},
	{"", "4.11", "server redirection", "no server has to send clients elsewhere; reach tells where one does"},
	{"", "4.12", "enhanced authentication", ""},
	{"4.8", "4.13", "what breaks a rule ends the link", ""},
	{"", "4.13.1", "malformed packets and protocol errors end the link", ""},
	{"6", "6", "WebSocket", ""},
	{"7", "7", "conformance", "it repeats the others"},
}

// holding names the checks whose sections name the place, among them error.malformed by the packets of its table.
func holding(v packet.Version, section string) (out []string) {
	if section == "" {
		return nil
	}
	for _, c := range All() {
		cited := !c.Sections.Elsewhere() && slices.Contains(strings.Split(c.Section(v), ", "), section)
		if c.Name == "error.malformed" {
			cited = cited ||
				slices.ContainsFunc(malformedPackets, func(m malformed) bool { return m.section(v) == section })
		}
		if cited {
			out = append(out, c.Name)
		}
	}
	return out
}

// Coverage tells as Markdown, for each section of the standards that asks something of a server, which checks hold it
// to that.
func Coverage() string {
	var b strings.Builder
	b.WriteString(`# What the standards ask of a server, and what holds it to that

Made from the source by ` + "`make docs`" + `: from one table of sections (` + "`internal/proof/check/coverage.go`" + `), and from the sections that the checks name. What
cannot be seen from outside, or is not looked at, has its reason.

| 3.1.1 | 5.0 | what is asked | checks | not seen, because |
|---|---|---|---|---|
`)
	for _, d := range demands {
		names := holding(packet.V311, d.v311)
		for _, n := range holding(packet.V5, d.v5) {
			if !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", orNone(d.v311), orNone(d.v5), d.what, quoted(names), d.unseen)
	}
	return b.String()
}

func orNone(section string) string {
	if section == "" {
		return "–"
	}
	return section
}
