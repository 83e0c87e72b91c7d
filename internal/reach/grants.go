package reach

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Grant is one thing that was asked of the broker, or that it has a limit for, and what it
// gave.
type Grant struct {
	Name    string
	Asked   string
	Granted string
	// Less tells that it is less than was asked, or less than the standard's default.
	Less bool
	// Probed tells that it was found by trying, because the broker does not say.
	Probed bool
	// Source is the place in the standard.
	Source string
}

// What our CONNECT asks for in version 5.
const (
	askExpiry     = 120 // seconds
	askReceiveMax = 100
	askPacketSize = 1 << 20
	askAliases    = 10
)

// asksOf returns the properties that our CONNECT carries, to see what is granted.
func asksOf(v packet.Version) packet.Properties {
	if v != packet.V5 {
		return nil
	}
	return packet.Properties{packet.Int(packet.SessionExpiry, askExpiry), packet.Int(packet.ReceiveMaximum, askReceiveMax),
		packet.Int(packet.MaximumPacketSize, askPacketSize), packet.Int(packet.TopicAliasMaximum, askAliases), packet.Int(packet.RequestResponseInfo, 1)}
}

// grantsOf reads what CONNACK of version 5 says (5.0 §3.2.2.3); the older versions say nothing.
func grantsOf(a approach, ack *packet.Connack) (out []Grant) {
	if a.version != packet.V5 || ack == nil {
		return nil
	}
	ps := ack.Properties
	add := func(name, asked, granted, source string, less bool) {
		out = append(out, Grant{Name: name, Asked: asked, Granted: granted, Less: less, Source: "5.0 §" + source})
	}
	number := func(id packet.PropertyID, name, asked, source string, standard uint32, unit string) {
		n, told := ps.Int(id)
		text := fmt.Sprintf("%d%s", n, unit)
		if !told {
			n, text = standard, fmt.Sprintf("%d%s (not said)", standard, unit)
		}
		add(name, asked, text, source, told && n < standard)
	}
	if n, told := ps.Int(packet.SessionExpiry); told {
		add("session expiry", fmt.Sprintf("%d s", askExpiry), fmt.Sprintf("%d s", n), "3.2.2.3.2", n < askExpiry)
	} else {
		add("session expiry", fmt.Sprintf("%d s", askExpiry), "as asked", "3.2.2.3.2", false)
	}
	if n, told := ps.Int(packet.ServerKeepAlive); told {
		add("keep alive", fmt.Sprintf("%d s", reachKeepAlive), fmt.Sprintf("%d s", n), "3.2.2.3.14", n < reachKeepAlive)
	} else {
		add("keep alive", fmt.Sprintf("%d s", reachKeepAlive), "as asked", "3.2.2.3.14", false)
	}
	number(packet.ReceiveMaximum, "receive maximum", "up to 65535", "3.2.2.3.3", 65535, "")
	number(packet.MaximumQoS, "maximum QoS", "2", "3.2.2.3.4", 2, "")
	for _, x := range []struct {
		id           packet.PropertyID
		name, source string
	}{{packet.RetainAvailable, "retained messages", "3.2.2.3.5"}, {packet.WildcardAvailable, "wildcards", "3.2.2.3.11"}, {packet.SubIDAvailable, "subscription identifiers", "3.2.2.3.12"}, {packet.SharedAvailable, "shared subscriptions", "3.2.2.3.13"}} {
		word := "available"
		off := ps.IntOr(x.id, 1) == 0
		if off {
			word = "not available"
		}
		add(x.name, "", word, x.source, off)
	}
	if n, told := ps.Int(packet.MaximumPacketSize); told {
		add("maximum packet size", "no limit", bytesText(int(n)), "3.2.2.3.6", n < 128<<10)
	} else {
		add("maximum packet size", "no limit", "no limit said", "3.2.2.3.6", false)
	}
	add("topic aliases", "", fmt.Sprint(ps.IntOr(packet.TopicAliasMaximum, 0)), "3.2.2.3.8", false)
	if id, told := ps.Str(packet.AssignedClientID); told {
		add("client identifier", "", clip(id)+" (assigned)", "3.2.2.3.7", false)
	}
	if info, told := ps.Str(packet.ResponseInfo); told {
		add("response information", "asked", clip(info), "3.2.2.3.15", false)
	}
	return out
}

