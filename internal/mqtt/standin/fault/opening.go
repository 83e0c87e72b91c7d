package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// five is the version in which properties are told.
var five = []packet.Version{packet.V5}

// opening are the faults of how a connection begins, and of how a broker notices that a client is gone.
func opening() []standin.Fault {
	of := func(name, sentence string, versions []packet.Version, breaks []string, d standin.Decisions, undecides ...string) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Versions: versions, Breaks: breaks, Undecides: undecides, Decisions: d}
	}
	tolerate := func(section string) func(*packet.Error) bool {
		return func(e *packet.Error) bool { return strings.HasSuffix(e.Section, "§"+section) }
	}
	nameless := of("connect.empty-id-any", "A client without an identifier gets a session that is kept.", []packet.Version{packet.V311},
		[]string{"connect.empty-id-kept"}, standin.Decisions{Tolerate: tolerate("3.1.3.1")})
	nameless.Leaves = true // nobody knows its name
	own5 := func(f standin.Fault) standin.Fault { f.With.ServerKeepAlive = 5; return f }
	return []standin.Fault{
		nameless,
		of("connect.any-level", "A CONNECT of an unknown protocol level gets CONNACK 0.", nil,
			[]string{"connect.versions"}, standin.Decisions{AnyLevel: true}),
		of("connect.empty-id-unassigned", "A client without an identifier gets one, and is not told.", five,
			[]string{"connect.empty-id"}, standin.Decisions{Identify: func(id string) (string, bool) { return id, false }}),
		of("connect.empty-id-shared", "All clients without an identifier get the same.", told,
			[]string{"connect.empty-id"}, standin.Decisions{Identify: func(string) (string, bool) { return "standin", true }}),
		of("connect.empty-id-refused", "A client without an identifier is refused as one without rights.", []packet.Version{packet.V311},
			[]string{"connect.empty-id"}, standin.Decisions{Refuse: func(p *packet.Connect) bool { return p.ClientID == "" }}),
		of("connect.empty-id-silent", "A client without an identifier that wants a kept session is closed out without CONNACK 2.", []packet.Version{packet.V311},
			[]string{"connect.empty-id-kept"}, standin.Decisions{Code: untold(packet.ClientIDNotValid)}),
		of("connect.empty-id-code", "A client without an identifier that wants a kept session is refused with another code.", []packet.Version{packet.V311},
			[]string{"connect.empty-id-kept"}, standin.Decisions{Code: otherCode(packet.ClientIDNotValid, packet.NotAuthorized)}),
		of("connect.both-live", "A client stays connected when another comes with its identifier.", nil,
			[]string{"connect.takeover"}, standin.Decisions{BothLive: true}),
		of("connect.throws-both", "A client that takes another's identifier over is thrown out with it.", nil,
			[]string{"connect.takeover"}, standin.Decisions{ThrowsBoth: true}),
		of("connect.twice-ignored", "A second CONNECT on a link is passed over.", nil,
			[]string{"connect.twice"}, standin.Decisions{Again: true}),
		of("connect.not-first", "What comes before CONNECT is passed over.", nil,
			[]string{"connect.first"}, standin.Decisions{NotFirst: true}),
		of("connect.flag-ignored", "A CONNECT with the reserved flag set is accepted.", told,
			[]string{"connect.reserved-flag"}, standin.Decisions{Tolerate: tolerate("3.1.2.3")}),
		of("connack.late", "What waits for a client comes before its CONNACK.", nil,
			[]string{"connect.ack-first"}, standin.Decisions{Late: true}, "session.kept"),
		of("connect.acts-after-refusal", "What comes with a CONNECT that is refused is acted on all the same.", told,
			[]string{"connect.pipelined"}, standin.Decisions{ActsAfterRefusal: true}),
		of("connect.forgets-pipelined", "What comes in one piece with CONNECT is lost.", told,
			[]string{"connect.pipelined"}, standin.Decisions{DropsPipelined: true}),
		of("auth.ignored", "An authentication method that is not known is passed over.", five,
			[]string{"auth.unknown-method"}, standin.Decisions{AnyMethod: true}),
		of("keepalive.never", "A silent client is never thrown out.", nil,
			[]string{"keepalive.enforced", "keepalive.only-ours"}, standin.Decisions{KeepAlive: func(int, int) int { return 0 }}),
		of("keepalive.spoken-only", "A client that sends nothing after CONNECT is never thrown out.", nil,
			[]string{"keepalive.enforced"}, standin.Decisions{OnlySpoken: true}),
		own5(of("keepalive.ignores-own", "The keep alive that a client asks for counts, although CONNACK tells another.", five,
			[]string{"keepalive.any-packet", "keepalive.server-value"}, standin.Decisions{KeepAlive: func(asked, _ int) int { return asked }})),
		own5(of("keepalive.ignores-own-shorter", "A keep alive of 1 s that a client asks for counts, although CONNACK tells another.", five,
			[]string{"keepalive.server-value"}, standin.Decisions{KeepAlive: func(asked, own int) int {
				if asked == 1 || own == 0 {
					return asked
				}
				return own
			}})),
		of("keepalive.ping-only", "Only PINGREQ shows that a client is alive.", nil,
			[]string{"keepalive.any-packet"}, standin.Decisions{Counts: func(p packet.Packet, sent bool) bool {
				return !sent && p.Type() == packet.PINGREQ
			}}),
		of("keepalive.counts-own", "What goes out to a client counts as its own.", nil,
			[]string{"keepalive.only-ours"}, standin.Decisions{Counts: func(packet.Packet, bool) bool { return true }}),
	}
}

// untold closes out those who would be refused with a code, without a word.
func untold(code packet.ReasonCode) func(*packet.Connect, packet.ReasonCode) (packet.ReasonCode, bool) {
	return func(_ *packet.Connect, is packet.ReasonCode) (packet.ReasonCode, bool) { return is, is != code }
}

// otherCode refuses with another code.
func otherCode(code, as packet.ReasonCode) func(*packet.Connect, packet.ReasonCode) (packet.ReasonCode, bool) {
	return func(_ *packet.Connect, is packet.ReasonCode) (packet.ReasonCode, bool) {
		if is == code {
			return as, true
		}
		return is, true
	}
}
