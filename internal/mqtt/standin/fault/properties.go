package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// properties are the faults of what version 5 says by properties.
func properties() []standin.Fault {
	of := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, five, d)
	}
	changed := func(when func(d *standin.Delivery) bool, change func(ps packet.Properties) packet.Properties) standin.Decisions {
		return standin.Decisions{Deliver: func(d *standin.Delivery) {
			if when(d) {
				d.Properties = change(d.Properties)
			}
		}}
	}
	asked := func(d *standin.Delivery) bool { // what is no will, and has a payload format
		_, is := d.Properties.Int(packet.PayloadFormat)
		return live(d) && is && len(d.Payload) == 7
	}
	without := func(id packet.PropertyID) func(ps packet.Properties) packet.Properties {
		return func(ps packet.Properties) packet.Properties { return ps.Without(id) }
	}
	acknowledged := func(change func(a *packet.Ack)) standin.Decisions {
		return standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
			switch k := p.(type) {
			case *packet.Puback:
				change(&k.Ack)
			case *packet.Pubrec:
				change(&k.Ack)
			}
			return p
		}}
	}
	return []standin.Fault{
		of("property.dropped", "A short JSON message loses its content type.", "property.passed", changed(asked, without(packet.ContentType))),
		of("property.format-dropped", "A short JSON message loses its payload format.", "property.passed", changed(asked, without(packet.PayloadFormat))),
		of("property.reordered", "The user properties of a live message come in the order of their names.", "property.passed", changed(asked, sorted)),
		of("property.once", "A user property that stands twice comes once.", "property.passed", changed(asked, func(ps packet.Properties) (out packet.Properties) {
			seen := map[packet.Property]bool{}
			for _, x := range ps {
				if !seen[x] {
					out = append(out, x)
				}
				seen[x] = true
			}
			return out
		})),
		of("property.added", "A user property is added to messages that have no properties.", "property.passed",
			changed(func(d *standin.Delivery) bool { return live(d) && len(d.Properties) == 0 },
				func(packet.Properties) packet.Properties { return packet.Properties{packet.User("via", "stand-in")} })),
		of("property.stored-dropped", "What is stored greets without its user properties.", "property.passed",
			changed(func(d *standin.Delivery) bool { return d.Stored }, without(packet.UserProperty))),
		of("correlation.cut", "Correlation data of more than 16 bytes loses its end.", "property.request-response",
			changed(live, func(ps packet.Properties) (out packet.Properties) {
				for _, x := range ps {
					if x.ID == packet.CorrelationData && len(x.Value) > 16 {
						x.Value = x.Value[:16]
					}
					out = append(out, x)
				}
				return out
			})),
		of("response.topic-lost", "A message with more than 16 bytes of correlation data loses its response topic.", "property.request-response",
			changed(func(d *standin.Delivery) bool {
				s, _ := d.Properties.Str(packet.CorrelationData)
				return live(d) && len(s) > 16
			}, without(packet.ResponseTopic))),
		{Name: "alias.wrong-topic", Sentence: "Each alias stands for the topic that was set last, under whatever alias.",
			Versions: five, Breaks: []string{"property.alias"}, Decisions: standin.Decisions{Alias: lastSet()}},
		of("alias.set-once", "An alias cannot be set anew.", "property.alias", standin.Decisions{Alias: firstSet()}),
		of("alias.one-more", "One alias more than allowed is used where two are.", "property.alias", standin.Decisions{Aliases: func(allowed int) int {
			if allowed == 2 {
				return 3
			}
			return allowed
		}}),
		of("alias.survives", "An alias holds on the next connection.", "property.alias-scope", standin.Decisions{KeepsAliases: true}),
		of("alias.zero", "Alias 0 is taken.", "property.alias-scope", standin.Decisions{Tolerate: func(e *packet.Error) bool {
			return strings.HasSuffix(e.Section, "§3.3.2.3.4")
		}}),
		of("alias.any", "Aliases above what CONNACK tells are taken.", "property.alias-scope", standin.Decisions{AnyAlias: true}),
		of("problem-info.ignored", "Acknowledgements carry reason strings, whatever the client asks for.", "property.problem-info",
			acknowledged(func(a *packet.Ack) {
				a.Properties = append(a.Properties, packet.Str(packet.ReasonString, "as it should be"))
			})),
		of("problem-info.user", "Acknowledgements carry user properties, whatever the client asks for.", "property.problem-info",
			acknowledged(func(a *packet.Ack) { a.Properties = append(a.Properties, packet.User("node", "1")) })),
		of("nosub.lies", "PUBACK and PUBREC say that nobody subscribes.", "property.no-subscribers",
			standin.Decisions{NoSubscribers: func(bool) bool { return true }}),
	}
}