func bytesText(n int) string {
	switch {
	case n >= 1<<20 && n%(1<<20) == 0:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 1<<10 && n%(1<<10) == 0:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d bytes", n)
}

// inside finds out more where a way leads in: the versions, what is granted, what others
// get, what logins may do.
func (r *runner) inside(ctx context.Context, address string) {
	for _, v := range r.target.Versions {
		r.say("version %s", v)
		if ctx.Err() != nil {
			return // what is not known stays so
		}
		x := r.visit(ctx, approach{name: "version " + v.String(), address: address, version: v, login: r.target.Login, id: r.target.ClientID})
		x.end()
		if ctx.Err() != nil {
			return
		}
		res := VersionResult{Version: v, In: x.err == nil, Took: x.step(StageConnect).Took, Seen: "in"}
		if x.err != nil {
			res.Seen = x.err.Error()
		}
		r.result.Versions = append(r.result.Versions, res)
	}
	r.say("clients with other credentials")
	r.known = false // with those, the certificate may be refused
	r.others(ctx, address)
	r.known = true
	for _, v := range r.target.Versions {
		if v != packet.V5 {
			r.say("what %s grants", v)
			r.probe(ctx, address, v)
			break
		}
	}
	r.rights(ctx, address)
}

// otherReasons are causes of a refusal that credentials have no part in.
var otherReasons = []Cause{ClientID, Unavailable, Busy, Quota, Rate, ServerMoved, Version, TooLarge}

// others comes with other credentials: without any, and with a wrong password where that is
// allowed.
func (r *runner) others(ctx context.Context, address string) {
	version := r.target.Versions[0]
	come := func(who string, l *workspace.Login, intended *bool) {
		x := r.visit(ctx, approach{name: who, address: address, version: version, login: l, id: r.target.ClientID})
		defer x.end()
		a := Answer{Who: who, In: x.err == nil, Seen: "in", Intended: intended}
		var rejected *client.RefusedError
		var ended *client.EndedError
		alert := trust.AlertOf(x.err)
		switch {
		case x.err == nil:
		case alert != "" && x.asked:
			a.Seen = "alert " + alert // a client certificate is what it wants
		case errors.As(x.err, &rejected) && slices.Contains(otherReasons, refused(rejected.Code, version, true, "", "").Cause):
			return // that says nothing about credentials
		case errors.As(x.err, &rejected):
			a.Seen = fmt.Sprintf("CONNACK %s, %s", rejected.Code.Code(packet.CONNACK, version), rejected.Code.In(packet.CONNACK, version))
		case errors.As(x.err, &ended) && x.failed == StageConnect && ctx.Err() == nil:
			a.Seen = x.err.Error() // to close without CONNACK is a refusal too (3.1.1 §3.1.4)
		default:
			return // it says nothing about credentials
		}
		r.result.Answers = append(r.result.Answers, a)
	}
	yes, no := true, false
	l := r.target.Login
	if l == nil {
		r.result.Answers = append(r.result.Answers, Answer{Who: NoLogin, In: true, Seen: "in", Intended: r.target.Anonymous})
		return
	}
	r.result.Answers = append(r.result.Answers, Answer{Who: "login " + l.Name, In: true, Seen: "in", Intended: &yes})
	come(NoLogin, nil, r.target.Anonymous)
	if r.target.Intrusive && l.HasPassword {
		wrong := *l
		wrong.Password, wrong.SCRAM = workspace.NewSecret("not-"+client.NewID()), false
		come("wrong password", &wrong, &no)
	}
}

// probe finds by trying what the older versions have no word for.
func (r *runner) probe(ctx context.Context, address string, v packet.Version) {
	base := approach{name: "probe", address: address, version: v, login: r.target.Login, id: r.target.ClientID}
	add := func(name, asked, granted, source string, less bool) {
		r.result.Grants = append(r.result.Grants, Grant{Name: name + " (" + v.String() + ")", Asked: asked, Granted: granted, Less: less, Probed: true, Source: "3.1.1 §" + source})
	}
	enter := func(a approach) (in, known bool, v *visit) {
		v = r.visit(ctx, a)
		v.end()
		return v.err == nil, v.err == nil || turnedAway(v.err), v
	}
	r.probeID(base, enter, add)
	// A session kept: what is there when the client comes again. The name it comes by must be
	// one that is let in.
	a := base
	if a.keep = true; a.id == "" {
		a.id = client.NewID()
	}
	x := r.visit(ctx, a)
	if x.err == nil {
		stage, cancel := context.WithTimeout(ctx, r.o.Wait)
		_, err := x.client.Subscribe(stage, []packet.Subscription{{Filter: "hodstone/reach/" + a.id, QoS: 1}})
		cancel()
		x.end()
		if in, _, again := enter(a); in && err == nil && v != packet.V31 { // which does not tell
			kept := again.ack.SessionPresent
			add("kept session", "clean session 0", map[bool]string{true: "kept", false: "not kept"}[kept], "3.1.2.4", !kept)
		}
		a.keep = false
		enter(a) // it is cleared again
	}
	r.probeMessages(ctx, base, add)
}

// probeMessages finds the highest QoS granted, and whether retained messages are kept.
func (r *runner) probeMessages(ctx context.Context, a approach, add func(name, asked, granted, source string, less bool)) {
	x := r.visit(ctx, a)
	defer x.end()
	if x.err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, r.o.Wait)
	defer cancel()
	name := "hodstone/reach/" + client.NewID()
	ack, err := x.client.Subscribe(ctx, []packet.Subscription{{Filter: name, QoS: 2}})
	if err != nil || len(ack.Codes) != 1 || ack.Codes[0] > 2 {
		return // the login may not; the round trip has told
	}
	add("QoS of a subscription", "2", fmt.Sprint(byte(ack.Codes[0])), "3.9.3", ack.Codes[0] < 2)
	stored := name + "/stored"
	publish := func(payload string) error {
		_, err := x.client.Publish(ctx, packet.Publish{Topic: stored, Payload: []byte(payload), QoS: min(1, packet.QoS(ack.Codes[0])), Retain: true})
		return err
	}
	err = publish("kept")
	if err == nil {
		_, err = x.client.Ping(ctx)
	}
	if err != nil {
		select { // a write that fails is told before the connection has ended, and how
		case <-x.client.Done():
		case <-ctx.Done():
		}
		if turnedAway(x.client.Ended()) {
			add("retained messages", "", "refused: the broker ends the link", "3.3.1.3", true)
		}
		return
	}
	if _, err := x.client.Subscribe(ctx, []packet.Subscription{{Filter: stored, QoS: 1}}); err != nil {
		return
	}
	kept := false
	select {
	case m := <-x.messages:
		kept = m.Topic == stored && m.Retain
	case <-time.After(min(r.o.Wait, time.Second)):
	case <-x.client.Done():
	}
	publish("")
	add("retained messages", "", map[bool]string{true: "kept", false: "not kept"}[kept], "3.3.1.3", !kept)
}