// lastSet takes each alias for what was set last; whom it was set by is not looked at where one client uses aliases.
func lastSet() func(alias uint32, name string) string {
	set, last := map[uint32]string{}, ""
	return func(alias uint32, name string) string {
		if set[alias] != name {
			set[alias], last = name, name
			return name
		}
		return last
	}
}

// firstSet takes an alias for what it was set to first.
func firstSet() func(alias uint32, name string) string {
	set := map[string]string{}
	return func(alias uint32, name string) string {
		base := name[:strings.LastIndex(name, "/")] + string(rune(alias))
		if set[base] == "" {
			set[base] = name
		}
		return set[base]
	}
}

// limits are the faults of limits that are told and not kept.
func limits() []standin.Fault {
	of := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, five, d)
	}
	with := func(f standin.Fault, limits standin.Limits, unsupports ...string) standin.Fault {
		f.With, f.Unsupports = limits, unsupports
		return f
	}
	grants := func(code packet.ReasonCode) standin.Decisions {
		return standin.Decisions{Grant: func(_ packet.Subscription, is packet.ReasonCode) packet.ReasonCode {
			if is == code {
				return 0
			}
			return is
		}}
	}
	overlooks := func(code packet.ReasonCode) standin.Decisions {
		return standin.Decisions{Overlooks: func(is packet.ReasonCode, _ string) bool { return is == code }}
	}
	objects := func(to func(p *packet.Publish) bool) standin.Decisions {
		return standin.Decisions{Objects: func(p *packet.Publish) string {
			if to(p) {
				return "a fault of this stand-in"
			}
			return ""
		}}
	}
	one, few := packet.QoS(1), standin.Limits{ReceiveMaximum: 5}
	small := standin.Limits{MaximumPacketSize: 2000}
	shared := []string{"subscribe.shared", "subscribe.shared-no-retained"}
	twice := []string{"qos.pairings", "will.qos", "qos2.once", "qos2.release-resumed", "qos2.inbound-resumed", "error.unknown-release"}
	return []standin.Fault{
		with(of("limit.lies", "Shared subscriptions are taken although CONNACK says that there are none.", "limit.told-and-kept",
			grants(packet.SharedNotSupported)), standin.Limits{NoShared: true}, shared...),
		with(of("limit.identifiers-lie", "Subscription identifiers are taken although CONNACK says that there are none.", "limit.told-and-kept",
			grants(packet.SubIDsNotSupported)), standin.Limits{NoIdentifiers: true}, "subscribe.identifier"),
		with(of("limit.qos-lies", "A message at QoS 2 is passed over although CONNACK says QoS 1.", "limit.told-and-kept",
			overlooks(packet.QoSNotSupported)), standin.Limits{MaximumQoS: &one}, twice...),
		of("limit.alias-lies", "Alias 32 ends the connection, although CONNACK allows it.", "limit.told-and-kept", objects(func(p *packet.Publish) bool {
			n, _ := p.Properties.Int(packet.TopicAlias)
			return n == 32
		})),
		with(of("limit.receive-less", "The fifth message at QoS 2 ends the connection although CONNACK allows five.", "limit.told-and-kept",
			objects(func(p *packet.Publish) bool { return p.QoS == 2 && p.ID == 5 && string(p.Payload) == "x" })), few),
		of("limit.size-ignored", "The client's maximum packet size is not heeded.", "limit.packet-size",
			standin.Decisions{MaximumPacketSize: func(int) int { return 0 }}),
		of("limit.size-halved", "What is larger than three quarters of the client's maximum packet size does not come.", "limit.packet-size",
			standin.Decisions{MaximumPacketSize: func(told int) int { return told / 4 }}),
		with(of("limit.size-more", "Packets larger than the broker's maximum are taken.", "limit.packet-size",
			standin.Decisions{PacketSize: func(told int) int { return told + 8 }}), small),
		with(of("limit.size-less", "A packet of the broker's maximum is too large.", "limit.packet-size",
			standin.Decisions{PacketSize: func(told int) int { return told - 1 }}), small),
		{Name: "connect.id-short", Sentence: "Client identifiers of more than 20 letters are refused.", Breaks: []string{"limit.client-id"},
			Decisions: standin.Decisions{Refuse: func(p *packet.Connect) bool { return len(p.ClientID) > 20 }}},
		{Name: "connect.id-cut", Sentence: "Client identifiers are cut off behind the 64th letter.", Breaks: []string{"limit.client-id"},
			Decisions: standin.Decisions{ClientID: func(id string) string { return id[:min(len(id), 64)] }}},
	}
}

// failures are the faults of what breaks a rule, and is taken all the same.
func failures() []standin.Fault {
	out := []standin.Fault{
		{Name: "error.harms-others", Sentence: "A packet of type 0 closes the links of others, who have sent many PINGREQ.", Versions: told,
			Breaks:    []string{"error.malformed"},
			Decisions: standin.Decisions{Harms: func(e *packet.Error) bool { return strings.Contains(e.Rule, "packet type 0") }}},
		{Name: "pubrel.unanswered", Sentence: "PUBREL for a packet identifier above 45,000 gets no PUBCOMP.", Breaks: []string{"error.unknown-release"},
			Decisions: standin.Decisions{Release: func(r *standin.Release) { r.Answer = r.Answer && r.ID <= 45_000 }}},
	}
	for _, x := range []struct {
		name     string
		sentence string
		packet   packet.Type // 0 for any
		rule     string      // that it breaks, or a part of it
		versions []packet.Version
	}{
		{"length", "A remaining length of five bytes", 0, "longer than four bytes", told},
		{"type-0", "A packet of type 0", 0, "packet type 0 is reserved", told},
		{"type-15", "A packet of type 15", 0, "packet type 15 is reserved", []packet.Version{packet.V311}},
		{"flags-of-pingreq", "PINGREQ with flags", packet.PINGREQ, "the flags are", told},
		{"flags-of-puback", "PUBACK with flags", packet.PUBACK, "the flags are", told},
		{"flags-of-pubrel", "PUBREL without its flags", packet.PUBREL, "the flags are", told},
		{"flags-of-subscribe", "SUBSCRIBE without its flags", packet.SUBSCRIBE, "the flags are", told},
		{"flags-of-unsubscribe", "UNSUBSCRIBE without its flags", packet.UNSUBSCRIBE, "the flags are", told},
		{"qos-3", "A PUBLISH at QoS 3", packet.PUBLISH, "QoS 3", told},
		{"dup-at-0", "DUP at QoS 0", packet.PUBLISH, "DUP is set at QoS 0", told},
		{"wildcard-topic", "A topic name with a wildcard", packet.PUBLISH, "the topic name holds a wildcard", told},
		{"empty-topic", "An empty topic name", packet.PUBLISH, "the topic name is empty", told},
		{"nul", "U+0000 in a topic name", packet.PUBLISH, "holds U+0000", told},
		{"utf8", "A topic name that is no UTF-8", packet.PUBLISH, "not well-formed UTF-8", told},
		{"topic-length", "A topic name that is longer than its packet", packet.PUBLISH, "the topic name is longer than the packet", told},
		{"id-0", "A PUBLISH under packet identifier 0", packet.PUBLISH, "the packet identifier is 0", told},
		{"no-id", "A PUBLISH at QoS 1 without a packet identifier", packet.PUBLISH, "ends inside the packet identifier", told},
		{"subscribe-id-0", "SUBSCRIBE under packet identifier 0", packet.SUBSCRIBE, "the packet identifier is 0", told},
		{"subscribe-none", "SUBSCRIBE without filters", packet.SUBSCRIBE, "no topic filter", told},
		{"subscribe-qos-3", "SUBSCRIBE at QoS 3", packet.SUBSCRIBE, "the requested QoS is 3", told},
		{"subscribe-bits", "A reserved bit in the options of SUBSCRIBE", packet.SUBSCRIBE, "reserved bits of the options", told},
		{"unsubscribe-id-0", "UNSUBSCRIBE under packet identifier 0", packet.UNSUBSCRIBE, "the packet identifier is 0", told},
		{"unsubscribe-none", "UNSUBSCRIBE without filters", packet.UNSUBSCRIBE, "no topic filter", told},
		{"will-flags", "A will QoS, or will retain, without a will", packet.CONNECT, "without a will", told},
		{"id-utf8", "A client identifier that is no UTF-8", packet.CONNECT, "the client identifier is not well-formed", told},
		{"unknown-property", "A property that there is not", packet.PUBLISH, "is not defined", five},
		{"property-twice", "A content type that stands there twice", packet.PUBLISH, "content type stands there twice", five},
		{"property-astray", "A property that does not belong into its packet", packet.PUBLISH, "does not belong into PUBLISH", five},
		{"property-length", "Properties that are longer than their packet", packet.PUBLISH, "the properties are longer", five},
		{"identifier-0", "Subscription identifier 0", packet.SUBSCRIBE, "subscription identifier is 0", five},
		{"retain-handling", "Retain handling 3", packet.SUBSCRIBE, "retain handling 3", five},
		{"receive-0", "Receive maximum 0", packet.CONNECT, "receive maximum is 0", five},
		{"size-0", "Maximum packet size 0", packet.CONNECT, "maximum packet size is 0", five},
		{"expiry-twice", "A session expiry that stands there twice", packet.CONNECT, "session expiry interval stands there twice", five},
		{"auth-data", "Authentication data without a method", packet.CONNECT, "authentication data without a method", five},
	} {
		out = append(out, one("error.tolerates-"+x.name, x.sentence+" is tolerated.", "error.malformed", x.versions,
			standin.Decisions{Tolerate: func(e *packet.Error) bool {
				return (x.packet == 0 || e.Packet == x.packet) && strings.Contains(e.Rule, x.rule)
			}, Overlooks: func(code packet.ReasonCode, _ string) bool { // what is read so far goes no further
				return code == packet.TopicNameInvalid || code == packet.QoSNotSupported
			}}))
		if x.name == "type-0" {
			out[len(out)-1].Undecides = []string{"will.on-violation"}
		}
	}
	for _, x := range []struct {
		name, sentence, why string
		versions            []packet.Version
	}{
		{"servers-suback", "SUBACK from a client", "SUBACK from", told},
		{"servers-connack", "CONNACK from a client", "CONNACK from", told},
		{"servers-pingresp", "PINGRESP from a client", "PINGRESP from", told},
		{"auth", "AUTH without a method", "AUTH", five},
		{"identifier-from-client", "A subscription identifier from a client", "a subscription identifier from", five},
		{"shared-no-local", "No local on a shared subscription", "no local on a shared", five},
	} {
		out = append(out, one("error.tolerates-"+x.name, x.sentence+" is tolerated.", "error.malformed", x.versions,
			standin.Decisions{Overlooks: func(_ packet.ReasonCode, why string) bool { return strings.Contains(why, x.why) }}))
	}
	return out
}