// turnedAway tells whether the broker did not want the client, rather than not being reached.
func turnedAway(err error) bool {
	var rejected *client.RefusedError
	var ended *client.EndedError
	return errors.As(err, &rejected) || errors.As(err, &ended)
}

// probeID finds which client identifiers are taken: an empty one, and how long they may be,
// by doubling and halving up to 1,024 characters. Where the broker has a rule of its own for
// them, a made-up one is not taken at all, and says nothing of the length.
func (r *runner) probeID(base approach, enter func(approach) (in, known bool, v *visit), add func(name, asked, granted, source string, less bool)) {
	taken := func(n int) (in, known bool) {
		b := base
		b.id = client.NewID()
		b.id += strings.Repeat("x", max(0, n-len(b.id)))
		in, known, _ = enter(b)
		return in, known
	}
	const least, most = 23, 1024
	switch in, known := taken(0); {
	case !known:
		return
	case !in:
		add("client identifier", "a made-up one", "refused: the broker has a rule for it", "3.1.3.1", false)
	default:
		if longest, known := longestID(taken, least, most); known {
			add("client identifier", fmt.Sprintf("%d at least", least), fmt.Sprintf("%d%s characters", longest, map[bool]string{true: "+"}[longest == most]), "3.1.3.1", longest < least)
		}
	}
	b := base
	b.id = emptyID
	if in, known, _ := enter(b); known {
		add("empty client identifier", "", map[bool]string{true: "taken", false: "refused"}[in], "3.1.3.1", false)
	}
}

// longestID searches for the most characters that are taken; known is false where an attempt
// said nothing.
func longestID(taken func(int) (in, known bool), least, most int) (longest int, known bool) {
	in, known := taken(most)
	if !known || in {
		return most, known
	}
	lo, hi := 0, most // lo is taken, for a short one was
	if in, known = taken(least); !known {
		return 0, false
	} else if in {
		lo = least
	} else {
		lo, hi = len(client.NewID()), least
	}
	for hi-lo > 1 {
		mid := (lo + hi) / 2
		in, known := taken(mid)
		switch {
		case !known:
			return 0, false
		case in:
			lo = mid
		default:
			hi = mid
		}
	}
	return lo, true
}
